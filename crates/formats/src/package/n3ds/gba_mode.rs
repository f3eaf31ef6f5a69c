//! GBA mode titles: the settings after the ROM, and the block in which the console keeps the save.
//! Layouts, and what is not sure of them: docs/formats/n3ds-gba.md.

use super::sha256;
use crate::num::{le16, le32, le64};
use aes::Aes128;
use cmac::{Cmac, KeyInit, Mac};
use decanter_core::keyring::Key;
use decanter_core::{Error, Result};
use std::ops::Range;

const ID: &str = "gba-mode";
/// Bytes of the settings, and of all that follows after the ROM.
const SETTINGS: usize = 0x324;
const TRAILER: usize = 0x360;
const SECTIONS_AT: usize = 0x330;
const MARK_AT: usize = 0x350;
const MARK: [u8; 4] = *b".CAA";
/// The largest ROM that the mode runs.
pub const MOST_ROM: usize = 32 << 20;
/// ROMs above this size have their EEPROM elsewhere.
const LARGE_ROM: usize = 16 << 20;
/// Entries of the darkening curve, and its bytes.
const CURVE: usize = 256;
/// Times of the flash chip, as known titles have them.
const FLASH_TIMES: [u32; 4] = [0x27_c886, 0x8_ce35, 0x184, 0x3_1170];
/// L, R and Select in the console's key register.
pub const DEFAULT_SLEEP: u16 = 0x0304;

/// Upper word of the ids that are derived, and the unique ids that they take: none that a maker or a system uses.
const PROGRAM: u64 = 0x0004_0000;
const DERIVED: Range<u32> = 0xc0000..0xf0000;

/// The title id for a ROM with this SHA-1: the same wherever a title is made of it.
pub fn derived_title_id(sha1: &[u8]) -> u64 {
    let number = sha1.iter().take(3).fold(0u32, |n, b| n << 8 | u32::from(*b));
    let unique = DERIVED.start + number % (DERIVED.end - DERIVED.start);
    PROGRAM << 32 | u64::from(unique) << 8
}

/// Which memory keeps the save.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SaveType {
    /// None.
    None,
    /// EEPROM of 512 bytes.
    Eeprom512,
    /// EEPROM of 8 KiB.
    Eeprom8k,
    /// Flash of 64 KiB.
    Flash64k,
    /// Flash of 64 KiB, and a clock.
    Flash64kClock,
    /// Flash of 128 KiB.
    Flash128k,
    /// Flash of 128 KiB, and a clock.
    Flash128kClock,
    /// Static memory of 32 KiB.
    Sram,
}

impl SaveType {
    /// All, with the names that recipes use.
    pub const ALL: [(&'static str, Self); 8] = [
        ("none", Self::None),
        ("eeprom-512", Self::Eeprom512),
        ("eeprom-8k", Self::Eeprom8k),
        ("flash-64k", Self::Flash64k),
        ("flash-64k-clock", Self::Flash64kClock),
        ("flash-128k", Self::Flash128k),
        ("flash-128k-clock", Self::Flash128kClock),
        ("sram", Self::Sram),
    ];

    /// The number for a ROM of `rom_len` bytes. Of chips that differ in their maker only, one that games accept.
    pub fn number(self, rom_len: usize) -> u32 {
        let large = u32::from(rom_len > LARGE_ROM);
        match self {
            Self::Eeprom512 => large,
            Self::Eeprom8k => 2 + large,
            Self::Flash64kClock => 8,
            Self::Flash64k => 9,
            Self::Flash128kClock => 10,
            Self::Flash128k => 11,
            Self::Sram => 14,
            Self::None => 15,
        }
    }

    /// The type with this number.
    pub fn of_number(number: u32) -> Option<Self> {
        Some(match number {
            0 | 1 => Self::Eeprom512,
            2 | 3 => Self::Eeprom8k,
            4 | 6 | 8 => Self::Flash64kClock,
            5 | 7 | 9 => Self::Flash64k,
            10 | 12 => Self::Flash128kClock,
            11 | 13 => Self::Flash128k,
            14 => Self::Sram,
            15 => Self::None,
            _ => return None,
        })
    }

    /// Bytes of the save.
    pub fn bytes(self) -> u32 {
        match self {
            Self::None => 0,
            Self::Eeprom512 => 512,
            Self::Eeprom8k => 8 << 10,
            Self::Sram => 32 << 10,
            Self::Flash64k | Self::Flash64kClock => 64 << 10,
            Self::Flash128k | Self::Flash128kClock => 128 << 10,
        }
    }

    /// The name that recipes use.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, t)| *t == self).map_or("none", |(name, _)| name)
    }
}

