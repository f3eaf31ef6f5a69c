//! Game Boy and Game Boy Color. Layout: docs/formats/gb.md.

use super::shape::IsRom;
use super::text::ascii;
use super::{Family, check16, finish, is_cut, load, measure, plain, sum8};
use crate::num::be16;
use decanter_core::Result;
use decanter_core::opened::Opened;
use decanter_core::rom::{Check, Declared, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array};

/// The family.
pub static GAME_BOY: Family = Family {
    id: "gb",
    name: "Game Boy ROM",
    extensions: &["gb", "gbc"],
    reads: "title, maker, mapper, sizes, both checksums, save memory, clock",
    least: HEADER + HEADER_LEN as u64,
    score,
    open,
};

/// Where the header begins, and its length; it ends with the ROM's first 336 bytes.
const HEADER: u64 = 0x100;
const HEADER_LEN: usize = 0x50;
/// Bytes of a bank: every ROM has whole ones.
const BANK: u64 = 16 << 10;
/// CRC-32 of the 48 bytes at 0x104 that the console compares with its own before it starts a ROM.
const LOGO_CRC: u32 = 0x4619_5417;

/// Cartridge types: value, name, whether there is RAM, a battery, a clock.
const TYPES: [(u8, &str, bool, bool, bool); 28] = [
    (0x00, "ROM only", false, false, false),
    (0x01, "MBC1", false, false, false),
    (0x02, "MBC1", true, false, false),
    (0x03, "MBC1", true, true, false),
    (0x05, "MBC2", true, false, false),
    (0x06, "MBC2", true, true, false),
    (0x08, "ROM only", true, false, false),
    (0x09, "ROM only", true, true, false),
    (0x0b, "MMM01", false, false, false),
    (0x0c, "MMM01", true, false, false),
    (0x0d, "MMM01", true, true, false),
    (0x0f, "MBC3", false, true, true),
    (0x10, "MBC3", true, true, true),
    (0x11, "MBC3", false, false, false),
    (0x12, "MBC3", true, false, false),
    (0x13, "MBC3", true, true, false),
    (0x19, "MBC5", false, false, false),
    (0x1a, "MBC5", true, false, false),
    (0x1b, "MBC5", true, true, false),
    (0x1c, "MBC5 with rumble", false, false, false),
    (0x1d, "MBC5 with rumble", true, false, false),
    (0x1e, "MBC5 with rumble", true, true, false),
    (0x20, "MBC6", true, true, false),
    (0x22, "MBC7 with tilt sensor", true, true, false),
    (0xfc, "camera", true, true, false),
    (0xfd, "TAMA5", true, true, true),
    (0xfe, "HuC3", true, true, true),
    (0xff, "HuC1", true, true, false),
];

/// RAM sizes in KiB by code.
const RAM_KIB: [u64; 6] = [0, 2, 8, 32, 128, 64];

fn header_sum(header: &[u8]) -> u8 {
    header[0x34..0x4d].iter().fold(0u8, |sum, b| sum.wrapping_sub(*b).wrapping_sub(1))
}

fn recognise(header: &[u8], len: u64) -> Option<u8> {
    let right_sum = header_sum(header) == header[0x4d];
    let known = TYPES.iter().any(|t| t.0 == header[0x47]) && header[0x48] <= 8 && header[0x49] <= 5;
    let jumps = matches!(header[..2], [0x00, 0xc3] | [0xc3, _] | [0x00, 0x18] | [0x18, _] | [0xf3, 0xc3]);
    if crc32fast::hash(&header[4..0x34]) == LOGO_CRC {
        return Some(90);
    }
    // A title is text, whatever else stands in a file that is none.
    if !header[0x34..0x3f].iter().all(|b| matches!(b, 0 | 0x20..=0x7e)) {
        return None;
    }
    match (right_sum, known, jumps) {
        (true, true, true) => Some(60),
        (true, true, false) if len.is_multiple_of(BANK) => Some(35),
        (false, true, true) if len == 0x8000 << header[0x48] => Some(30),
        _ => None,
    }
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    if source.len() < HEADER + HEADER_LEN as u64 {
        return Ok(None);
    }
    let header: [u8; HEADER_LEN] = read_array(source, HEADER)?;
    Ok(recognise(&header, source.len()))
}

