//! Nintendo 64 in its three byte orders. Layout and checksums: docs/formats/n64.md.

use super::order::{swap_pairs, swap_words};
use super::text::{ascii, japanese};
use super::{Family, finish, load, measure, plain};
use crate::num::be32;
use decanter_core::Result;
use decanter_core::opened::Opened;
use decanter_core::rom::{Check, Form, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::view::{Blockwise, Change};
use std::sync::Arc;

/// The family.
pub static NINTENDO_64: Family = Family {
    id: "n64",
    name: "Nintendo 64 ROM",
    extensions: &["z64", "v64", "n64"],
    reads: "three byte orders; title, code, region, both checksums, save memory of homebrew headers",
    least: 0x1000,
    score,
    open,
};

/// Byte orders: id, name, first bytes of a ROM, how to get from it to the console's own order and back.
type Order = (&'static str, &'static str, [u8; 4], Option<Change>);
const ORDERS: [Order; 3] = [
    ("z64", "Nintendo 64 ROM, big-endian", [0x80, 0x37, 0x12, 0x40], None),
    ("v64", "Nintendo 64 ROM, bytes swapped in pairs", [0x37, 0x80, 0x40, 0x12], Some(swap_pairs)),
    ("n64", "Nintendo 64 ROM, little-endian words", [0x40, 0x12, 0x37, 0x80], Some(swap_words)),
];

/// Where the boot code begins and ends.
const BOOT: std::ops::Range<usize> = 0x40..0x1000;
/// What the checksums are of: 1 MiB after the boot code.
const SUMMED: std::ops::Range<usize> = 0x1000..0x10_1000;

/// Lockout chips: name, CRC-32 of their boot code, what their checksum begins with, how it is computed.
struct Chip {
    name: &'static str,
    boot_crc: u32,
    seed: u32,
    mix: Mix,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Mix {
    Xor,
    Add,
    Multiply,
    BootCode,
}

const CHIPS: [Chip; 5] = [
    Chip { name: "6102", boot_crc: 0x90bb_6cb5, seed: 0xf8ca_4ddc, mix: Mix::Xor },
    Chip { name: "6101", boot_crc: 0x6170_a4a1, seed: 0xf8ca_4ddc, mix: Mix::Xor },
    Chip { name: "6103", boot_crc: 0x0b05_0ee0, seed: 0xa388_6759, mix: Mix::Add },
    Chip { name: "6105", boot_crc: 0x98bc_2c86, seed: 0xdf26_f436, mix: Mix::BootCode },
    Chip { name: "6106", boot_crc: 0xacc8_580a, seed: 0x1fea_617a, mix: Mix::Multiply },
];

/// Regions by country code.
const REGIONS: [(u8, &str); 14] = [
    (b'7', "beta"),
    (b'A', "Japan and North America"),
    (b'B', "Brazil"),
    (b'C', "China"),
    (b'D', "Germany"),
    (b'E', "North America"),
    (b'F', "France"),
    (b'I', "Italy"),
    (b'J', "Japan"),
    (b'K', "Korea"),
    (b'P', "Europe"),
    (b'S', "Spain"),
    (b'U', "Australia"),
    (b'X', "Europe"),
];

fn order(first: [u8; 4]) -> Option<&'static Order> {
    // The lowest byte holds timing of the bus and varies on a few cartridges; the upper three identify the order.
    let same = |o: &&Order| {
        let mut canonical = first;
        if let Some(change) = o.3 {
            change(&mut canonical);
        }
        canonical[..3] == ORDERS[0].2[..3]
    };
    ORDERS.iter().find(same)
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    Ok((source.len() >= 0x1000 && order(read_array(source, 0)?).is_some()).then_some(80))
}

fn open(source: SourceRef) -> Result<Opened> {
    let (id, name, _, change) = order(read_array(source.as_ref(), 0)?).unwrap_or(&ORDERS[0]);
    let body: SourceRef = match change {
        Some(change) => Arc::new(Blockwise::new(source.clone(), 4, *change)?),
        None => source.clone(),
    };
    let bytes = load(&body)?;
    let mut opened = Opened::new(NINTENDO_64.id, *name);
    opened.titled(japanese(&bytes[0x20..0x34]));
    opened.identified(ascii(&bytes[0x3b..0x3f]));
    let region = REGIONS.iter().find(|(code, _)| *code == bytes[0x3e]);
    opened.fact("region", region.map_or("", |(_, name)| name));
    // Homebrew headers keep the kind of save memory where others have their version.
    opened.fact("version", if is_homebrew(&bytes) { String::new() } else { format!("1.{}", bytes[0x3f]) });
    let chip = CHIPS.iter().find(|c| c.boot_crc == crc32fast::hash(&bytes[BOOT]));
    opened.fact("lockout chip", chip.map_or("unknown boot code", |c| c.name));
    let mut rom = plain("z64", ORDERS[0].1, body.clone(), save(&bytes));
    let natural = (bytes.len() as u64).next_multiple_of(1 << 20);
    measure(&mut rom, &bytes, None, natural, |tail| tail.get(..4).is_some_and(|t| t == ORDERS[0].2));
    rom.forms.clear();
    for (own, name, _, other) in &ORDERS {
        let form: SourceRef = match other {
            _ if own == id => source.clone(),
            Some(other) => Arc::new(Blockwise::new(body.clone(), 4, *other)?),
            None => body.clone(),
        };
        rom.forms.push(Form { id: own, name, source: form });
    }
    rom.form = id;
    if change.is_some() {
        rom.through = Some(format!("the byte order of {id}"));
    }
    match checks(&bytes, chip) {
        Some(checks) => rom.checks.extend(checks),
        None => opened.notice("shorter than the first MiB that its checksums are of: they cannot be computed"),
    }
    finish(opened, rom)
}

/// Both checksums; with unknown boot code by whichever way makes them right, or else the commonest one.
fn checks(bytes: &[u8], chip: Option<&Chip>) -> Option<[Check; 2]> {
    let stored = [be32(bytes, 0x10), be32(bytes, 0x14)];
    let by = |chip: &Chip| checksums(bytes, chip);
    let (right, note) = match chip {
        Some(chip) => (by(chip)?, format!("as for the {}", chip.name)),
        None => {
            let fitting = CHIPS.iter().filter_map(|c| Some((by(c)?, c))).find(|(sums, _)| *sums == stored);
            match fitting {
                Some((sums, chip)) => (sums, format!("boot code is not known; right as for the {}", chip.name)),
                None => (by(&CHIPS[0])?, "boot code is not known; computed as for the 6102".into()),
            }
        }
    };
    let names = ["first checksum", "second checksum"];
    Some([0, 1].map(|i| Check::new(names[i], stored[i].into(), right[i].into(), 8).note(note.clone())))
}

/// The two checksums over the first MiB after the boot code.
fn checksums(bytes: &[u8], chip: &Chip) -> Option<[u32; 2]> {
    let summed = bytes.get(SUMMED)?;
    let seed = chip.seed;
    let [mut t1, mut t2, mut t3, mut t4, mut t5, mut t6] = [seed; 6];
    for (index, word) in summed.chunks_exact(4).enumerate() {
        let d = be32(word, 0);
        let sum = t6.wrapping_add(d);
        if sum < t6 {
            t4 = t4.wrapping_add(1);
        }
        t6 = sum;
        t3 ^= d;
        let turned = d.rotate_left(d & 0x1f);
        t5 = t5.wrapping_add(turned);
        t2 ^= if t2 > d { turned } else { t6 ^ d };
        t1 = t1.wrapping_add(if chip.mix == Mix::BootCode {
            be32(bytes, BOOT.start + 0x710 + ((index * 4) & 0xff)) ^ d
        } else {
            t5 ^ d
        });
    }
    Some(match chip.mix {
        Mix::Add => [(t6 ^ t4).wrapping_add(t3), (t5 ^ t2).wrapping_add(t1)],
        Mix::Multiply => [t6.wrapping_mul(t4).wrapping_add(t3), t5.wrapping_mul(t2).wrapping_add(t1)],
        Mix::Xor | Mix::BootCode => [t6 ^ t4 ^ t3, t5 ^ t2 ^ t1],
    })
}

/// The checksums that a ROM with boot code of one's own should carry, by the commonest way.
pub fn right_checksums(bytes: &[u8]) -> Option<[u32; 2]> {
    checksums(bytes, &CHIPS[0])
}

fn is_homebrew(bytes: &[u8]) -> bool {
    &bytes[0x3c..0x3e] == b"ED"
}

/// Only homebrew headers tell: `ED` as the id, and the kind in the version byte.
fn save(bytes: &[u8]) -> SaveMemory {
    const KINDS: [(SaveKind, &[u64]); 7] = [
        (SaveKind::None, &[]),
        (SaveKind::Eeprom, &[512]),
        (SaveKind::Eeprom, &[2 << 10]),
        (SaveKind::Sram, &[32 << 10]),
        (SaveKind::Sram, &[96 << 10]),
        (SaveKind::Flash, &[128 << 10]),
        (SaveKind::Sram, &[128 << 10]),
    ];
    let field = bytes[0x3f];
    match KINDS.get(usize::from(field >> 4)) {
        Some((kind, sizes)) if is_homebrew(bytes) => {
            let mut save = SaveMemory::new(*kind, sizes, format!("homebrew header, byte 0x3f is {field:#04x}"));
            save.clock = field & 1 != 0;
            save
        }
        _ => SaveMemory::new(
            SaveKind::Unknown,
            &[512, 2 << 10, 32 << 10, 96 << 10, 128 << 10],
            "no header field tells; EEPROM has 512 bytes or 2 KiB, SRAM 32 or 96 KiB, flash 128 KiB",
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All words alike: the sums can be followed by hand.
    #[test]
    fn checksums_of_zeros() {
        let bytes = vec![0; SUMMED.end];
        // With zeros, t2 ^= 0 as long as it is above 0, t1 grows by the seed each of 0x40000 times.
        let seed = 0xf8ca_4ddcu32;
        let t1 = seed.wrapping_add(seed.wrapping_mul(0x40000));
        assert_eq!(checksums(&bytes, &CHIPS[0]), Some([seed, t1]));
        let seed = 0xa388_6759u32;
        let t1 = seed.wrapping_add(seed.wrapping_mul(0x40000));
        assert_eq!(checksums(&bytes, &CHIPS[2]), Some([seed, t1]));
    }

    #[test]
    fn orders() {
        assert_eq!(order([0x80, 0x37, 0x12, 0x40]).map(|o| o.0), Some("z64"));
        assert_eq!(order([0x37, 0x80, 0x40, 0x12]).map(|o| o.0), Some("v64"));
        assert_eq!(order([0x40, 0x12, 0x37, 0x80]).map(|o| o.0), Some("n64"));
        assert_eq!(order([0x80, 0x37, 0x12, 0x0f]).map(|o| o.0), Some("z64"));
        assert_eq!(order(*b"NES\x1a"), None);
    }
}
