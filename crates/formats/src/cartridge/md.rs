//! Mega Drive and 32X, plain or interleaved. Layout: docs/formats/megadrive.md.

use super::order::{SMD_BLOCK, unweave, weave};
use super::text::{ascii, japanese};
use super::{
    COPIER, Family, behind_copier, check16, finish, has_copier_header, is_cut, load, measure, plain, with_head,
    without_head,
};
use crate::num::{be16, be32};
use decanter_core::Result;
use decanter_core::opened::Opened;
use decanter_core::rom::{Declared, Form, Lanes, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::view::Blockwise;
use std::sync::Arc;

/// The family.
pub static MEGA_DRIVE: Family = Family {
    id: "md",
    name: "Mega Drive ROM",
    extensions: &["md", "smd", "32x"],
    reads: "Mega Drive and 32X, plain and interleaved; titles, serial, region, checksum, save memory",
    least: HEADER_END as u64,
    score,
    open,
};

const HEADER: usize = 0x100;
const HEADER_END: usize = 0x200;
/// What stands at the beginning of every header.
const MARK: &[u8] = b"SEGA";

fn recognise(head: &[u8]) -> Option<u8> {
    let system = head.get(HEADER..HEADER + 16)?;
    // Some stand one byte to the right.
    let is_marked = system.starts_with(MARK) || system[1..].starts_with(MARK);
    let is_disc = head.starts_with(b"SEGADISC") || system.starts_with(b"SEGADISC");
    (is_marked && !is_disc).then_some(85)
}

/// The first block, in plain order, and whether it was interleaved.
fn head(source: &dyn Source) -> Result<Option<(Vec<u8>, bool)>> {
    if source.len() >= HEADER_END as u64 {
        let head = read_vec(source, 0, HEADER_END as u64, "a header", HEADER_END as u64)?;
        if recognise(&head).is_some() {
            return Ok(Some((head, false)));
        }
    }
    if has_copier_header(source.len(), SMD_BLOCK) {
        let mut block = read_vec(source, COPIER, SMD_BLOCK, "a block", SMD_BLOCK)?;
        unweave(&mut block);
        if recognise(&block).is_some() {
            return Ok(Some((block, true)));
        }
    }
    Ok(None)
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    Ok(head(source)?.and_then(|(head, _)| recognise(&head)))
}

fn open(source: SourceRef) -> Result<Opened> {
    let is_woven = head(source.as_ref())?.is_some_and(|(_, woven)| woven);
    let body: SourceRef = if is_woven {
        Arc::new(Blockwise::new(without_head(&source, COPIER)?, SMD_BLOCK, unweave)?)
    } else {
        source.clone()
    };
    let bytes = load(&body)?;
    let h = &bytes[HEADER..HEADER_END];
    let system = ascii(&h[..16]);
    let (form, name) = if system.contains("32X") { ("32x", "32X ROM") } else { ("md", MEGA_DRIVE.name) };
    let mut opened = Opened::new(MEGA_DRIVE.id, if is_woven { format!("{name}, interleaved") } else { name.into() });
    let (domestic, overseas) = (japanese(&h[0x20..0x50]), japanese(&h[0x50..0x80]));
    opened.titled(if overseas.is_empty() { domestic.clone() } else { overseas.clone() });
    opened.fact("title (JP)", if domestic == overseas || overseas.is_empty() { String::new() } else { domestic });
    let serial = ascii(&h[0x80..0x8e]);
    // "GM 00001009-00": kind of product, code, revision.
    let (code, revision) = serial.rsplit_once('-').unwrap_or((&serial, ""));
    opened.identified(code.split_whitespace().last().unwrap_or_default());
    opened.fact("version", if revision.is_empty() { String::new() } else { format!("revision {}", revision.trim()) });
    opened.fact("system", system);
    opened.fact("maker", ascii(&h[0x10..0x20]));
    opened.fact("region", region(&h[0xf0..0x100]));
    opened.fact("devices", devices(&h[0x90..0xa0]));
    let save = save(&h[0xb0..0xbc]);
    let mut rom = plain(form, name, body.clone(), save);
    let (first, last) = (be32(h, 0xa0), be32(h, 0xa4));
    let declared = (first == 0 && last >= HEADER_END as u32 - 1 && last < 0x1000_0000)
        .then(|| Declared::Exact(u64::from(last) + 1));
    measure(&mut rom, &bytes, declared, 0, |tail| recognise(tail).is_some());
    let end = declared.map_or(bytes.len(), |d| (d.bytes() as usize).min(bytes.len()));
    let words = bytes[HEADER_END..end.max(HEADER_END)].chunks(2);
    let sum = words.fold(0u16, |s, w| s.wrapping_add(u16::from_be_bytes([w[0], w.get(1).copied().unwrap_or(0)])));
    if !is_cut(&rom) {
        rom.checks.push(check16("checksum", be16(h, 0x8e), sum));
    }
    if is_woven || body.len().is_multiple_of(SMD_BLOCK) {
        let own = if is_woven {
            source.clone()
        } else {
            let woven: SourceRef = Arc::new(Blockwise::new(body.clone(), SMD_BLOCK, weave)?);
            with_head(copier_header(body.len()), &woven)?
        };
        rom.forms.push(Form { id: "smd", name: "interleaved Mega Drive ROM", source: own });
    }
    let mut rom = behind_copier(rom, &source, is_woven)?;
    if is_woven {
        rom.form = "smd";
        rom.through = Some("a 512-byte copier header and interleaved blocks of 16 KiB".into());
    }
    finish(opened, rom)
}

/// A copier's header: the number of blocks of 16 KiB, and the marks that it is a program of the console.
fn copier_header(len: u64) -> Vec<u8> {
    let mut header = vec![0; COPIER as usize];
    (header[0], header[1]) = ((len / SMD_BLOCK) as u8, 3);
    (header[8], header[9], header[10]) = (0xaa, 0xbb, 6);
    header
}

fn region(field: &[u8]) -> String {
    let text = ascii(&field[..3]);
    let names: Vec<&str> = if let (1, Ok(bits)) = (text.len(), u8::from_str_radix(&text, 16))
        && !"E".contains(&text)
    {
        let bits = [(1, "Japan"), (4, "Americas"), (8, "Europe")].into_iter().filter(|(b, _)| bits & b != 0);
        bits.map(|(_, name)| name).collect()
    } else {
        let name = |c| match c {
            'J' => Some("Japan"),
            'U' => Some("Americas"),
            'E' => Some("Europe"),
            _ => None,
        };
        text.chars().filter_map(name).collect()
    };
    if names.is_empty() { text } else { names.join(", ") }
}

fn devices(field: &[u8]) -> String {
    let name = |&b: &u8| match b {
        b'J' => Some("3-button pad"),
        b'6' => Some("6-button pad"),
        b'0' => Some("Master System pad"),
        b'A' => Some("analogue joystick"),
        b'4' => Some("multitap"),
        b'G' => Some("light gun"),
        b'L' => Some("activator"),
        b'M' => Some("mouse"),
        b'B' => Some("trackball"),
        b'T' => Some("tablet"),
        b'V' => Some("paddle"),
        b'K' => Some("keyboard"),
        b'R' => Some("serial port"),
        b'P' => Some("printer"),
        b'C' => Some("CD drive"),
        b'F' => Some("floppy drive"),
        b'D' => Some("download"),
        _ => None,
    };
    field.iter().filter_map(name).collect::<Vec<_>>().join(", ")
}

/// `RA`, type, 0x20, first and last address.
fn save(field: &[u8]) -> SaveMemory {
    if &field[..2] != b"RA" {
        return SaveMemory::none("no save memory field in the header");
    }
    let kind = field[2];
    let (first, last) = (be32(field, 4), be32(field, 8));
    let known_by = format!("the header's save memory field: type {kind:#04x}, addresses {first:#x} to {last:#x}");
    if kind == 0xe8 {
        return SaveMemory::new(SaveKind::Eeprom, &[128, 256, 512, 1024, 8192], known_by);
    }
    let Some(span) = last.checked_sub(first).map(|s| u64::from(s) + 1).filter(|s| *s <= 1 << 20) else {
        return SaveMemory::new(SaveKind::Unknown, &[], known_by);
    };
    let lanes = match kind & 0x18 {
        0x10 => Lanes::Even,
        0x18 => Lanes::Odd,
        _ => Lanes::All,
    };
    let bytes = if lanes == Lanes::All { span } else { span.div_ceil(2) };
    let mut save = match kind & 0x40 {
        0 => SaveMemory::none(format!("{known_by}; without a battery")),
        _ => SaveMemory::new(SaveKind::Sram, &[bytes], known_by),
    };
    save.lanes = lanes;
    save
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn regions_of_both_kinds() {
        assert_eq!(region(b"JUE             "), "Japan, Americas, Europe");
        assert_eq!(region(b"E               "), "Europe");
        assert_eq!(region(b"4               "), "Americas");
        assert_eq!(region(b"F               "), "Japan, Americas, Europe");
    }

    #[test]
    fn save_memory_on_odd_addresses() {
        let odd = save(b"RA\xf8\x20\x00\x20\x00\x01\x00\x20\x3f\xff");
        assert_eq!((odd.kind, odd.sizes, odd.lanes), (SaveKind::Sram, vec![8 << 10], Lanes::Odd));
        let both = save(b"RA\xe0\x20\x00\x20\x00\x00\x00\x20\xff\xff");
        assert_eq!((both.sizes, both.lanes), (vec![64 << 10], Lanes::All));
        assert_eq!(save(b"RA\xe8\x40\x00\x20\x00\x01\x00\x20\x00\x01").kind, SaveKind::Eeprom);
        assert_eq!(save(&[0x20; 12]).kind, SaveKind::None);
    }
}
