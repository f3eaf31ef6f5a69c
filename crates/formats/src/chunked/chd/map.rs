//! The hunk map: where each hunk is and how it is packed. Version 5 packs the map itself with a Huffman code.

use super::ID;
use super::bits::{BitReader, BitWriter, width};
use super::header::Header;
use super::huffman::{Code, MAP_SYMBOLS, write_of_map};
use crate::num::{be16, be32, be64};
use decanter_core::source::{Source, read_array, read_vec};
use decanter_core::{Error, Result};

/// Hunks between two places that are known; what lies between is added up.
const STEP: usize = 64;
/// Bytes that a hunk takes in memory, and those that a map may take whatever its file's length.
const PER_HUNK: u64 = 6;
const MOST_MAP: u64 = 128 << 20;
/// Bytes before a packed map.
const MAP_HEADER: u64 = 16;

/// What a hunk is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hunk {
    /// Packed with the codec of this number.
    Packed { codec: u8, at: u64, len: u32, check: Check },
    /// As it is.
    Stored { at: u64, check: Check },
    /// These eight bytes again and again.
    Repeated([u8; 8]),
    /// The same as an earlier hunk.
    Same(u64),
    /// Bytes of the parent, from this byte on.
    Parent(u64),
    /// Zeros.
    Zeros,
}

/// A checksum of the bytes of a hunk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Check {
    None,
    Crc16(u16),
    Crc32(u32),
}

/// Kinds of hunks in a word of the map: the three upper bits. Below stand a length or a number.
pub(super) mod kind {
    pub const STORED: u32 = 4;
    pub const SAME: u32 = 5;
    pub const PARENT: u32 = 6;
    /// Lowest bit of the kind.
    pub const SHIFT: u32 = 29;
    /// Everything below.
    pub const MASK: u32 = (1 << SHIFT) - 1;
}

/// Symbols of the code of a map beyond the kinds.
mod symbol {
    pub const RLE_SMALL: u16 = 7;
    pub const RLE_LARGE: u16 = 8;
    pub const SAME_AS_LAST: u16 = 9;
    pub const SAME_AS_NEXT: u16 = 10;
    pub const PARENT_HERE: u16 = 11;
    pub const PARENT_LAST: u16 = 12;
    pub const PARENT_NEXT: u16 = 13;
}

/// The map.
pub(super) enum Map {
    /// Version 5, packed: a word and a CRC-16 a hunk, and the place of every 64th.
    Packed { words: Vec<u32>, crcs: Vec<u16>, places: Vec<u64>, hunk_len: u32, unit_len: u32 },
    /// Version 5, not packed: each hunk's place in hunks, 0 for none.
    Plain { places: Vec<u32>, hunk_len: u32, has_parent: bool },
    /// Versions 3 and 4: 16 bytes a hunk.
    Old { entries: Vec<[u8; 16]>, hunk_len: u32 },
}

impl Map {
    /// Reads the map that a header names.
    ///
    /// # Errors
    /// [`Error::Malformed`] with what is wrong and where.
    pub(super) fn read(source: &dyn Source, header: &Header) -> Result<Self> {
        let (count, at, hunk_len) = (header.hunks(), header.map_offset, header.hunk_len);
        if header.version < 5 {
            let bytes = Self::bytes(source, at, count * 16)?;
            return Ok(Self::Old { entries: bytes.as_chunks::<16>().0.to_vec(), hunk_len });
        }
        if !header.is_packed() {
            let bytes = Self::bytes(source, at, count * 4)?;
            let places = bytes.as_chunks::<4>().0.iter().map(|b| u32::from_be_bytes(*b)).collect();
            return Ok(Self::Plain { places, hunk_len, has_parent: header.parent.is_some() });
        }
        Self::read_packed(source, header)
    }

    fn bytes(source: &dyn Source, at: u64, len: u64) -> Result<Vec<u8>> {
        if at.checked_add(len).is_none_or(|end| end > source.len()) {
            let text = format!("the hunk map ({len} bytes) reaches past the end of the file ({} bytes)", source.len());
            return Err(Error::malformed(ID, text, at));
        }
        read_vec(source, at, len, "a hunk map", u64::MAX)
    }

