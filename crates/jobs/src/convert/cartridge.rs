//! ROMs: other forms, trimmed, padded.

use super::target::Target;
use super::{Back, Beside, LeftOut, Made, Options};
use crate::locate::{self, open_bytes};
use crate::{Item, Setting, grouped};
use decanter_core::blueprint::Blueprint;
use decanter_core::rom::{Declared, Rom, Shape};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result};
use decanter_formats::cartridge::nes;
use std::sync::Arc;

/// Trimmed ROMs end at a multiple of this, so that every byte order still has whole words.
const TRIM_UNIT: u64 = 4;
/// The largest that a ROM is padded to.
const MOST_PADDED: u64 = 1 << 30;

pub(super) fn accepts(item: &Item, target: &Target) -> Option<u8> {
    let rom = item.opened.holds.rom.as_ref()?;
    rom.forms.iter().find(|f| f.id == target.id).map(|f| if f.id == rom.form { 8 } else { 40 })
}

pub(super) fn make(item: &Item, target: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let rom = item.opened.holds.rom.as_ref().ok_or_else(|| Error::Usage("it is no ROM".into()))?;
    let mut left_out = Vec::new();
    let (changed, words) = match (options.trim, options.pad) {
        (true, None) => trim(rom, &mut left_out)?,
        (false, Some(size)) => pad(rom, size, options.fill.unwrap_or(0xff))?,
        (true, Some(_)) => return Err(Error::Usage("--trim and --pad exclude each other".into())),
        (false, None) if options.fill.is_some() => {
            return Err(Error::Usage("--fill says what --pad writes, which was not asked for".into()));
        }
        (false, None) => (None, "identical bytes after converting back".to_owned()),
    };
    let again;
    let rom = match changed {
        None => rom,
        Some(body) => {
            // A NES ROM is only known again behind its header.
            let file = if rom.form == "nes" { joined(rom.prefix.clone(), &body)? } else { body };
            again = open_bytes(&item.address, file, setting)?;
            again.opened.holds.rom.as_ref().ok_or_else(|| Error::Usage("the result is no ROM any more".into()))?
        }
    };
    let own = item.opened.holds.rom.as_ref().map_or(&[][..], |r| &r.prefix);
    let form = rom.forms.iter().find(|f| f.id == target.id);
    let mut file = form.ok_or_else(|| Error::Usage(format!("it has no form {}", target.id)))?.source.clone();
    let head = head_len(target.id);
    if let Some(given) = header(options, target.id, setting)? {
        let body = Slice::new(file.clone(), head, file.len() - head)?;
        file = joined(given, &(Arc::new(body) as SourceRef))?;
    } else if own.len() as u64 == head && head > 0 && rom.prefix.is_empty() {
        // Trimmed or padded, it still has its own header.
        let body = Slice::new(file.clone(), head, file.len() - head)?;
        file = joined(own.to_vec(), &(Arc::new(body) as SourceRef))?;
    }
    let mut made = Made::new(Blueprint::of(file.clone()), file, words);
    made.bytes_before = item.source.as_ref().map_or(0, |s| s.len());
    made.left_out = left_out;
    made.back = Back::Rom(rom.body.clone());
    if head == 0 && !own.is_empty() && !is_usual(item, own, rom, setting) {
        let own = own.to_vec();
        made.beside = Some(Beside { extension: "hdr", bytes: Box::new(move |_| own.clone()) });
        made.preserved.push_str("; its header is kept beside it, for --header");
    }
    Ok(made)
}

/// Whether a header is the one that converting back would write.
fn is_usual(item: &Item, own: &[u8], rom: &Rom, setting: &Setting<'_>) -> bool {
    let Some(form) = item.opened.holds.rom.as_ref().map(|r| r.form) else { return false };
    let Ok(plain) = open_bytes(&item.address, rom.body.clone(), setting) else { return false };
    let again = plain.opened.holds.rom.and_then(|r| r.forms.into_iter().find(|f| f.id == form));
    let mut head = vec![0; own.len()];
    again.is_some_and(|f| f.source.len() >= own.len() as u64 && f.source.read_at(0, &mut head).is_ok()) && head == own
}

