//! Files with the content of save memory: plain, or as emulators lay it out. docs/formats/save.md.

use super::order::{swap_pairs, swap_words};
use super::shape::uniform;
use decanter_core::rom::{Lanes, SaveKind, SaveMemory};
use decanter_core::{Error, Result};
use std::ops::Range;

/// The largest save file.
pub const MOST_SAVE: u64 = 32 << 20;
/// Sizes that save memory comes in, in bytes, with its kinds.
pub const SIZES: [(u64, &str); 17] = [
    (128, "EEPROM"),
    (256, "EEPROM"),
    (512, "EEPROM or MBC2 RAM"),
    (1 << 10, "EEPROM"),
    (2 << 10, "EEPROM or SRAM"),
    (4 << 10, "SRAM"),
    (8 << 10, "EEPROM or SRAM"),
    (16 << 10, "SRAM"),
    (32 << 10, "SRAM"),
    (64 << 10, "SRAM, EEPROM or flash"),
    (96 << 10, "SRAM of three banks"),
    (128 << 10, "SRAM, EEPROM or flash"),
    (256 << 10, "SRAM or flash"),
    (512 << 10, "flash"),
    (1 << 20, "flash"),
    (8 << 20, "flash"),
    (32 << 20, "NAND flash"),
];
/// Bytes of a clock's registers that several emulators put after the save: with a time stamp of 32 or 64 bits, and
/// that of the Advance.
const CLOCKS: [u64; 3] = [48, 44, 16];
/// Bytes of a file with every kind of save memory of a Nintendo 64, and where each stands.
const COMBINED: u64 = 0x4_8800;
const PARTS: [(&str, Range<usize>); 7] = [
    ("eeprom", 0..0x800),
    ("pak1", 0x800..0x8800),
    ("pak2", 0x8800..0x1_0800),
    ("pak3", 0x1_0800..0x1_8800),
    ("pak4", 0x1_8800..0x2_0800),
    ("sram", 0x2_0800..0x2_8800),
    ("flash", 0x2_8800..0x4_8800),
];

/// How a file holds the content of save memory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Layout {
    /// It is that, and nothing else.
    Plain,
    /// The registers of a clock follow.
    Clock(u64),
    /// Every byte takes two: memory of 8 bits on a bus of 16, with what stands between.
    Wide {
        /// Whether the content stands at odd offsets.
        is_odd: bool,
    },
    /// Every kind of memory of a Nintendo 64 in one file.
    Combined,
    /// Nothing but bytes of one value follows.
    Padded(u8),
    /// It repeats to fill the file.
    Repeated,
    /// The end is left out.
    Short,
}

/// What a file holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holder {
    /// How.
    pub layout: Layout,
    /// Bytes of the memory.
    pub size: u64,
}

/// What a file may be, given the memory it should be of: the likeliest first. Without one every size counts.
pub fn holders(file: &[u8], memory: Option<&SaveMemory>) -> Vec<Holder> {
    let len = file.len() as u64;
    if memory.is_some_and(|m| m.kind == SaveKind::None) {
        return Vec::new();
    }
    let known: Vec<u64> = match memory {
        Some(memory) if !memory.sizes.is_empty() => memory.sizes.clone(),
        _ => SIZES.iter().map(|(size, _)| *size).collect(),
    };
    let mut found = Vec::new();
    if let Some(&size) = known.iter().find(|s| **s == len) {
        found.push(Holder { layout: Layout::Plain, size });
    }
    if len == COMBINED {
        found.push(Holder { layout: Layout::Combined, size: len });
    }
    let may_have_clock = memory.is_none_or(|m| m.clock);
    let clock = CLOCKS.iter().find_map(|&clock| Some((clock, known.iter().find(|s| **s + clock == len)?)));
    if let Some((clock, &size)) = clock.filter(|_| may_have_clock) {
        found.push(Holder { layout: Layout::Clock(clock), size });
    }
    if let (Some(is_odd), Some(&size)) = (lanes(file, memory), known.iter().find(|s| **s * 2 == len)) {
        // Where only one lane is used, that says more than the length.
        let wide = Holder { layout: Layout::Wide { is_odd }, size };
        let at = if memory.is_some_and(|m| m.lanes != Lanes::All) { 0 } else { found.len() };
        found.insert(at, wide);
    }
    if memory.is_some() && found.is_empty() {
        for &size in known.iter().rev().filter(|s| **s < len) {
            let (inside, rest) = file.split_at(size as usize);
            let repeats = len.is_multiple_of(size) && rest.chunks(inside.len()).all(|piece| piece == inside);
            if repeats && !uniform(file) {
                found.push(Holder { layout: Layout::Repeated, size });
            } else if uniform(rest) && matches!(rest[0], 0 | 0xff) {
                found.push(Holder { layout: Layout::Padded(rest[0]), size });
            }
        }
        if let Some(&size) = known.iter().find(|s| **s > len).filter(|_| len > 0 && found.is_empty()) {
            found.push(Holder { layout: Layout::Short, size });
        }
    }
    found
}