    fn read_packed(source: &dyn Source, header: &Header) -> Result<Self> {
        let (count, at, hunk_len, unit_len) = (header.hunks(), header.map_offset, header.hunk_len, header.unit_len);
        if at.checked_add(MAP_HEADER).is_none_or(|end| end > source.len()) {
            let text = "the hunk map lies past the end of the file: it was cut short, or never finished";
            return Err(Error::malformed(ID, text, at));
        }
        let head: [u8; MAP_HEADER as usize] = read_array(source, at)?;
        let len = u64::from(be32(&head, 0));
        let first = be64(&head, 2) & 0xffff_ffff_ffff;
        let crc = be16(&head, 10);
        let [len_bits, same_bits, parent_bits] = [head[12], head[13], head[14]].map(u32::from);
        if len_bits > 24 || same_bits > 32 || parent_bits > 32 {
            return Err(Error::malformed(ID, "a hunk map with numbers of too many bits", at + 12));
        }
        // One symbol of a bit stands for one hunk; three of them may stand for 274.
        if count > len.saturating_mul(8).saturating_mul(100) {
            return Err(Error::malformed(ID, format!("a hunk map of {len} bytes for {count} hunks"), at));
        }
        // Empty drives have far more hunks than bytes; what the map takes in memory has to be in proportion nevertheless.
        let (takes, limit) = (count * PER_HUNK, MOST_MAP.saturating_add(source.len().saturating_mul(16)));
        if takes > limit {
            return Err(Error::Limit { what: "the hunk map in memory", asked: takes, limit });
        }
        let bytes = Self::bytes(source, at + MAP_HEADER, len)?;
        let mut bits = BitReader::new(&bytes);
        let damaged = |what: &str| Error::malformed(ID, format!("the hunk map is damaged: {what}"), at);
        let code = Code::read_of_map(&mut bits).ok_or_else(|| damaged("its code is none"))?;
        let mut words: Vec<u32> = Vec::with_capacity(count as usize);
        let mut last = 0;
        let symbol = |bits: &mut BitReader<'_>| code.decode(bits).ok_or_else(|| damaged("bits that are no code"));
        while (words.len() as u64) < count {
            let next = symbol(&mut bits)?;
            let times = match next {
                symbol::RLE_SMALL => 3 + usize::from(symbol(&mut bits)?),
                symbol::RLE_LARGE => 19 + (usize::from(symbol(&mut bits)?) << 4) + usize::from(symbol(&mut bits)?),
                other => {
                    last = other;
                    1
                }
            };
            words.extend(std::iter::repeat_n(u32::from(last), times.min(count as usize - words.len())));
        }
        let (mut crcs, mut places) = (Vec::with_capacity(count as usize), Vec::new());
        let (mut place, mut last_same, mut last_parent) = (first, 0u32, 0u32);
        let mut sum = Crc16::default();
        for (number, word) in words.iter_mut().enumerate() {
            if number.is_multiple_of(STEP) {
                places.push(place);
            }
            let (mut check, here, len);
            check = 0;
            let (own, value) = match *word as u16 {
                codec @ 0..=3 => {
                    len = bits.read(len_bits);
                    check = bits.read(16) as u16;
                    here = place;
                    place += u64::from(len);
                    (u32::from(codec), len)
                }
                4 => {
                    len = hunk_len;
                    check = bits.read(16) as u16;
                    here = place;
                    place += u64::from(len);
                    (kind::STORED, len)
                }
                same @ (5 | symbol::SAME_AS_LAST | symbol::SAME_AS_NEXT) => {
                    last_same = match same {
                        5 => bits.read(same_bits),
                        symbol::SAME_AS_NEXT => last_same.wrapping_add(1),
                        _ => last_same,
                    };
                    (len, here) = (0, last_same.into());
                    (kind::SAME, last_same)
                }
                parent @ (6 | symbol::PARENT_HERE | symbol::PARENT_LAST | symbol::PARENT_NEXT) => {
                    last_parent = match parent {
                        6 => bits.read(parent_bits),
                        symbol::PARENT_HERE => (number as u64 * u64::from(hunk_len) / u64::from(unit_len)) as u32,
                        symbol::PARENT_NEXT => last_parent.wrapping_add(hunk_len / unit_len),
                        _ => last_parent,
                    };
                    (len, here) = (0, last_parent.into());
                    (kind::PARENT, last_parent)
                }
                other => return Err(damaged(&format!("hunk {number} is of kind {other}"))),
            };
            if value > kind::MASK && own == kind::PARENT {
                return Err(Error::unsupported(
                    ID,
                    format!("hunk {number}: it stands behind 2^29 units of the parent"),
                ));
            }
            if value > kind::MASK {
                return Err(damaged(&format!("hunk {number} points to {value}")));
            }
            sum.hunk(own as u8, len, here, check);
            *word = own << kind::SHIFT | value;
            crcs.push(check);
        }
        if bits.is_past_end() {
            return Err(damaged("it ends too early"));
        }
        if sum.0 != crc {
            return Err(damaged(&format!("its CRC-16 is {:04x} instead of {crc:04x}", sum.0)));
        }
        if place > source.len() {
            let text = format!("the last hunk ends at {place:#x}, past the end of the file ({} bytes)", source.len());
            return Err(Error::malformed(ID, text, at));
        }
        Ok(Self::Packed { words, crcs, places, hunk_len, unit_len })
    }

