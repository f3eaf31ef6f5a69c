//! Game Boy Advance. Layout, and how the save memory is found: docs/formats/gba.md.

use super::handheld::{LOGO_CRC, crc16, region};
use super::text::ascii;
use super::{Family, finish, load, measure, plain, sum8};
use decanter_core::Result;
use decanter_core::opened::Opened;
use decanter_core::rom::{Check, SaveKind, SaveMemory};
use decanter_core::source::{Source, SourceRef, read_array};
use memchr::memmem;

/// The family.
pub static GAME_BOY_ADVANCE: Family = Family {
    id: "gba",
    name: "Game Boy Advance ROM",
    extensions: &["gba"],
    reads: "title, code, maker, header checksum, save memory by library marks and code, clock",
    least: HEADER_LEN as u64,
    score,
    open,
};

const HEADER_LEN: usize = 0xc0;
/// Marks that the makers' libraries leave: name, kind, sizes.
const MARKS: [(&[u8], SaveKind, &[u64]); 6] = [
    (b"EEPROM", SaveKind::Eeprom, &[512, 8 << 10]),
    (b"SRAM_F", SaveKind::Sram, &[32 << 10]),
    (b"SRAM", SaveKind::Sram, &[32 << 10]),
    (b"FLASH512", SaveKind::Flash, &[64 << 10]),
    (b"FLASH1M", SaveKind::Flash, &[128 << 10]),
    (b"FLASH", SaveKind::Flash, &[64 << 10]),
];
/// Mark of the clock's library.
const CLOCK: &[u8] = b"SIIRTC";

fn header_sum(header: &[u8]) -> u8 {
    0u8.wrapping_sub(sum8(&header[0xa0..0xbd]) as u8).wrapping_sub(0x19)
}

fn recognise(header: &[u8]) -> Option<u8> {
    // A branch at the entry point, and the byte that has one value only.
    let branch = header[3] & 0xfe == 0xea;
    let fixed = header[0xb2] == 0x96;
    let right_sum = header_sum(header) == header[0xbd];
    match (branch, fixed, right_sum) {
        (true, true, true) => Some(88),
        (true, true, false) => Some(65),
        (false, true, true) => Some(60),
        _ => None,
    }
}

fn score(source: &dyn Source) -> Result<Option<u8>> {
    if source.len() < HEADER_LEN as u64 {
        return Ok(None);
    }
    Ok(recognise(&read_array::<HEADER_LEN>(source, 0)?))
}

fn open(source: SourceRef) -> Result<Opened> {
    let bytes = load(&source)?;
    let header = &bytes[..HEADER_LEN];
    let mut opened = Opened::new(GAME_BOY_ADVANCE.id, GAME_BOY_ADVANCE.name);
    let code = ascii(&header[0xac..0xb0]);
    opened.titled(ascii(&header[0xa0..0xac]));
    opened.identified(code.clone());
    opened.fact("maker", format!("code {}", ascii(&header[0xb0..0xb2])));
    opened.fact("region", region(&code));
    opened.fact("version", format!("1.{}", header[0xbc]));
    let logo = crc16(&header[4..0xa0]) == LOGO_CRC;
    opened.fact("start mark", if logo { "right" } else { "another one: a console would not start it" });
    let (save, several) = save(&bytes);
    if let Some(several) = several {
        opened.notice(several);
    }
    let mut rom = plain("gba", GAME_BOY_ADVANCE.name, source, save);
    let natural = (bytes.len() as u64).next_power_of_two();
    measure(&mut rom, &bytes, None, natural, |_| false);
    rom.checks.push(Check::new("header checksum", header[0xbd].into(), header_sum(header).into(), 2));
    finish(opened, rom)
}