/// Settings of a GBA mode title.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Settings {
    /// Memory of the save.
    pub save: SaveType,
    /// Buttons that put it to sleep, as bits of the console's key register.
    pub sleep: u16,
    /// Motion ghosting: 1 strongest, 255 none.
    pub ghosting: u8,
    /// Darkening: brightness out for brightness in, both from 0 to 1, is `in ^ gamma * level`.
    pub gamma: f32,
    /// Brightness of white, from 0 to 1.
    pub level: f32,
}

impl Default for Settings {
    fn default() -> Self {
        Self { save: SaveType::None, sleep: DEFAULT_SLEEP, ghosting: 0xff, gamma: 1.0, level: 1.0 }
    }
}

impl Settings {
    /// What the screen shows for a value of red, green or blue.
    pub fn shown(&self, value: u8) -> u8 {
        let value = (f32::from(value) / 255.0).powf(self.gamma) * self.level;
        (value * 255.0).round().clamp(0.0, 255.0) as u8
    }
}

/// The code of a title: the ROM, filled up, and the settings.
///
/// # Errors
/// [`Error::Limit`] for a ROM of more than 32 MiB.
pub fn code(rom: &[u8], settings: &Settings) -> Result<Vec<u8>> {
    if rom.len() > MOST_ROM {
        return Err(Error::Limit { what: "a ROM for the GBA mode", asked: rom.len() as u64, limit: MOST_ROM as u64 });
    }
    let mut out = rom.to_vec();
    out.resize(rom.len().next_multiple_of(16), 0xff);
    let rom_len = out.len();
    let mut trailer = vec![0; TRAILER];
    let mut word = |at: usize, value: u32| trailer[at..at + 4].copy_from_slice(&value.to_le_bytes());
    word(0x04, rom_len as u32);
    word(0x08, settings.save.number(rom_len));
    word(0x0c, u32::from(settings.sleep) | u32::from(settings.ghosting) << 16);
    for (index, time) in FLASH_TIMES.into_iter().enumerate() {
        word(0x310 + index * 4, time);
    }
    for (at, value) in [(0x04, 0), (0x08, rom_len as u32), (0x10, 1), (0x14, rom_len as u32), (0x18, SETTINGS as u32)] {
        word(SECTIONS_AT + at, value);
    }
    word(MARK_AT, u32::from_le_bytes(MARK));
    word(MARK_AT + 4, 1);
    word(MARK_AT + 8, (rom_len + SECTIONS_AT) as u32);
    word(MARK_AT + 12, (MARK_AT - SECTIONS_AT) as u32);
    for value in 0..CURVE {
        trailer[0x10 + value * 3..0x13 + value * 3].fill(settings.shown(value as u8));
    }
    out.extend(trailer);
    Ok(out)
}

/// What the settings of a title say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Bytes of the ROM, which the code begins with.
    pub rom_len: usize,
    /// Number of the save type.
    pub save: u32,
    /// Buttons that put it to sleep.
    pub sleep: u16,
    /// Motion ghosting.
    pub ghosting: u16,
    /// The darkening curve.
    pub curve: Vec<u8>,
}

/// The settings after the ROM in the code of a title; `None` if it is none of the GBA mode.
pub fn settings(code: &[u8]) -> Option<Found> {
    let mark = code.len().checked_sub(16)?;
    if code[mark..mark + 4] != MARK {
        return None;
    }
    let (at, len) = (le32(code, mark + 8) as usize, le32(code, mark + 12) as usize);
    let sections = code.get(at..at.checked_add(len)?)?;
    let place = sections.chunks_exact(16).find(|s| le32(s, 0) == 1)?;
    let start = le32(place, 4) as usize;
    let bytes = code.get(start..start.checked_add(SETTINGS)?)?;
    let rom_len = le32(bytes, 4) as usize;
    (rom_len <= start).then(|| Found {
        rom_len,
        save: le32(bytes, 8),
        sleep: le16(bytes, 0xc),
        ghosting: le16(bytes, 0xe),
        curve: bytes[0x10..0x310].to_vec(),
    })
}

/// Bytes of the header of a save block; the code in it is of everything from 0x30 on.
pub const SAVE_HEADER: usize = 0x200;
const SAVE_MARK: [u8; 4] = *b".SAV";
const PROVEN_FROM: usize = 0x30;
/// The largest save.
const MOST_SAVE: usize = 128 << 10;

/// One copy of a save in a block that the console keeps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copy {
    /// Where it is in the file, header first.
    pub range: Range<usize>,
    /// How often the game was saved.
    pub times: u32,
    /// The title.
    pub title_id: u64,
    /// Bytes of the save.
    pub save_len: usize,
    /// Whether its code holds; `None` without the key.
    pub holds: Option<bool>,
}

/// The code of a copy: CMAC under `key` of the SHA-256 of everything behind it.
fn code_of(copy: &[u8], key: &Key) -> Result<[u8; 16]> {
    let mut mac = <Cmac<Aes128> as KeyInit>::new(&(*key.bytes16()?).into());
    mac.update(&sha256(&copy[PROVEN_FROM..]));
    Ok(mac.finalize().into_bytes().into())
}