    /// What hunk `number` is.
    ///
    /// # Errors
    /// [`Error::Malformed`] for entries that cannot be right.
    pub(super) fn hunk(&self, number: u64) -> Result<Hunk> {
        let index = number as usize;
        let same = |target: u64| match target < number {
            true => Ok(Hunk::Same(target)),
            false => Err(Error::malformed(ID, format!("hunk {number} is the same as the later hunk {target}"), 0)),
        };
        match self {
            Self::Packed { words, crcs, places, hunk_len, unit_len } => {
                let value = words[index] & kind::MASK;
                match words[index] >> kind::SHIFT {
                    kind::SAME => same(value.into()),
                    kind::PARENT => Ok(Hunk::Parent(u64::from(value) * u64::from(*unit_len))),
                    own => {
                        let from = index / STEP * STEP;
                        let before = words[from..index].iter().map(|w| stored_len(*w, *hunk_len));
                        let (at, check) = (places[index / STEP] + before.sum::<u64>(), Check::Crc16(crcs[index]));
                        Ok(match own {
                            kind::STORED => Hunk::Stored { at, check },
                            codec => Hunk::Packed { codec: codec as u8, at, len: value, check },
                        })
                    }
                }
            }
            Self::Plain { places, hunk_len, has_parent } => Ok(match places[index] {
                0 if *has_parent => Hunk::Parent(number * u64::from(*hunk_len)),
                0 => Hunk::Zeros,
                place => Hunk::Stored { at: u64::from(place) * u64::from(*hunk_len), check: Check::None },
            }),
            Self::Old { entries, hunk_len } => {
                let entry = &entries[index];
                let at = be64(entry, 0);
                let check = if entry[15] & 0x10 != 0 { Check::None } else { Check::Crc32(be32(entry, 8)) };
                let len = u32::from(be16(entry, 12)) | u32::from(entry[14]) << 16;
                match entry[15] & 15 {
                    1 => Ok(Hunk::Packed { codec: 0, at, len, check }),
                    2 => Ok(Hunk::Stored { at, check }),
                    3 => Ok(Hunk::Repeated(at.to_be_bytes())),
                    4 => same(at),
                    5 => Ok(Hunk::Parent(at.saturating_mul(u64::from(*hunk_len)))),
                    other => Err(Error::malformed(ID, format!("hunk {number} is of kind {other}"), 0)),
                }
            }
        }
    }
}

/// Bytes that a hunk takes in the file.
fn stored_len(word: u32, hunk_len: u32) -> u64 {
    match word >> kind::SHIFT {
        kind::SAME | kind::PARENT => 0,
        kind::STORED => hunk_len.into(),
        _ => (word & kind::MASK).into(),
    }
}

/// The CRC-16 of ITU-T V.41 (x^16 + x^12 + x^5 + 1), begun with ones.
#[derive(Clone, Copy)]
pub(super) struct Crc16(pub(super) u16);

impl Default for Crc16 {
    fn default() -> Self {
        Self(0xffff)
    }
}

/// Bytes that are taken at a time: each step waits for the one before.
const WIDE: usize = 16;