/// Whether only every second byte says anything: at odd offsets or at even ones.
fn lanes(file: &[u8], memory: Option<&SaveMemory>) -> Option<bool> {
    let even: Vec<u8> = file.iter().copied().step_by(2).collect();
    let odd: Vec<u8> = file.iter().copied().skip(1).step_by(2).collect();
    let asked = memory.map(|m| m.lanes);
    match (uniform(&even), uniform(&odd)) {
        // An empty save: only the memory itself can tell.
        (true, true) => match asked {
            Some(Lanes::Odd) => Some(true),
            Some(Lanes::Even) => Some(false),
            _ => None,
        },
        (true, false) => Some(true),
        (false, true) => Some(false),
        _ if even == odd => Some(true),
        _ => None,
    }
}

/// The parts of a combined file, by name.
pub fn parts() -> impl Iterator<Item = (&'static str, Range<usize>)> {
    PARTS.iter().cloned()
}

/// The part to take of a combined file: the one named, or the one that the memory is.
///
/// # Errors
/// [`Error::Usage`] with the names when there is no such part, or none is said and none follows.
fn part(name: Option<&str>, memory: Option<&SaveMemory>) -> Result<Range<usize>> {
    let names = || PARTS.iter().map(|(n, _)| *n).collect::<Vec<_>>().join(", ");
    let wanted = name.or_else(|| match memory.map(|m| m.kind) {
        Some(SaveKind::Eeprom) => Some("eeprom"),
        Some(SaveKind::Sram) => Some("sram"),
        Some(SaveKind::Flash) => Some("flash"),
        _ => None,
    });
    let Some(wanted) = wanted else {
        return Err(Error::Usage(format!("the file holds several memories: say which with --part ({})", names())));
    };
    let found = PARTS.iter().find(|(n, _)| *n == wanted).map(|(_, range)| range.clone());
    found.ok_or_else(|| Error::Usage(format!("there is no part \"{wanted}\": there are {}", names())))
}

/// Order of the bytes in words of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Swap {
    /// As in the memory.
    #[default]
    None,
    /// Swapped in pairs.
    Pairs,
    /// Reversed in fours.
    Words,
}

impl Swap {
    /// Swaps; it is its own inverse.
    pub fn apply(self, bytes: &mut [u8]) {
        match self {
            Self::None => {}
            Self::Pairs => swap_pairs(bytes),
            Self::Words => swap_words(bytes),
        }
    }
}

/// Takes the content of the memory out of a file.
///
/// # Errors
/// [`Error::Usage`] when a combined file's part is not said.
pub fn take(file: &[u8], holder: &Holder, name: Option<&str>, memory: Option<&SaveMemory>) -> Result<Vec<u8>> {
    let size = holder.size as usize;
    Ok(match &holder.layout {
        Layout::Plain | Layout::Clock(_) | Layout::Padded(_) | Layout::Repeated => file[..size].to_vec(),
        Layout::Wide { is_odd } => file.iter().copied().skip(usize::from(*is_odd)).step_by(2).collect(),
        Layout::Combined => {
            let bytes = &file[part(name, memory)?];
            // A smaller memory stands at the beginning of its part.
            let size = memory.and_then(|m| m.sizes.first()).map_or(bytes.len(), |s| (*s as usize).min(bytes.len()));
            bytes[..if name.is_none_or(|n| !n.starts_with("pak")) { size } else { bytes.len() }].to_vec()
        }
        Layout::Short => {
            let mut bytes = file.to_vec();
            bytes.resize(size, 0xff);
            bytes
        }
    })
}

/// The file with other content of the memory in it.
///
/// # Errors
/// [`Error::Usage`] when a combined file's part is not said, or the content does not fit.
pub fn put(
    file: &[u8],
    holder: &Holder,
    name: Option<&str>,
    memory: Option<&SaveMemory>,
    content: &[u8],
) -> Result<Vec<u8>> {
    let mut out = file.to_vec();
    let fits = |room: usize| {
        if content.len() <= room {
            return Ok(());
        }
        Err(Error::Usage(format!("the save has {} bytes, there is room for {room}", content.len())))
    };
    match &holder.layout {
        Layout::Wide { is_odd } => {
            fits(file.len() / 2)?;
            let both = file.iter().step_by(2).eq(file.iter().skip(1).step_by(2)) && !uniform(file);
            for (pair, &byte) in out.chunks_exact_mut(2).zip(content) {
                pair[usize::from(*is_odd)] = byte;
                if both {
                    pair[usize::from(!*is_odd)] = byte;
                }
            }
        }
        Layout::Combined => {
            let range = part(name, memory)?;
            fits(range.len())?;
            out[range.start..range.start + content.len()].copy_from_slice(content);
        }
        Layout::Repeated => {
            fits(holder.size as usize)?;
            out.iter_mut().zip(content.iter().cycle()).for_each(|(slot, byte)| *slot = *byte);
        }
        Layout::Short => {
            out = content.to_vec();
            fits(holder.size as usize)?;
        }
        Layout::Plain | Layout::Clock(_) | Layout::Padded(_) => {
            fits(holder.size as usize)?;
            out[..content.len()].copy_from_slice(content);
        }
    }
    Ok(out)
}

