//! Numbers, instructions and addresses of VCDIFF. RFC 3284, sections 2, 5 and 6.

use decanter_core::{Error, Result};

pub(super) const ID: &str = "vcdiff";
/// What a patch begins with: the mark, and version 0.
pub(super) const MAGIC: &[u8] = b"\xd6\xc3\xc4\0";
/// Address modes of the default table.
pub(super) const MODES: usize = 2 + NEAR + SAME;
const NEAR: usize = 4;
const SAME: usize = 3;

/// What an instruction does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Nothing,
    Add,
    Run,
    Copy,
}

/// One of the two halves of an entry of a code table. A size of 0 stands in the instructions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Half {
    pub(super) kind: Kind,
    pub(super) size: u8,
    pub(super) mode: u8,
}

const NOTHING: Half = Half { kind: Kind::Nothing, size: 0, mode: 0 };

/// 256 pairs of instructions, and how many addresses are remembered.
#[derive(Debug, Clone)]
pub(super) struct Table {
    pub(super) pairs: [[Half; 2]; 256],
    pub(super) near: usize,
    pub(super) same: usize,
}

impl Table {
    /// The one that everybody knows.
    pub(super) fn standard() -> Self {
        let half = |kind, size: usize, mode: usize| Half { kind, size: size as u8, mode: mode as u8 };
        let mut pairs = vec![[half(Kind::Run, 0, 0), NOTHING]];
        pairs.extend((0..=17).map(|size| [half(Kind::Add, size, 0), NOTHING]));
        for mode in 0..MODES {
            let sizes = std::iter::once(0).chain(4..=18);
            pairs.extend(sizes.map(|size| [half(Kind::Copy, size, mode), NOTHING]));
        }
        for mode in 0..MODES {
            let most = if mode < 6 { 6 } else { 4 };
            for add in 1..=4 {
                pairs.extend((4..=most).map(|copy| [half(Kind::Add, add, 0), half(Kind::Copy, copy, mode)]));
            }
        }
        pairs.extend((0..MODES).map(|mode| [half(Kind::Copy, 4, mode), half(Kind::Add, 1, 0)]));
        let mut all = [[NOTHING; 2]; 256];
        all.iter_mut().zip(pairs).for_each(|(slot, pair)| *slot = pair);
        Self { pairs: all, near: NEAR, same: SAME }
    }

    /// As it stands in a patch, 1,536 bytes: kinds, sizes and modes, each first of the first halves, then of the second.
    pub(super) fn bytes(&self) -> Vec<u8> {
        let column = |read: &dyn Fn(&Half) -> u8, side: usize| -> Vec<u8> {
            self.pairs.iter().map(|pair| read(&pair[side])).collect()
        };
        let kind = |half: &Half| half.kind as u8;
        [
            column(&kind, 0),
            column(&kind, 1),
            column(&|h| h.size, 0),
            column(&|h| h.size, 1),
            column(&|h| h.mode, 0),
            column(&|h| h.mode, 1),
        ]
        .concat()
    }

    /// A table out of its bytes.
    pub(super) fn of(bytes: &[u8], near: usize, same: usize) -> Result<Self> {
        if bytes.len() != 6 * 256 {
            return Err(Error::malformed(ID, "a code table that is not 1,536 bytes long", 0));
        }
        let mut pairs = [[NOTHING; 2]; 256];
        for (number, pair) in pairs.iter_mut().enumerate() {
            for (side, half) in pair.iter_mut().enumerate() {
                let kind = match bytes[side * 256 + number] {
                    0 => Kind::Nothing,
                    1 => Kind::Add,
                    2 => Kind::Run,
                    3 => Kind::Copy,
                    _ => {
                        return Err(Error::malformed(
                            ID,
                            "a code table with an instruction that is none",
                            number as u64,
                        ));
                    }
                };
                *half = Half { kind, size: bytes[(2 + side) * 256 + number], mode: bytes[(4 + side) * 256 + number] };
                if usize::from(half.mode) >= 2 + near + same {
                    return Err(Error::malformed(ID, "a code table with a mode that is none", number as u64));
                }
            }
        }
        Ok(Self { pairs, near, same })
    }
}

/// Addresses that are remembered.
pub(super) struct Cache {
    near: Vec<u64>,
    next: usize,
    same: Vec<u64>,
}

impl Cache {
    pub(super) fn new(near: usize, same: usize) -> Self {
        Self { near: vec![0; near], next: 0, same: vec![0; same * 256] }
    }

    fn remember(&mut self, address: u64) {
        if !self.near.is_empty() {
            self.near[self.next] = address;
            self.next = (self.next + 1) % self.near.len();
        }
        if !self.same.is_empty() {
            let at = (address % self.same.len() as u64) as usize;
            self.same[at] = address;
        }
    }

