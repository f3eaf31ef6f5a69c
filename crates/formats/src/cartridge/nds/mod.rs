//! Nintendo DS: header, file tree, secure area, banner. Layout: docs/formats/nds.md.

mod banner;
mod files;

use super::handheld::{LOGO_CRC, crc16, region};
use super::shape::padding;
use super::text::ascii;
use super::{Family, check16, finish, plain};
use crate::num::{le16, le32};
use decanter_core::Result;
use decanter_core::format::looks_random;
use decanter_core::opened::Opened;
use decanter_core::rom::{Declared, SaveKind, SaveMemory, Shape};
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::view::MOST_HELD;

/// The family.
pub static NINTENDO_DS: Family = Family {
    id: "nds",
    name: "Nintendo DS ROM",
    extensions: &["nds"],
    reads: "title, code, header and banner checksums, secure area, files, titles and icon",
    least: HEADER as u64,
    score,
    open,
};

/// Bytes of the header that are read.
const HEADER: usize = 0x200;
/// Where the header's own checksum stands: it is of everything before.
const HEADER_CRC: usize = 0x15e;
/// Where the first program begins if it has a secure area, up to the end of what its checksum is of.
const SECURE: std::ops::Range<u64> = 0x4000..0x8000;
/// Bytes at the beginning of the secure area that are encrypted on the cartridge.
const CODED: usize = 0x800;
/// What the first eight bytes of the secure area are once it was decrypted.
const DECRYPTED: [u8; 8] = [0xff, 0xde, 0xff, 0xe7, 0xff, 0xde, 0xff, 0xe7];
/// Bytes of the signature for download play that may follow after the used size, and its mark.
const SIGNATURE: (u64, [u8; 4]) = (0x88, *b"ac\x01\0");
/// Bytes at the end that are looked at in one go for padding.
const STRETCH: u64 = 1 << 20;

/// A file or program by its place in the header: offset and length, in bytes.
fn range(header: &[u8], at: usize) -> std::ops::Range<u64> {
    let start = u64::from(le32(header, at));
    start..start + u64::from(le32(header, at + 4))
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    if source.len() < HEADER as u64 {
        return Ok(None);
    }
    let header: [u8; HEADER] = read_array(source, 0)?;
    let right = le16(&header, HEADER_CRC) == crc16(&header[..HEADER_CRC]);
    let logo = crc16(&header[0xc0..0x15c]) == LOGO_CRC;
    // Programs in RAM, and behind the header: what holds even where the checksum does not.
    let arm9 = le32(&header, 0x28) >> 24 == 2 && le32(&header, 0x20) >= 0x200 && le32(&header, 0x2c) > 0;
    let arm7 = matches!(le32(&header, 0x38) >> 20, 0x020..=0x023 | 0x027 | 0x02f | 0x037 | 0x038 | 0x080);
    let unit = header[0x12] <= 3 && header[0x14] <= 15;
    Ok(match (right, logo, arm9 && arm7 && unit) {
        (true, true, _) => Some(92),
        (true, false, true) | (false, true, true) => Some(75),
        (false, false, true) if le32(&header, 0x84) == 0x4000 => Some(50),
        _ => None,
    })
}

