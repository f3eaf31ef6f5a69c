//! SNES. The header stands at a place that depends on the memory map: each is scored. Layout: docs/formats/snes.md.

use super::text::{japanese, printable};
use super::{COPIER, Family, behind_copier, finish, has_copier_header, is_cut, load, measure, plain, with_head};
use super::{check16, without_head};
use crate::num::le16;
use decanter_core::opened::Opened;
use decanter_core::rom::{Declared, Form, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::{Error, Result};

/// The family.
pub static SNES: Family = Family {
    id: "snes",
    name: "SNES ROM",
    extensions: &["sfc", "smc"],
    reads: "LoROM, HiROM, ExHiROM, ExLoROM, with or without a copier header; title, maker, chips, checksum, save memory",
    least: 0x8000,
    score,
    open,
};

/// Bytes of the header with its vectors.
const LEN: usize = 0x40;
/// Bytes of the extended header before it.
const EXTENDED: u64 = 0x10;
/// Bytes of the smallest bank: what is cut short has no whole ones, and most files that are no ROM.
const BANK: u64 = 32 << 10;
/// Bytes in a bank that copiers count in.
const COPIER_UNIT: u64 = 8 << 10;
/// Least points of a header that is believed.
const LEAST: i32 = 6;

/// A memory map: its name, where the header is, low half of the map mode.
struct Map {
    name: &'static str,
    at: u64,
    modes: &'static [u8],
}

const MAPS: [Map; 4] = [
    Map { name: "LoROM", at: 0x7fc0, modes: &[0, 2, 3] },
    Map { name: "HiROM", at: 0xffc0, modes: &[1, 0xa] },
    Map { name: "ExHiROM", at: 0x40_ffc0, modes: &[5] },
    Map { name: "ExLoROM", at: 0x40_7fc0, modes: &[2] },
];
const REGIONS: [&str; 18] = [
    "Japan",
    "North America",
    "Europe",
    "Sweden",
    "Finland",
    "Denmark",
    "France",
    "Netherlands",
    "Spain",
    "Germany",
    "Italy",
    "China",
    "Indonesia",
    "Korea",
    "common",
    "Canada",
    "Brazil",
    "Australia",
];

/// The best header: which map, its points.
fn find(source: &dyn Source, shift: u64) -> Result<Option<(&'static Map, i32)>> {
    let mut best: Option<(&Map, i32)> = None;
    for map in &MAPS {
        let at = shift + map.at;
        if at + LEN as u64 > source.len() {
            continue;
        }
        let header: [u8; LEN] = read_array(source, at)?;
        let reset = le16(&header, 0x3c);
        // The reset vector leads into the upper half of bank 0, where the header stands too.
        let bank = shift + (map.at & !0x7fff);
        let code = bank + u64::from(reset & 0x7fff);
        let first = if reset >= 0x8000 && code < source.len() { read_array::<1>(source, code)?[0] } else { 0 };
        let points = points(&header, map, source.len() - shift, first);
        if best.is_none_or(|(_, most)| points > most) {
            best = Some((map, points));
        }
    }
    Ok(best)
}

fn points(h: &[u8; LEN], map: &Map, len: u64, first: u8) -> i32 {
    let mut points = 0;
    if le16(h, 0x1c) ^ le16(h, 0x1e) == 0xffff {
        points += 4;
    }
    let mode = h[0x15];
    if mode & 0xe0 == 0x20 {
        points += if map.modes.contains(&(mode & 0x0f)) { 3 } else { -1 };
    } else {
        points -= 2;
    }
    points += match le16(h, 0x3c) {
        0x8000.. => 2,
        _ => -6,
    };
    points += match first {
        // Disable interrupts, clear or set flags, jump: how programs begin.
        0x78 | 0x18 | 0x38 | 0x9c | 0x4c | 0x5c | 0xc2 | 0xe2 | 0x20 | 0x22 => 2,
        // Stop, return, break, invalid: how they do not.
        0x00 | 0xff | 0x40 | 0x60 | 0x6b | 0xdb | 0x42 | 0xcb => -3,
        _ => 0,
    };
    points += if printable(&h[..21]) >= 18 { 2 } else { -1 };
    if (7..=13).contains(&h[0x17]) {
        let declared = 1024u64 << h[0x17];
        points += if len <= declared && len > declared / 2 { 2 } else { 0 };
    } else {
        points -= 1;
    }
    if !len.is_multiple_of(BANK) {
        points -= 3;
    }
    if h[0x18] > 8 {
        points -= 1;
    }
    if usize::from(h[0x19]) >= REGIONS.len() {
        points -= 1;
    }
    points
}

fn shift_of(source: &dyn Source) -> u64 {
    if has_copier_header(source.len(), 1024) { COPIER } else { 0 }
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    if source.len() > decanter_core::view::MOST_HELD {
        return Ok(None);
    }
    let found = find(source, shift_of(source))?.filter(|(_, points)| *points >= LEAST);
    Ok(found.map(|(_, points)| (30 + 2 * points).clamp(1, 62) as u8))
}

fn open(source: SourceRef) -> Result<Opened> {
    let shift = shift_of(source.as_ref());
    let Some((map, points)) = find(source.as_ref(), shift)? else {
        return Err(Error::malformed(SNES.id, "no header at any of its places", 0x7fc0));
    };
    let body = if shift > 0 { without_head(&source, shift)? } else { source.clone() };
    let bytes = load(&body)?;
    let at = map.at as usize;
    let h = &bytes[at..at + LEN];
    let mut opened = Opened::new(SNES.id, SNES.name);
    let is_extended = h[0x1a] == 0x33;
    let extended = &bytes[at - EXTENDED as usize..at];
    opened.titled(japanese(&h[..21]));
    let code = if is_extended { super::text::ascii(&extended[2..6]) } else { String::new() };
    opened.identified(code);
    let maker = if is_extended { super::text::ascii(&extended[..2]) } else { format!("{:02X}", h[0x1a]) };
    opened.fact("maker", format!("code {maker}"));
    opened.fact("region", REGIONS.get(usize::from(h[0x19])).copied().unwrap_or("unknown"));
    opened.fact("version", format!("1.{}", h[0x1b]));
    let speed = if h[0x15] & 0x10 != 0 { ", fast" } else { "" };
    opened.fact("mapper", format!("{}{speed} (header at {at:#x}, {points} points)", map.name));
    opened.fact("chips", chips(h[0x15], h[0x16]));
    opened.fact("RAM", if (1..=9).contains(&h[0x18]) { format!("{} KiB", 1 << h[0x18]) } else { String::new() });

    let declared = (7..=13).contains(&h[0x17]).then(|| Declared::UpTo(1024 << h[0x17]));
    let mut rom = plain("sfc", SNES.name, body.clone(), save(h, extended, is_extended));
    measure(&mut rom, &bytes, declared, 0, is_rom);
    let stored = (le16(h, 0x1c), le16(h, 0x1e));
    let right = checksum(&bytes, at);
    if !is_cut(&rom) {
        rom.checks.push(check16("checksum", stored.1, right));
    }
    rom.checks.push(check16("checksum complement", stored.0, !stored.1));
    let own = if shift > 0 { source.clone() } else { with_head(copier_header(body.len()), &body)? };
    rom.forms.push(Form { id: "smc", name: "SNES ROM with a copier header", source: own });
    rom.form = if shift > 0 { "smc" } else { "sfc" };
    finish(opened, behind_copier(rom, &source, shift > 0)?)
}

fn is_rom(tail: &[u8]) -> bool {
    let source = decanter_core::source::Bytes(tail.to_vec());
    matches!(find(&source, 0), Ok(Some((_, points))) if points >= LEAST + 3)
}

/// A copier's header: the size in units of 8 KiB, little-endian, and nothing else.
fn copier_header(len: u64) -> Vec<u8> {
    let mut header = vec![0; COPIER as usize];
    header[..2].copy_from_slice(&((len / COPIER_UNIT) as u16).to_le_bytes());
    header
}

/// The sum of all bytes as the console's bus shows them, with the fields at `at` as if they were ff ff 00 00.
fn checksum(bytes: &[u8], at: usize) -> u16 {
    let fields = super::sum8(&bytes[at + 0x1c..at + 0x20]);
    let mirrored = mirrored_sum(bytes);
    // The fields may stand in a part that is repeated: each time they count anew.
    let times = times_seen(bytes.len(), at);
    mirrored.wrapping_sub(fields.wrapping_mul(times)).wrapping_add(0x1fe_u32.wrapping_mul(times)) as u16
}

/// A ROM that is no power of two: the largest such part once, the rest repeated until it is as long.
fn mirrored_sum(bytes: &[u8]) -> u32 {
    if bytes.is_empty() || bytes.len().is_power_of_two() {
        return super::sum8(bytes);
    }
    let large = bytes.len().next_power_of_two() / 2;
    let rest = &bytes[large..];
    let times = large / rest.len().next_power_of_two();
    super::sum8(&bytes[..large]).wrapping_add(mirrored_sum(rest).wrapping_mul(times as u32))
}

/// How often the byte at `at` is seen in a whole of `len` bytes that is filled up so.
fn times_seen(len: usize, at: usize) -> u32 {
    if len.is_power_of_two() {
        return 1;
    }
    let large = len.next_power_of_two() / 2;
    if at < large {
        return 1;
    }
    let rest = len - large;
    (large / rest.next_power_of_two()) as u32 * times_seen(rest, at - large)
}

fn chips(mode: u8, chipset: u8) -> String {
    let extra = match chipset >> 4 {
        _ if chipset & 0x0f < 3 => return String::new(),
        0 => "DSP",
        1 => "Super FX",
        2 => "OBC1",
        3 => "SA-1",
        4 => "S-DD1",
        5 => "S-RTC",
        0xe => "another console's adapter",
        0xf if mode & 0x0f == 0xa => "SPC7110",
        0xf => "custom chip (ST010, ST011, ST018 or CX4)",
        _ => "unknown coprocessor",
    };
    extra.into()
}

fn save(h: &[u8], extended: &[u8], is_extended: bool) -> SaveMemory {
    let field = format!("the header's chipset {:#04x} and RAM size {:#04x}", h[0x16], h[0x18]);
    // Low half: 2, 5, 6, 9 and a have a battery; boards with the Super FX keep their RAM size in the extended header.
    let has_battery = matches!(h[0x16] & 0x0f, 2 | 5 | 6 | 9 | 0xa);
    let size = if h[0x16] >> 4 == 1 && is_extended { extended[0xd] } else { h[0x18] };
    let mut save = if has_battery && (1..=9).contains(&size) {
        SaveMemory::new(SaveKind::Sram, &[1024 << size], field)
    } else {
        SaveMemory::none(field)
    };
    save.clock = matches!(h[0x16], 0x55 | 0xf9);
    save
}

/// The right checksum of a ROM with its header at `at`, for whoever makes one.
pub fn right_checksum(bytes: &[u8], at: usize) -> u16 {
    checksum(bytes, at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_of_roms_that_are_no_power_of_two() {
        // 4 + 2 (+ 2 again): as 8 units.
        let bytes: Vec<u8> = [vec![1; 4096], vec![3; 2048]].concat();
        assert_eq!(mirrored_sum(&bytes), 4096 + 3 * 4096);
        // 4 + 1 (three times more).
        let bytes: Vec<u8> = [vec![1; 4096], vec![3; 1024]].concat();
        assert_eq!(mirrored_sum(&bytes), 4096 + 3 * 4096);
        // 8 + 2 + 1: the rest of 3 fills up to 4 by its own last unit, twice.
        let bytes: Vec<u8> = [vec![1; 8192], vec![2; 2048], vec![5; 1024]].concat();
        assert_eq!(mirrored_sum(&bytes), 8192 + 2 * (2 * 2048 + 5 * 2048));
        assert_eq!(times_seen(11 * 1024, 10 * 1024), 4);
        assert_eq!(times_seen(11 * 1024, 100), 1);
    }
}
