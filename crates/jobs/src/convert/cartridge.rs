//! ROMs: other forms, trimmed, padded.

use super::Options;
use super::choice::{Choice, Kind};
use super::made::{Back, Beside, LeftOut, Made};
use super::open;
use super::shared::{PAD, SPLIT, TRIM};
use super::target::Target;
use crate::locate::{self, open_bytes};
use crate::{Failure, Item, Setting, grouped};
use decanter_core::blueprint::Blueprint;
use decanter_core::rom::{Declared, Rom, Shape};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result, tell};
use decanter_formats::cartridge::nes;
use std::sync::Arc;

/// Forms of ROMs.
pub(super) static TARGETS: [Target; 17] = [
    rom("z64", "a Nintendo 64 ROM in the console's own byte order", "Nintendo 64 ROMs", ROM),
    rom("v64", "a Nintendo 64 ROM with bytes swapped in pairs", "Nintendo 64 ROMs", ROM),
    rom("n64", "a Nintendo 64 ROM of little-endian words", "Nintendo 64 ROMs", ROM),
    rom("md", "a plain Mega Drive ROM", "Mega Drive ROMs", ROM),
    rom("smd", "an interleaved Mega Drive ROM with a copier header", "Mega Drive and 32X ROMs", ROM_WITH_HEADER),
    rom("32x", "a plain 32X ROM", "32X ROMs", ROM),
    rom("sfc", "an SNES ROM without a header", "SNES ROMs", ROM),
    rom("smc", "an SNES ROM with a copier header", "SNES ROMs", ROM_WITH_HEADER),
    Target {
        open: open_with_header,
        ..rom("nes", "a NES ROM with its header", "NES ROMs; program and character ROM with --header", ROM_WITH_HEADER)
    },
    Target {
        extension: "bin",
        ..rom("nes-bare", "a NES ROM without a header, which is kept beside it", "NES ROMs", ROM)
    },
    rom("gb", "a Game Boy ROM", "Game Boy ROMs", ROM),
    rom("gbc", "a Game Boy Color ROM", "Game Boy Color ROMs", ROM),
    rom("gba", "a Game Boy Advance ROM", "Game Boy Advance ROMs", ROM),
    rom("nds", "a Nintendo DS ROM", "Nintendo DS ROMs", ROM),
    rom("sms", "a Master System ROM without a header", "Master System ROMs", ROM),
    rom("gg", "a Game Gear ROM without a header", "Game Gear ROMs", ROM),
    rom("pce", "a PC Engine ROM without a header", "PC Engine ROMs", ROM),
];

/// Choices of every form of a ROM.
const ROM: &[&Choice] = &[&TRIM, &PAD, &FILL, &SPLIT];
const ROM_WITH_HEADER: &[&Choice] = &[&TRIM, &PAD, &FILL, &SPLIT, &HEADER];

static FILL: Choice =
    Choice::of("fill", "BYTE", Kind::Byte, "Value of the bytes that --pad adds, as in 0xff or 0 [default: 0xff]");
static HEADER: Choice = Choice::of(
    "header",
    "FILE",
    Kind::Path,
    "Put the header that this file begins with before the ROM: a .hdr file, or another ROM with a header",
);

/// A form of a ROM.
const fn rom(
    id: &'static str,
    what: &'static str,
    made_of: &'static str,
    options: &'static [&'static Choice],
) -> Target {
    Target {
        id,
        what,
        extension: id,
        made_of,
        group: Some("ROMs"),
        options,
        accepts,
        is_meant: |item, target, options| options.keeps_form() && own_form(item) == Some(target.id),
        lay: make,
        ..Target::BASE
    }
}

/// The form that a ROM is in.
fn own_form(item: &Item) -> Option<&str> {
    item.opened.holds.rom.as_ref().map(|r| r.form.trim_end_matches("-mirrored"))
}

/// Opens a NES ROM without a header behind the one that was given.
fn open_with_header(shown: &str, options: &Options, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let parts = open::joined(shown, options, setting)?;
    let run = || -> Result<Item> {
        let header = header(options, "nes", setting)?.unwrap_or_default();
        let body = match &parts {
            Some(parts) => parts.clone(),
            None => locate::bytes(shown, setting)?,
        };
        open_bytes(shown, joined(header, &body)?, setting)
    };
    match open::whole(shown, options, setting) {
        Err(f) if options.given.has(&HEADER) && matches!(*f.cause, Error::NotUnderstood { .. }) => {
            run().map_err(|e| Failure::new(format!("cannot convert \"{shown}\""), e))
        }
        opened => opened,
    }
}

/// Trimmed ROMs end at a multiple of this, so that every byte order still has whole words.
const TRIM_UNIT: u64 = 4;
/// The largest that a ROM is padded to.
const MOST_PADDED: u64 = 1 << 30;

fn accepts(item: &Item, target: &Target) -> Option<u8> {
    let rom = item.opened.holds.rom.as_ref()?;
    rom.forms.iter().find(|f| f.id == target.id).map(|f| if f.id == rom.form { 8 } else { 40 })
}

fn make(item: &Item, target: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let rom = item.opened.holds.rom.as_ref().ok_or_else(|| Error::Usage("it is no ROM".into()))?;
    let mut left_out = Vec::new();
    let (changed, words) = match (options.given.has(&TRIM), options.given.size_or_fit(&PAD)) {
        (true, None) => trim(rom, &mut left_out)?,
        (false, Some(size)) => pad(rom, size, options.given.byte(&FILL).unwrap_or(0xff))?,
        (true, Some(_)) => return Err(Error::Usage("--trim and --pad exclude each other".into())),
        (false, None) if options.given.has(&FILL) => {
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
    let Some(path) = options.given.text(&HEADER) else { return Ok(None) };
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
        Shape::Complete => {
            let why = "there is nothing to trim: its end is in use, as far as can be told";
            return Err(Error::Unneeded(why.into()));
        }
        Shape::Trimmed { missing } => {
            let missing = tell::count(*missing, "byte is", "bytes are");
            return Err(Error::Unneeded(format!("there is nothing to trim: {missing} missing already")));
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