/// CRCs of single bytes, and of bytes followed by zeros.
static TABLES: std::sync::LazyLock<[[u16; 256]; WIDE]> = std::sync::LazyLock::new(|| {
    let mut tables = [[0u16; 256]; WIDE];
    for (value, entry) in tables[0].iter_mut().enumerate() {
        *entry =
            (0..8).fold((value as u16) << 8, |crc, _| if crc & 0x8000 != 0 { crc << 1 ^ 0x1021 } else { crc << 1 });
    }
    let first = tables[0];
    for step in 1..WIDE {
        let before = tables[step - 1];
        for (entry, before) in tables[step].iter_mut().zip(before) {
            *entry = before << 8 ^ first[usize::from(before >> 8)];
        }
    }
    tables
});

impl Crc16 {
    /// Goes on with these bytes.
    pub(super) fn update(&mut self, bytes: &[u8]) {
        let t = &*TABLES;
        let (wide, rest) = bytes.as_chunks::<WIDE>();
        for b in wide {
            let first = usize::from(b[0] ^ (self.0 >> 8) as u8);
            let second = usize::from(b[1] ^ self.0 as u8);
            // What does not wait for the step before is put together first.
            let others = b[2..].iter().rev().zip(t).fold(0, |sum, (byte, table)| sum ^ table[usize::from(*byte)]);
            self.0 = t[WIDE - 1][first] ^ t[WIDE - 2][second] ^ others;
        }
        for b in rest {
            self.0 = self.0 << 8 ^ t[0][usize::from((self.0 >> 8) as u8 ^ b)];
        }
    }

    /// Goes on with an entry of the map as it is unpacked: kind, length (24 bits), place (48 bits), CRC-16.
    fn hunk(&mut self, own: u8, len: u32, place: u64, check: u16) {
        let mut entry = [0; 12];
        entry[0] = own;
        entry[1..4].copy_from_slice(&len.to_be_bytes()[1..]);
        entry[4..10].copy_from_slice(&place.to_be_bytes()[2..]);
        entry[10..].copy_from_slice(&check.to_be_bytes());
        self.update(&entry);
    }

    /// Of these bytes alone.
    pub(super) fn of(bytes: &[u8]) -> u16 {
        let mut crc = Self::default();
        crc.update(bytes);
        crc.0
    }
}

/// Bytes that the packed map of `count` hunks takes at most.
pub(super) fn most_len(count: u64) -> u64 {
    64 + count * 8
}