/// The copies in a file: one at its beginning, and a second one behind it or at the middle.
///
/// # Errors
/// [`Error::Malformed`] when the first has no mark or an impossible length.
pub fn copies(file: &[u8], key: Option<&Key>) -> Result<Vec<Copy>> {
    let first =
        copy_at(file, 0, key)?.ok_or_else(|| Error::malformed(ID, "no .SAV mark of a save of the GBA mode", 0))?;
    let mut found = vec![first.clone()];
    for at in [first.range.end, file.len() / 2] {
        if at >= first.range.end
            && let Some(second) = copy_at(file, at, key)?
        {
            found.push(second);
            break;
        }
    }
    Ok(found)
}

/// The copy at `at`, if there is one.
fn copy_at(file: &[u8], at: usize, key: Option<&Key>) -> Result<Option<Copy>> {
    let Some(header) = file.get(at..at + SAVE_HEADER).filter(|h| h[..4] == SAVE_MARK) else { return Ok(None) };
    let (start, save_len) = (le32(header, 0x50) as usize, le32(header, 0x54) as usize);
    let range = at..at + SAVE_HEADER + save_len.min(MOST_SAVE);
    if start != SAVE_HEADER || save_len > MOST_SAVE || range.end > file.len() {
        return Err(Error::malformed(ID, format!("a save of {save_len} bytes at {start:#x}"), at as u64 + 0x50));
    }
    let holds = key.map(|key| Ok::<_, Error>(code_of(&file[range.clone()], key)? == header[0x10..0x20])).transpose()?;
    Ok(Some(Copy { range, times: le32(header, 0x34), title_id: le64(header, 0x38), save_len, holds }))
}

/// Number of the copy that the console would load: the one saved most often among those that hold, or may hold.
pub fn current(copies: &[Copy]) -> Option<usize> {
    let sound = copies.iter().enumerate().filter(|(_, c)| c.holds != Some(false));
    sound.max_by_key(|(_, c)| c.times).map(|(index, _)| index)
}

/// The file with `save` as its current copy. It goes over the other copy, or, where there is just one, over that.
///
/// # Errors
/// [`Error::WrongDescription`] for a save of another length, and when no copy holds; then key or file is wrong.
pub fn with_save(file: &[u8], save: &[u8], key: &Key) -> Result<Vec<u8>> {
    let copies = copies(file, Some(key))?;
    let Some(now) = current(&copies) else {
        return Err(Error::WrongDescription {
            text: "no copy in it has a code that holds: key or file is wrong".into(),
        });
    };
    let target = if copies.len() > 1 { 1 - now } else { now };
    let (from, to) = (&copies[now], &copies[target]);
    if save.len() != from.save_len || to.save_len != from.save_len {
        let text = format!("it has {} bytes, the save in the block {}", save.len(), from.save_len);
        return Err(Error::WrongDescription { text });
    }
    let mut out = file.to_vec();
    let header = file[from.range.start..from.range.start + SAVE_HEADER].to_vec();
    let copy = &mut out[to.range.clone()];
    copy[..SAVE_HEADER].copy_from_slice(&header);
    copy[0x34..0x38].copy_from_slice(&from.times.wrapping_add(1).to_le_bytes());
    copy[SAVE_HEADER..].copy_from_slice(save);
    let code = code_of(copy, key)?;
    copy[0x10..0x20].copy_from_slice(&code);
    Ok(out)
}