    /// The address of a copy that is made at `here`.
    pub(super) fn read(&mut self, bytes: &[u8], at: &mut usize, here: u64, mode: u8) -> Result<u64> {
        let (start, mode) = (*at, usize::from(mode));
        let wrong = || Error::malformed(ID, "a copy from a place that is not there", start as u64);
        let address = match mode {
            0 => number(bytes, at)?,
            1 => here.checked_sub(number(bytes, at)?).ok_or_else(wrong)?,
            mode if mode < 2 + self.near.len() => {
                self.near[mode - 2].checked_add(number(bytes, at)?).ok_or_else(wrong)?
            }
            mode => {
                let byte = *bytes.get(*at).ok_or_else(|| cut(*at))?;
                *at += 1;
                *self.same.get((mode - 2 - self.near.len()) * 256 + usize::from(byte)).ok_or_else(wrong)?
            }
        };
        if address >= here {
            return Err(wrong());
        }
        self.remember(address);
        Ok(address)
    }

    /// The mode that spells an address shortest, and its spelling.
    pub(super) fn write(&mut self, address: u64, here: u64) -> (usize, Vec<u8>) {
        let spelled = |value: u64| {
            let mut out = Vec::new();
            put(&mut out, value);
            out
        };
        let mut best = (0, spelled(address));
        let mut offer = |mode: usize, bytes: Vec<u8>| {
            if bytes.len() < best.1.len() {
                best = (mode, bytes);
            }
        };
        offer(1, spelled(here - address));
        for (slot, near) in self.near.iter().enumerate() {
            if let Some(distance) = address.checked_sub(*near) {
                offer(2 + slot, spelled(distance));
            }
        }
        let at = (address % self.same.len() as u64) as usize;
        if self.same[at] == address {
            offer(2 + self.near.len() + at / 256, vec![(at % 256) as u8]);
        }
        self.remember(address);
        best
    }
}

fn cut(at: usize) -> Error {
    Error::malformed(ID, "a window that is cut short", at as u64)
}

/// A number.
pub(super) fn number(bytes: &[u8], at: &mut usize) -> Result<u64> {
    let start = *at;
    let mut value = 0u64;
    loop {
        let byte = *bytes.get(*at).ok_or_else(|| cut(*at))?;
        *at += 1;
        if value >> 57 != 0 {
            return Err(Error::malformed(ID, "a number that has more than 64 bits", start as u64));
        }
        value = value << 7 | u64::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            return Ok(value);
        }
    }
}

/// Writes a number.
pub(super) fn put(out: &mut Vec<u8>, value: u64) {
    let bits = (u64::BITS - value.leading_zeros()).max(1);
    for group in (0..bits.div_ceil(7)).rev() {
        let more = if group > 0 { 0x80 } else { 0 };
        out.push((value >> (7 * group) & 0x7f) as u8 | more);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_that_of_the_standard() {
        let table = Table::standard();
        let pair = |number: usize| {
            let [first, second] = table.pairs[number];
            ((first.kind, first.size, first.mode), (second.kind, second.size, second.mode))
        };
        let none = (Kind::Nothing, 0, 0);
        // RFC 3284, section 5.6, the first and last index of each line.
        for (number, expected) in [
            (0, ((Kind::Run, 0, 0), none)),
            (1, ((Kind::Add, 0, 0), none)),
            (18, ((Kind::Add, 17, 0), none)),
            (19, ((Kind::Copy, 0, 0), none)),
            (34, ((Kind::Copy, 18, 0), none)),
            (35, ((Kind::Copy, 0, 1), none)),
            (162, ((Kind::Copy, 18, 8), none)),
            (163, ((Kind::Add, 1, 0), (Kind::Copy, 4, 0))),
            (174, ((Kind::Add, 4, 0), (Kind::Copy, 6, 0))),
            (175, ((Kind::Add, 1, 0), (Kind::Copy, 4, 1))),
            (234, ((Kind::Add, 4, 0), (Kind::Copy, 6, 5))),
            (235, ((Kind::Add, 1, 0), (Kind::Copy, 4, 6))),
            (246, ((Kind::Add, 4, 0), (Kind::Copy, 4, 8))),
            (247, ((Kind::Copy, 4, 0), (Kind::Add, 1, 0))),
            (255, ((Kind::Copy, 4, 8), (Kind::Add, 1, 0))),
        ] {
            assert_eq!(pair(number), expected, "{number}");
        }
        let again = Table::of(&table.bytes(), 4, 3).unwrap();
        assert_eq!(again.pairs, table.pairs);
    }

    #[test]
    fn numbers_are_those_of_the_standard() {
        // RFC 3284, section 2: 123456789 is BA EF 9A 15.
        let mut out = Vec::new();
        put(&mut out, 123_456_789);
        assert_eq!(out, [0xba, 0xef, 0x9a, 0x15]);
        for value in [0, 127, 128, 16_383, 16_384, u64::MAX] {
            let mut out = Vec::new();
            put(&mut out, value);
            let mut at = 0;
            assert_eq!((number(&out, &mut at).unwrap(), at), (value, out.len()));
        }
        assert!(number(&[0xff; 11], &mut 0).is_err());
        assert!(number(&[0x80], &mut 0).is_err());
    }
}