const IS_ROM: IsRom = |bytes| {
    let header = bytes.get(HEADER as usize..HEADER as usize + HEADER_LEN);
    header.and_then(|h| recognise(h, bytes.len() as u64)).is_some_and(|s| s >= 60)
};

fn open(source: SourceRef) -> Result<Opened> {
    let bytes = load(&source)?;
    let header = &bytes[HEADER as usize..HEADER as usize + HEADER_LEN];
    let colour = header[0x43];
    let is_colour = colour & 0x80 != 0;
    let (form, kind) = match colour {
        0xc0 => ("gbc", "Game Boy Color ROM"),
        _ if is_colour => ("gbc", "Game Boy Color ROM that runs on both"),
        _ => ("gb", "Game Boy ROM"),
    };
    let mut opened = Opened::new(GAME_BOY.id, kind);
    // The title gave room to a code of four characters, and to the colour flag, as time went on.
    let code = ascii(&header[0x3f..0x43]);
    let has_code = is_colour && code.len() == 4 && code.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit());
    let title = &header[0x34..if has_code {
        0x3f
    } else if is_colour {
        0x43
    } else {
        0x44
    }];
    opened.titled(ascii(title));
    opened.identified(if has_code { code } else { String::new() });
    let maker = if header[0x4b] == 0x33 { ascii(&header[0x44..0x46]) } else { format!("{:02X}", header[0x4b]) };
    opened.fact("maker", format!("code {maker}"));
    opened.fact("region", if header[0x4a] == 0 { "Japan" } else { "outside Japan" });
    opened.fact("version", format!("1.{}", header[0x4c]));
    let kind = TYPES.iter().find(|t| t.0 == header[0x47]);
    let mapper = kind.map_or_else(|| format!("unknown type {:#04x}", header[0x47]), |t| t.1.to_owned());
    opened.fact("mapper", mapper);
    let ram = RAM_KIB.get(usize::from(header[0x49])).copied().unwrap_or(0);
    opened.fact("RAM", if ram > 0 { format!("{ram} KiB") } else { String::new() });
    let extras = [(header[0x46] == 3, "Super Game Boy functions")];
    let extras: Vec<&str> = extras.iter().filter(|(is, _)| *is).map(|(_, name)| *name).collect();
    opened.fact("extras", extras.join(", "));
    let logo = crc32fast::hash(&header[4..0x34]) == LOGO_CRC;
    opened.fact("start mark", if logo { "right" } else { "another one: a console would not start it" });

    let mut rom = plain(form, if is_colour { "Game Boy Color ROM" } else { "Game Boy ROM" }, source, save(header));
    let declared = (header[0x48] <= 8).then(|| Declared::Exact(0x8000 << header[0x48]));
    measure(&mut rom, &bytes, declared, 0x8000, IS_ROM);
    let sum = header_sum(header);
    rom.checks.push(Check::new("header checksum", header[0x4d].into(), sum.into(), 2));
    let all = declared.map_or(bytes.len(), |d| bytes.len().min(d.bytes() as usize));
    let own = u32::from(header[0x4e]) + u32::from(header[0x4f]);
    let global = sum8(&bytes[..all]).wrapping_sub(own) as u16;
    if !is_cut(&rom) {
        rom.checks.push(check16("global checksum", be16(header, 0x4e), global));
    }
    finish(opened, rom)
}

fn save(header: &[u8]) -> SaveMemory {
    let field = format!("the header's cartridge type {:#04x} and RAM size {:#04x}", header[0x47], header[0x49]);
    let Some(&(_, name, ram, battery, clock)) = TYPES.iter().find(|t| t.0 == header[0x47]) else {
        return SaveMemory::new(SaveKind::Unknown, &[], field);
    };
    let bytes = match name {
        // Its RAM of 512 half bytes is part of the mapper: the size field is 0.
        "MBC2" => 512,
        "MBC7 with tilt sensor" => 256,
        _ => RAM_KIB.get(usize::from(header[0x49])).copied().unwrap_or(0) << 10,
    };
    let mut save = if !battery || (bytes == 0 && !clock) {
        SaveMemory::none(field)
    } else if name.starts_with("MBC7") {
        SaveMemory::new(SaveKind::Eeprom, &[bytes], field)
    } else if ram && bytes > 0 {
        SaveMemory::new(SaveKind::Sram, &[bytes], field)
    } else {
        SaveMemory::none(field)
    };
    save.clock = clock;
    save
}