/// The header that was given: what a file begins with.
pub(super) fn header(options: &Options, form: &str, setting: &Setting<'_>) -> Result<Option<Vec<u8>>> {
    let Some(path) = &options.header else { return Ok(None) };
    let (source, len) = (locate::bytes(path, setting)?, head_len(form));
    if source.len() < len {
        return Err(Error::Usage(format!("\"{path}\" has {} bytes, a header of {form} has {len}", source.len())));
    }
    let mut header = vec![0; len as usize];
    source.read_at(0, &mut header)?;
    if form == "nes" && !nes::is_header(&header) {
        return Err(Error::Usage(format!("\"{path}\" does not begin with an iNES or NES 2.0 header")));
    }
    Ok(Some(header))
}

/// Bytes of the header that a form begins with.
fn head_len(form: &str) -> u64 {
    match form {
        "nes" => 16,
        "smc" | "smd" => 512,
        _ => 0,
    }
}

fn joined(head: Vec<u8>, body: &SourceRef) -> Result<SourceRef> {
    Ok(Arc::new(Concat::new(vec![Arc::new(Bytes(head)), body.clone()])?))
}

/// The body without what is proven to be no part of it.
fn trim(rom: &Rom, left_out: &mut Vec<LeftOut>) -> Result<(Option<SourceRef>, String)> {
    let len = rom.body.len();
    let refuse = |why: String| Err(Error::Unreadable { why });
    let (end, why) = match &rom.shape {
        Shape::Complete => return refuse("there is nothing to trim: its end is in use, as far as can be told".into()),
        Shape::Trimmed { missing } => {
            return refuse(format!("it is trimmed already: {} bytes are missing", grouped(*missing)));
        }
        Shape::Padded { from, byte } => {
            (from.next_multiple_of(TRIM_UNIT).min(len), format!("all of it is {byte:#04x}"))
        }
        Shape::Overdumped { from } => (*from, "all of it repeats what comes before".into()),
        Shape::Trailing { from, is_rom: true } => {
            return refuse(format!(
                "a second ROM begins at offset {from:#x}: \"decanter extract\" takes the two apart"
            ));
        }
        Shape::Trailing { from, is_rom: false } => {
            return refuse(format!(
                "the {} bytes from offset {from:#x} on are neither of one value nor a repetition: nothing proves that they are not needed",
                grouped(len - from)
            ));
        }
    };
    let back = match &rom.shape {
        Shape::Padded { byte, .. } => {
            format!("identical bytes after --pad {len} --fill {byte:#04x}; what was cut was looked at byte by byte")
        }
        _ => "all of the ROM; what was cut was compared byte by byte".into(),
    };
    left_out.push(LeftOut { what: format!("{end:#x} to {len:#x}"), bytes: len - end, why });
    Ok((Some(Arc::new(Slice::new(rom.body.clone(), 0, end)?)), back))
}

/// The body with bytes of one value after it.
fn pad(rom: &Rom, size: Option<u64>, byte: u8) -> Result<(Option<SourceRef>, String)> {
    let len = rom.body.len();
    let declared = match rom.declared {
        Some(Declared::Used(_)) | None => None,
        Some(declared) => Some(declared.bytes()),
    };
    let wanted = size.or(rom.chip).or(declared.filter(|d| *d >= len)).unwrap_or(len.next_power_of_two());
    if wanted < len {
        return Err(Error::Usage(format!(
            "it has {} bytes, more than the {} asked for",
            grouped(len),
            grouped(wanted)
        )));
    }
    if wanted > MOST_PADDED {
        return Err(Error::Limit { what: "a padded ROM", asked: wanted, limit: MOST_PADDED });
    }
    if wanted == len {
        return Err(Error::Unreadable { why: "there is nothing to pad: it has that length already".into() });
    }
    let fill: SourceRef = Arc::new(Fill { byte, len: wanted - len });
    let words = format!("identical bytes in front; {} bytes of {byte:#04x} were added", grouped(wanted - len));
    Ok((Some(Arc::new(Concat::new(vec![rom.body.clone(), fill])?)), words))
}
