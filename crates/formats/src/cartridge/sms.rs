//! Master System and Game Gear. Layout: docs/formats/sms.md.

use super::text::ascii;
use super::{
    COPIER, Family, behind_copier, check16, finish, has_copier_header, load, measure, plain, sum8, without_head,
};
use crate::num::le16;
use decanter_core::opened::Opened;
use decanter_core::rom::{SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::{Error, Result};

/// The family.
pub static MASTER_SYSTEM: Family = Family {
    id: "sms",
    name: "Master System ROM",
    extensions: &["sms", "gg"],
    reads: "Master System and Game Gear; product code, region, checksum, title and author of homebrew headers",
    least: 8 << 10,
    score,
    open,
};

/// Where the header may stand.
const PLACES: [u64; 3] = [0x7ff0, 0x3ff0, 0x1ff0];
const LEN: usize = 16;
/// What it begins with.
const MARK: &[u8; 8] = b"TMR SEGA";
/// Where the header of homebrew stands.
const HOMEBREW: usize = 0x7fe0;
/// Sizes that the checksum is of, in KiB, by code.
const SIZES: [(u8, usize); 9] =
    [(0xa, 8), (0xb, 16), (0xc, 32), (0xd, 48), (0xe, 64), (0xf, 128), (0x0, 256), (0x1, 512), (0x2, 1024)];

fn shift_of(source: &dyn Source) -> u64 {
    if has_copier_header(source.len(), 8 << 10) { COPIER } else { 0 }
}

fn find(source: &dyn Source, shift: u64) -> Result<Option<(u64, [u8; LEN])>> {
    for at in PLACES {
        if shift + at + LEN as u64 > source.len() {
            continue;
        }
        let header: [u8; LEN] = read_array(source, shift + at)?;
        if header.starts_with(MARK) {
            return Ok(Some((at, header)));
        }
    }
    Ok(None)
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    Ok(find(source, shift_of(source))?.map(|_| 80))
}

fn open(source: SourceRef) -> Result<Opened> {
    let shift = shift_of(source.as_ref());
    let Some((at, h)) = find(source.as_ref(), shift)? else {
        return Err(Error::malformed(MASTER_SYSTEM.id, "no header at any of its places", PLACES[0]));
    };
    let body = if shift > 0 { without_head(&source, shift)? } else { source.clone() };
    let bytes = load(&body)?;
    let (form, name, region) = match h[15] >> 4 {
        3 => ("sms", MASTER_SYSTEM.name, "Japan"),
        4 => ("sms", MASTER_SYSTEM.name, "outside Japan"),
        5 => ("gg", "Game Gear ROM", "Japan"),
        6 => ("gg", "Game Gear ROM", "outside Japan"),
        7 => ("gg", "Game Gear ROM", "international"),
        _ => ("sms", MASTER_SYSTEM.name, "unknown"),
    };
    let mut opened = Opened::new(MASTER_SYSTEM.id, name);
    if let Some((title, author)) = homebrew(&bytes) {
        opened.titled(title);
        opened.fact("author", author);
    }
    // Four digits of two bytes, low ones first, and above them a nibble that may be more than 9.
    opened.identified(format!("{}{:02x}{:02x}", h[14] >> 4, h[13], h[12]));
    opened.fact("region", region);
    opened.fact("version", (h[14] & 0xf).to_string());
    let save = SaveMemory::new(
        SaveKind::Unknown,
        &[8 << 10, 32 << 10],
        "no header field tells; boards with a battery have 8 or 32 KiB of SRAM",
    );
    let mut rom = plain(form, name, body, save);
    let natural = (bytes.len() as u64).next_multiple_of(8 << 10);
    measure(&mut rom, &bytes, None, natural, |_| false);
    let size = SIZES.iter().find(|(code, _)| *code == h[15] & 0xf).map(|(_, kib)| kib << 10);
    match size.filter(|&size| size <= bytes.len()) {
        Some(size) => {
            let header = at as usize..(at as usize + LEN).min(size);
            let before = sum8(&bytes[..header.start.min(size)]);
            let after = sum8(bytes.get(header.end..size).unwrap_or_default());
            let check = check16("checksum", le16(&h, 10), before.wrapping_add(after) as u16);
            rom.checks.push(check.note(format!("of the first {} KiB", size >> 10)));
        }
        None => opened.notice("the size code of its checksum fits nothing that is there: it cannot be computed"),
    }
    finish(opened, behind_copier(rom, &source, shift > 0)?)
}

/// Title and author of a homebrew header: texts that it points at.
fn homebrew(bytes: &[u8]) -> Option<(String, String)> {
    let h = bytes.get(HOMEBREW..HOMEBREW + 16)?;
    if !h.starts_with(b"SDSC") {
        return None;
    }
    let text = |at: usize| match le16(h, at) {
        0 | 0xffff => String::new(),
        pointer => {
            let rest = bytes.get(usize::from(pointer)..).unwrap_or_default();
            ascii(&rest[..rest.len().min(256)])
        }
    };
    Some((text(12), text(10)))
}