/// A mark: `NAME_Vnnn`, at a multiple of four.
fn marks(bytes: &[u8]) -> Vec<(String, &'static [u8])> {
    let mut found: Vec<(String, &'static [u8])> = Vec::new();
    for at in memmem::find_iter(bytes, b"_V") {
        if !bytes.get(at + 2..at + 5).is_some_and(|d| d.iter().all(u8::is_ascii_digit)) {
            continue;
        }
        let names = MARKS.iter().map(|(name, ..)| *name).chain([CLOCK]);
        for name in names {
            let whole = at.checked_sub(name.len()).filter(|s| s % 4 == 0 && &bytes[*s..at] == name);
            if let Some(start) = whole {
                let text = ascii(&bytes[start..at + 5]);
                if !found.iter().any(|(t, _)| *t == text) {
                    found.push((text, name));
                }
                break;
            }
        }
    }
    found
}

/// The save memory, and a word if there are marks of several kinds.
fn save(bytes: &[u8]) -> (SaveMemory, Option<String>) {
    let found = marks(bytes);
    let clock = found.iter().find(|(_, name)| *name == CLOCK).map(|(text, _)| text.clone());
    let mut kinds = found.iter().filter_map(|(text, name)| Some((text, MARKS.iter().find(|m| m.0 == *name)?)));
    let first = kinds.next();
    let others: Vec<&str> =
        kinds.filter(|(_, m)| first.is_some_and(|f| f.1.1 != m.1)).map(|(t, _)| t.as_str()).collect();
    let mut save = match first {
        None => SaveMemory::none("no library mark of save memory in the ROM"),
        Some((text, (_, SaveKind::Eeprom, sizes))) => match eeprom_size(bytes) {
            Some(size) => SaveMemory::new(
                SaveKind::Eeprom,
                &[size],
                format!("library mark {text}, and the size from the code that sets it up"),
            ),
            None => SaveMemory::new(
                SaveKind::Eeprom,
                sizes,
                format!("library mark {text}; 512 bytes or 8 KiB: the code does not show which"),
            ),
        },
        Some((text, (_, kind, sizes))) => SaveMemory::new(*kind, sizes, format!("library mark {text}")),
    };
    if let Some(mark) = clock {
        save.clock = true;
        save.known_by.push_str(&format!("; clock by library mark {mark}"));
    }
    let several = (!others.is_empty())
        .then(|| format!("there are marks of other save memory too ({}); the first one counts", others.join(", ")));
    (save, several)
}

/// The size that the library's setup function is called with: 4 (kilobits) or 64.
///
/// The function narrows its argument to 16 bits and compares it with 4 and then with 64; whoever calls it loads
/// the constant in the two instructions before. All of it is Thumb code.
fn eeprom_size(bytes: &[u8]) -> Option<u64> {
    let half = |at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
    let mut functions = Vec::new();
    // `lsl rX, r0, #16`, as the function begins, or right after its `push`.
    for at in (0..bytes.len().saturating_sub(64) & !1).step_by(2).filter(|&at| half(at) & 0xfff8 == 0x0400) {
        let window: Vec<u16> = (0..30).map(|i| half(at + 2 * i)).collect();
        let compares = |value: u16| window.iter().position(|&w| w & 0xf8ff == 0x2800 | value);
        if let (Some(four), Some(sixty_four)) = (compares(4), compares(64))
            && four < sixty_four
            && window[1..four].iter().any(|&w| w & 0xffc0 == 0x0c00)
        {
            let pushes = at >= 2 && half(at - 2) & 0xff00 == 0xb500;
            functions.push(if pushes { at - 2 } else { at });
        }
    }
    if functions.is_empty() {
        return None;
    }
    let mut sizes = Vec::new();
    for at in (4..bytes.len().saturating_sub(4) & !1).step_by(2) {
        let (high, low) = (half(at), half(at + 2));
        if high & 0xf800 != 0xf000 || low & 0xf800 != 0xf800 {
            continue;
        }
        let offset = (i64::from(high & 0x7ff) << 53 >> 41) + (i64::from(low & 0x7ff) << 1);
        let target = at as i64 + 4 + offset;
        // They were found in ascending order.
        if functions.binary_search_by_key(&target, |&f| f as i64).is_err() {
            continue;
        }
        match (half(at - 2), half(at - 4)) {
            (0x2004, _) | (_, 0x2004) => sizes.push(512),
            (0x2040, _) | (_, 0x2040) => sizes.push(8 << 10),
            _ => {}
        }
    }
    sizes.sort_unstable();
    sizes.dedup();
    match sizes.as_slice() {
        [size] => Some(*size),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(bytes: &mut [u8], at: usize, words: &[u16]) {
        for (i, word) in words.iter().enumerate() {
            bytes[at + 2 * i..at + 2 * i + 2].copy_from_slice(&word.to_le_bytes());
        }
    }

    #[test]
    fn marks_tell_kind_and_size() {
        let rom = |mark: &[u8]| {
            let mut bytes = vec![0x5a; 4096];
            bytes[1024..1024 + mark.len()].copy_from_slice(mark);
            save(&bytes).0
        };
        assert_eq!((rom(b"SRAM_V113").kind, rom(b"SRAM_V113").sizes), (SaveKind::Sram, vec![32 << 10]));
        assert_eq!(rom(b"SRAM_F_V110").sizes, [32 << 10]);
        assert_eq!(rom(b"FLASH_V126").sizes, [64 << 10]);
        assert_eq!(rom(b"FLASH512_V131").sizes, [64 << 10]);
        assert_eq!(rom(b"FLASH1M_V103").sizes, [128 << 10]);
        assert_eq!(rom(b"EEPROM_V124").sizes, [512, 8192]);
        assert_eq!(rom(b"EEPROM_Vabc").kind, SaveKind::None);
        assert!(rom(b"SIIRTC_V001").clock);
    }

    #[test]
    fn the_size_of_eeprom_is_in_the_code() {
        for (constant, size) in [(0x2004, 512), (0x2040, 8192)] {
            let mut bytes = vec![0; 4096];
            bytes[1024..1035].copy_from_slice(b"EEPROM_V124");
            // lsl r0,r0,#16; lsr r1,r0,#16; mov r2,#0; cmp r1,#4; bne; ...; cmp r1,#64
            put(&mut bytes, 512, &[0x0400, 0x0c01, 0x2200, 0x2904, 0xd104, 0x4801, 0xe006, 0x2940, 0xd101]);
            // mov r0,#n; bl 512, from 800: 512 - (802 + 4) = -294
            put(&mut bytes, 800, &[constant, 0xf7ff, 0xff6d]);
            assert_eq!(save(&bytes).0.sizes, [size]);
            // The other size is asked for as well: no answer.
            put(&mut bytes, 900, &[0x2004 ^ 0x2040 ^ constant, 0xf7ff, 0xff3b]);
            assert_eq!(save(&bytes).0.sizes, [512, 8192]);
        }
    }
}