/// A new block with two copies of `save`, for tests and the demo, which have no console to make one.
///
/// # Errors
/// [`Error::Limit`] for a save that is too long, or a key that has not 16 bytes.
pub fn new_block(save: &[u8], title_id: u64, key: &Key) -> Result<Vec<u8>> {
    if save.len() > MOST_SAVE {
        return Err(Error::Limit { what: "a save of the GBA mode", asked: save.len() as u64, limit: MOST_SAVE as u64 });
    }
    let mut copy = vec![0xff; SAVE_HEADER];
    copy[..4].copy_from_slice(&SAVE_MARK);
    copy[0x30..0x34].copy_from_slice(&1u32.to_le_bytes());
    copy[0x38..0x40].copy_from_slice(&title_id.to_le_bytes());
    copy[0x40..0x50].fill(0);
    copy[0x50..0x54].copy_from_slice(&(SAVE_HEADER as u32).to_le_bytes());
    copy[0x54..0x58].copy_from_slice(&(save.len() as u32).to_le_bytes());
    copy[0x60..0x68].fill(0);
    copy.extend_from_slice(save);
    let mut block = Vec::new();
    for times in [1u32, 2] {
        copy[0x34..0x38].copy_from_slice(&times.to_le_bytes());
        let code = code_of(&copy, key)?;
        copy[0x10..0x20].copy_from_slice(&code);
        block.extend_from_slice(&copy);
    }
    Ok(block)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Places by hand from the layout, for a ROM of 20 bytes, which is filled up to 32.
    #[test]
    fn settings_after_a_rom() {
        let settings = Settings { save: SaveType::Sram, level: 0.5, ..Settings::default() };
        let code = code(&[7; 20], &settings).unwrap();
        assert_eq!(code.len(), 32 + 0x360);
        assert_eq!(code[20..32], [0xff; 12]);
        let record = &code[32..];
        assert_eq!(record[..16], [0, 0, 0, 0, 32, 0, 0, 0, 14, 0, 0, 0, 0x04, 0x03, 0xff, 0]);
        assert_eq!((record[0x10], record[0x30d], record[0x30f]), (0, 128, 128));
        assert_eq!(record[0x330..0x340], [0, 0, 0, 0, 0, 0, 0, 0, 32, 0, 0, 0, 0, 0, 0, 0]);
        assert_eq!(record[0x340..0x350], [1, 0, 0, 0, 32, 0, 0, 0, 0x24, 3, 0, 0, 0, 0, 0, 0]);
        assert_eq!(record[0x350..], [b'.', b'C', b'A', b'A', 1, 0, 0, 0, 0x50, 3, 0, 0, 0x20, 0, 0, 0]);
        let found = super::settings(&code).unwrap();
        assert_eq!((found.rom_len, found.save, found.sleep, found.ghosting), (32, 14, 0x0304, 0xff));
        assert!(super::code(&vec![0; MOST_ROM + 1], &settings).is_err());
    }

    #[test]
    fn derived_ids_stay_in_their_range() {
        assert_eq!(derived_title_id(&[0; 20]), 0x0004_0000_0c00_0000);
        assert_eq!(derived_title_id(&[0x03, 0, 0]), 0x0004_0000_0c00_0000, "it wraps at the end of its range");
        assert_eq!(derived_title_id(&[0x02, 0xff, 0xff]), 0x0004_0000_0eff_ff00);
    }

    #[test]
    fn save_types_by_size_of_the_rom() {
        assert_eq!((SaveType::Eeprom8k.number(1 << 20), SaveType::Eeprom8k.number(32 << 20)), (2, 3));
        for (_, kind) in SaveType::ALL {
            assert_eq!(SaveType::of_number(kind.number(1 << 20)), Some(kind));
        }
    }

    /// RFC 4493, example 2: AES-CMAC of one block. The code in a block is of a hash, so the primitive is checked alone.
    #[test]
    fn a_published_code() {
        let hex = |text: &str| *Key::from_hex(text).unwrap().bytes16().unwrap();
        let mut mac = <Cmac<Aes128> as KeyInit>::new(&hex("2b7e151628aed2a6abf7158809cf4f3c").into());
        mac.update(&hex("6bc1bee22e409f96e93d7e117393172a"));
        assert_eq!(mac.finalize().into_bytes()[..], hex("070a16b46b4d4144f79bdd9dd04a287c"));
    }

    #[test]
    fn the_other_copy_is_written_and_the_current_one_stays() {
        let key = Key::new(vec![5; 16]);
        let block = new_block(&[1; 512], 0x0004_0000_0f1e_2d00, &key).unwrap();
        let before = copies(&block, Some(&key)).unwrap();
        assert_eq!((before.len(), current(&before)), (2, Some(1)));
        let after = with_save(&block, &[9; 512], &key).unwrap();
        assert_eq!(after[before[1].range.clone()], block[before[1].range.clone()]);
        let now = copies(&after, Some(&key)).unwrap();
        assert_eq!((current(&now), now[0].times, now[0].holds), (Some(0), 3, Some(true)));
        assert_eq!(after[SAVE_HEADER..SAVE_HEADER + 512], [9; 512]);
        let wrong = Key::new(vec![6; 16]);
        assert!(with_save(&block, &[9; 512], &wrong).is_err(), "nothing is written under a wrong key");
        assert!(with_save(&block, &[9; 511], &key).is_err());
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_block_or_not(mut bytes in proptest::collection::vec(any::<u8>(), 0..1500), mark in any::<bool>()) {
            if mark && bytes.len() >= 0x60 {
                bytes[..4].copy_from_slice(b".SAV");
                bytes[0x50..0x58].copy_from_slice(&[0, 2, 0, 0, 16, 0, 0, 0]);
            }
            let _ = copies(&bytes, Some(&Key::new(vec![1; 16])));
            let _ = settings(&bytes);
            bytes.extend([b'.', b'C', b'A', b'A', 1, 0, 0, 0, 0, 0, 0, 0, 0x20, 0, 0, 0]);
            let _ = settings(&bytes);
        }
    }
}