fn open(source: SourceRef) -> Result<Opened> {
    let h: [u8; HEADER] = read_array(source.as_ref(), 0)?;
    let kind = match h[0x12] & 3 {
        2 => "Nintendo DS ROM with DSi functions",
        3 => "Nintendo DSi ROM",
        _ => NINTENDO_DS.name,
    };
    let mut opened = Opened::new(NINTENDO_DS.id, kind);
    let code = ascii(&h[0xc..0x10]);
    opened.titled(ascii(&h[..12]));
    opened.identified(code.clone());
    opened.fact("maker", format!("code {}", ascii(&h[0x10..0x12])));
    opened.fact("region", region(&code));
    opened.fact("version", format!("1.{}", h[0x1e]));
    let chip = (h[0x14] <= 15).then(|| (128u64 << 10) << h[0x14]);
    opened.fact("chip", chip.map_or(String::new(), |c| format!("{} KiB", c >> 10)));
    let logo = crc16(&h[0xc0..0x15c]) == LOGO_CRC;
    opened.fact("start mark", if logo { "right" } else { "another one: a console would not start it" });

    let save = SaveMemory::new(
        SaveKind::Unknown,
        &[512, 8 << 10, 32 << 10, 64 << 10, 128 << 10, 256 << 10, 512 << 10, 1 << 20, 8 << 20],
        "no header field tells; EEPROM has 512 bytes to 128 KiB, flash 256 KiB to 8 MiB",
    );
    let mut rom = plain("nds", NINTENDO_DS.name, source.clone(), save);
    rom.checks.push(check16("header checksum", le16(&h, HEADER_CRC), crc16(&h[..HEADER_CRC])));
    rom.checks.push(check16("start mark checksum", le16(&h, 0x15c), crc16(&h[0xc0..0x15c])));
    let (state, check) = secure_area(source.as_ref(), &h)?;
    opened.fact("secure area", state);
    rom.checks.extend(check);

    let used = used_len(source.as_ref(), &h)?;
    rom.chip = chip;
    rom.declared = Some(Declared::Used(used));
    rom.shape = shape(source.as_ref(), used)?;
    let (tree, notices) = files::read(&source, &h)?;
    opened.holds.tree = Some(tree);
    notices.into_iter().for_each(|n| opened.notice(n));
    let at = u64::from(le32(&h, 0x68));
    if at > 0 {
        match banner::read(source.as_ref(), at) {
            Ok((label, checks)) => {
                rom.checks.extend(checks);
                let english = label.titles.iter().find(|(language, _)| *language == "English");
                opened.fact("banner", english.map(|(_, t)| t.replace('\n', " / ")).unwrap_or_default());
                opened.told.label = Some(label);
            }
            Err(e) => opened.notice(format!("the banner cannot be read: {e}")),
        }
    }
    finish(opened, rom)
}

/// Bytes that are used, the signature after them included. DSi functions have a size of their own.
fn used_len(source: &dyn Source, h: &[u8; HEADER]) -> Result<u64> {
    let mut used = u64::from(le32(h, 0x80));
    if h[0x12] & 2 != 0 && source.len() >= 0x214 {
        used = used.max(u64::from(u32::from_le_bytes(read_array(source, 0x210)?)));
    }
    if source.len() >= used + SIGNATURE.0 && read_array::<4>(source, used)? == SIGNATURE.1 {
        used += SIGNATURE.0;
    }
    Ok(used)
}

/// Too short, padded, or with something after the used size. Only the end is read.
fn shape(source: &dyn Source, used: u64) -> Result<Shape> {
    let len = source.len();
    if len < used {
        return Ok(Shape::Trimmed { missing: used - len });
    }
    if len == used || (source.prefers_sequential() && len > MOST_HELD) {
        return Ok(Shape::Complete);
    }
    let byte = read_array::<1>(source, len - 1)?[0];
    let mut end = len;
    while end > used {
        let from = end.saturating_sub(STRETCH).max(used);
        let piece = read_vec(source, from, end - from, "the end of a ROM", STRETCH)?;
        match padding(&piece) {
            Some((0, value)) if value == byte => end = from,
            _ => return Ok(Shape::Trailing { from: used, is_rom: false }),
        }
    }
    Ok(Shape::Padded { from: used, byte })
}

/// What the first 2 KiB of the first program are, in words, and the checksum that is of them when encrypted.
fn secure_area(source: &dyn Source, h: &[u8; HEADER]) -> Result<(&'static str, Option<decanter_core::rom::Check>)> {
    let start = u64::from(le32(h, 0x20));
    if !SECURE.contains(&start) {
        return Ok(("none: the first program begins elsewhere, as homebrew does", None));
    }
    if source.len() < SECURE.end {
        return Ok(("cut off: the file ends before it does", None));
    }
    let area = read_vec(source, start, SECURE.end - start, "the secure area", 0x4000)?;
    let coded = &area[..area.len().min(CODED)];
    let check = check16("secure area checksum", le16(h, 0x6c), crc16(&area));
    Ok(if area.starts_with(&DECRYPTED) {
        ("decrypted: its checksum is of the encrypted form, and cannot be compared", None)
    } else if coded.iter().all(|&b| b == area[0]) {
        ("missing: it is filled with one value", None)
    } else if check.is_right {
        ("encrypted, as on the cartridge; its checksum holds", Some(check))
    } else if looks_random(coded) {
        ("encrypted by the look of it, but its checksum does not hold", Some(check))
    } else {
        ("plain, without the mark of decryption", None)
    })
}