/// Content brought to a size: longer with bytes of 0xff, shorter only if nothing but bytes of one value is cut.
///
/// # Errors
/// [`Error::Unreadable`] when something would be lost.
pub fn resized(content: &[u8], size: u64) -> Result<Vec<u8>> {
    let mut bytes = content.to_vec();
    if let Some(rest) = content.get(size as usize..).filter(|r| !r.is_empty())
        && !(uniform(rest) && matches!(rest[0], 0 | 0xff))
    {
        let at = rest.iter().position(|b| *b != rest[0]).unwrap_or(0) as u64 + size;
        return Err(Error::Unreadable {
            why: format!(
                "it has {} bytes, the memory {size}, and what would be cut is in use (at {at:#x})",
                content.len()
            ),
        });
    }
    bytes.resize(size as usize, 0xff);
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn memory(kind: SaveKind, sizes: &[u64]) -> SaveMemory {
        SaveMemory::new(kind, sizes, "test")
    }

    fn noise(len: usize) -> Vec<u8> {
        (0..len as u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 9) as u8).collect()
    }

    #[test]
    fn layouts_are_told_apart() {
        let sram = memory(SaveKind::Sram, &[8192]);
        let first = |file: &[u8], m: &SaveMemory| holders(file, Some(m)).first().map(|h| h.layout.clone());
        let save = noise(8192);
        assert_eq!(first(&save, &sram), Some(Layout::Plain));
        let timed = [save.clone(), noise(9000)[8500..8544].to_vec()].concat();
        assert_eq!(first(&timed, &sram), None, "there is no clock");
        let clock = SaveMemory { clock: true, ..sram.clone() };
        assert_eq!(first(&timed, &clock), Some(Layout::Clock(44)));
        assert_eq!(first(&[save.clone(), save.clone()].concat(), &sram), Some(Layout::Repeated));
        assert_eq!(first(&[save.clone(), vec![0xff; 100]].concat(), &sram), Some(Layout::Padded(0xff)));
        assert_eq!(first(&save[..100], &sram), Some(Layout::Short));
        assert_eq!(first(&[save.clone(), noise(300)[7..].to_vec()].concat(), &sram), None);
        let wide: Vec<u8> = save.iter().flat_map(|&b| [0xff, b]).collect();
        assert_eq!(first(&wide, &sram), Some(Layout::Wide { is_odd: true }));
        assert_eq!(holders(&vec![1; COMBINED as usize], None)[0].layout, Layout::Combined);
    }

    #[test]
    fn what_is_put_in_comes_out() {
        let sram = memory(SaveKind::Sram, &[8192]);
        let (old, new) = (noise(8192), noise(9000)[808..].to_vec());
        let wide: Vec<u8> = old.iter().flat_map(|&b| [0, b]).collect();
        let twice = [old.clone(), old.clone()].concat();
        for file in [old.clone(), wide, twice, [old.clone(), vec![0; 64]].concat()] {
            let holder = holders(&file, Some(&sram)).remove(0);
            assert_eq!(take(&file, &holder, None, Some(&sram)).unwrap(), old);
            let put = put(&file, &holder, None, Some(&sram), &new).unwrap();
            assert_eq!(put.len(), file.len());
            let again = holders(&put, Some(&sram)).remove(0);
            assert_eq!(take(&put, &again, None, Some(&sram)).unwrap(), new);
        }
        let combined = noise(COMBINED as usize);
        let holder = holders(&combined, None).remove(0);
        let put = put(&combined, &holder, Some("pak2"), None, &vec![7; 0x8000]).unwrap();
        assert!(put[0x8800..0x1_0800].iter().all(|&b| b == 7) && put[..0x8800] == combined[..0x8800]);
        assert!(take(&combined, &holder, None, None).is_err(), "which part?");
    }

    #[test]
    fn nothing_that_is_in_use_is_cut() {
        assert_eq!(resized(&[1, 2, 0xff, 0xff], 2).unwrap(), [1, 2]);
        assert!(resized(&[1, 2, 3, 0xff], 2).is_err());
        assert_eq!(resized(&[1], 3).unwrap(), [1, 0xff, 0xff]);
    }
}