/// A packed map for hunks that begin at `first`: a word and a CRC-16 each, in turn.
pub(super) fn write(marks: &[u32], first: u64, hunk_len: u32, unit_len: u32) -> Vec<u8> {
    let pairs = || marks.as_chunks::<2>().0.iter();
    let (mut len_bits, mut same_bits, mut parent_bits) = (0, 0, 0);
    let mut symbols: Vec<u8> = Vec::with_capacity(marks.len() / 2);
    let (mut last_same, mut last_parent) = (0, 0);
    for (number, [word, _]) in pairs().enumerate() {
        let value = word & kind::MASK;
        symbols.push(match word >> kind::SHIFT {
            kind::SAME => {
                let before = std::mem::replace(&mut last_same, value);
                match value.wrapping_sub(before) {
                    0 => symbol::SAME_AS_LAST as u8,
                    1 => symbol::SAME_AS_NEXT as u8,
                    _ => {
                        same_bits = width(value).max(same_bits);
                        kind::SAME as u8
                    }
                }
            }
            kind::PARENT => {
                let here = (number as u64 * u64::from(hunk_len) / u64::from(unit_len)) as u32;
                let before = std::mem::replace(&mut last_parent, value);
                match value {
                    v if v == here => symbol::PARENT_HERE as u8,
                    v if v == before => symbol::PARENT_LAST as u8,
                    v if v == before + hunk_len / unit_len => symbol::PARENT_NEXT as u8,
                    _ => {
                        parent_bits = width(value).max(parent_bits);
                        kind::PARENT as u8
                    }
                }
            }
            kind::STORED => kind::STORED as u8,
            codec => {
                len_bits = width(value).max(len_bits);
                codec as u8
            }
        });
    }
    let mut codes: Vec<u8> = Vec::new();
    let mut at = 0;
    while at < symbols.len() {
        let run = symbols[at..].iter().take_while(|&&s| s == symbols[at]).count();
        codes.push(symbols[at]);
        at += run;
        let mut left = run - 1;
        while left >= 3 {
            let now = left.min(19 + 255);
            if now < 19 {
                codes.extend([symbol::RLE_SMALL as u8, now as u8 - 3]);
            } else {
                codes.extend([symbol::RLE_LARGE as u8, ((now - 19) >> 4) as u8, ((now - 19) & 15) as u8]);
            }
            left -= now;
        }
        codes.extend(std::iter::repeat_n(symbols[at - 1], left));
    }
    let mut counts = [0; MAP_SYMBOLS];
    codes.iter().for_each(|&c| counts[usize::from(c)] += 1);
    let mut bits = BitWriter::default();
    let table = write_of_map(&counts, &mut bits);
    for code in codes {
        let (code, len) = table[usize::from(code)];
        bits.write(code, len);
    }
    let (mut sum, mut place) = (Crc16::default(), first);
    for ([word, check], symbol) in pairs().zip(symbols) {
        let (own, value) = (word >> kind::SHIFT, word & kind::MASK);
        let check = *check as u16;
        match own {
            kind::SAME | kind::PARENT => {
                if u32::from(symbol) == own {
                    bits.write(value, if own == kind::SAME { same_bits } else { parent_bits });
                }
                sum.hunk(own as u8, 0, value.into(), 0);
            }
            _ => {
                let len = if own == kind::STORED { hunk_len } else { value };
                if own != kind::STORED {
                    bits.write(value, len_bits);
                }
                bits.write(check.into(), 16);
                sum.hunk(own as u8, len, place, check);
                place += u64::from(len);
            }
        }
    }
    let packed = bits.finish();
    let mut bytes = (packed.len() as u32).to_be_bytes().to_vec();
    bytes.extend(&first.to_be_bytes()[2..]);
    bytes.extend(sum.0.to_be_bytes());
    bytes.extend([len_bits, same_bits, parent_bits, 0].map(|b| b as u8));
    bytes.extend(packed);
    bytes
}

/// Bytes that the hunks of these marks take in the file.
pub(super) fn stored(marks: &[u32], hunk_len: u32) -> u64 {
    marks.as_chunks::<2>().0.iter().map(|[word, _]| stored_len(*word, hunk_len)).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_check_value_of_the_crc() {
        // The well-known check value of this CRC, and a length that is no multiple of four.
        assert_eq!(Crc16::of(b"123456789"), 0x29b1);
        assert_eq!(Crc16::of(b""), 0xffff);
    }

    #[test]
    fn a_map_worked_out_by_hand() {
        // Two hunks of 5 and 6 bytes with codec 0, checks 0x1234 and 0x5678, the first at 0x100.
        let word = |len: u32| len;
        let bytes = write(&[word(5), 0x1234, word(6), 0x5678], 0x100, 4096, 512);
        // Symbol 0 alone has a code, of one bit ("0001 0001"); the other 15 have none: a run ("0001 0000 1100").
        // Then twice "0"; "101", 0x1234; "110", 0x5678.
        let body = "0001 0001 0001 0000 1100 0 0 101 0001001000110100 110 0101011001111000";
        let digits: Vec<u8> = body.bytes().filter(|b| *b != b' ').map(|b| b - b'0').collect();
        let packed: Vec<u8> =
            digits.chunks(8).map(|c| (0..8).fold(0, |byte, i| byte << 1 | c.get(i).copied().unwrap_or(0))).collect();
        assert_eq!(bytes[..4], (packed.len() as u32).to_be_bytes());
        assert_eq!(bytes[4..10], [0, 0, 0, 0, 1, 0]);
        assert_eq!(bytes[12..16], [3, 0, 0, 0]);
        assert_eq!(bytes[16..], packed);
        let first = [0, 0, 0, 5, 0, 0, 0, 0, 1, 0, 0x12, 0x34];
        let second = [0, 0, 0, 6, 0, 0, 0, 0, 1, 5, 0x56, 0x78];
        assert_eq!(bytes[10..12], Crc16::of(&[first, second].concat()).to_be_bytes());
    }
}
