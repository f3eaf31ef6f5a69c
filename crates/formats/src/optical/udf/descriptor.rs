//! What all descriptors share: the tag (ECMA-167, 3/7.2), OSTA text, dates, allocation descriptors.

use super::ID;
use super::raw::{BlockAddress, ExtendedAd, LongAd, ShortAd, Tag, Timestamp};
use crate::raw::Layout;
use crc::{CRC_16_XMODEM, Crc, Table};
use decanter_core::{Error, Result};
use std::mem::offset_of;
use zerocopy::IntoBytes;

/// Tag identifiers (ECMA-167, 3/7.2.1 and 4/7.2.1).
pub(super) mod tag {
    pub const PRIMARY: u16 = 1;
    pub const ANCHOR: u16 = 2;
    pub const POINTER: u16 = 3;
    pub const INFORMATION: u16 = 4;
    pub const PARTITION: u16 = 5;
    pub const LOGICAL_VOLUME: u16 = 6;
    pub const UNALLOCATED: u16 = 7;
    pub const TERMINATING: u16 = 8;
    pub const INTEGRITY: u16 = 9;
    pub const FILE_SET: u16 = 256;
    pub const FILE_IDENTIFIER: u16 = 257;
    pub const ALLOCATION_EXTENT: u16 = 258;
    pub const INDIRECT: u16 = 259;
    pub const TERMINAL: u16 = 260;
    pub const FILE_ENTRY: u16 = 261;
    pub const EXTENDED_FILE_ENTRY: u16 = 266;
}

/// The structure that `bytes` at byte `offset` begin with, and what follows it.
pub(super) fn split<'a, T: Layout>(what: &str, bytes: &'a [u8], offset: u64) -> Result<(&'a T, &'a [u8])> {
    crate::raw::split(ID, what, bytes, offset)
}

/// The sum that a tag's own checksum has to be.
pub(super) fn sum_of(tag: &Tag) -> u8 {
    let bytes = tag.as_bytes();
    bytes.iter().enumerate().filter(|(i, _)| *i != offset_of!(Tag, checksum)).fold(0, |s, (_, b)| s.wrapping_add(*b))
}

/// The tag's identifier, if its checksum and the CRC of what follows hold. `offset` is for the error.
pub(super) fn check(bytes: &[u8], offset: u64) -> Result<u16> {
    let (tag, rest) = split::<Tag>("a descriptor", bytes, offset)?;
    if sum_of(tag) != tag.checksum {
        return Err(Error::malformed(ID, "the checksum of a descriptor's tag does not fit", offset + 4));
    }
    let id = tag.id.get();
    if rest.get(..tag.crc_len.get().into()).is_none_or(|covered| crc_of(covered) != tag.crc.get()) {
        return Err(Error::malformed(ID, format!("the CRC of a descriptor (tag {id}) does not fit"), offset + 8));
    }
    Ok(id)
}

static CRC: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&CRC_16_XMODEM);

/// CRC of ECMA-167, 3/7.2.6: x^16 + x^12 + x^5 + 1, from zero, high bit first.
pub(super) fn crc_of(bytes: &[u8]) -> u16 {
    CRC.checksum(bytes)
}

/// OSTA compressed Unicode (UDF 2.60, 2.1.1): a byte 8 or 16, then characters of so many bits, high byte first.
pub(super) fn text(bytes: &[u8]) -> String {
    match bytes.split_first() {
        Some((8 | 254, rest)) => rest.iter().map(|&b| char::from(b)).collect(),
        Some((16 | 255, rest)) => {
            let units = rest.chunks_exact(2).map(|p| u16::from_be_bytes([p[0], p[1]]));
            char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
        }
        _ => String::new(),
    }
}

/// A text in a field of fixed size whose last byte is the length used (ECMA-167, 1/7.2.12).
pub(super) fn dstring(field: &[u8]) -> String {
    let len = field.last().map_or(0, |&l| usize::from(l)).min(field.len().saturating_sub(1));
    text(&field[..len]).trim_end_matches('\0').to_owned()
}

/// Seconds since 1970 of a timestamp (ECMA-167, 1/7.3).
pub(super) fn date(t: &Timestamp) -> Option<i64> {
    if !(1..=12).contains(&t.month) || !(1..=31).contains(&t.day) || t.hour > 23 || t.minute > 59 || t.second > 59 {
        return None;
    }
    let year = t.year.get() as i16;
    let local = crate::time::seconds((year.into(), t.month, t.day), (t.hour, t.minute, t.second));
    // Twelve bits of minutes east of Greenwich, signed; -2047 stands for "not said".
    let zone = t.zone.get();
    let minutes = i64::from(((zone << 4) as i16) >> 4);
    let has_zone = zone >> 12 == 1 && (-1440..=1440).contains(&minutes);
    Some(if has_zone { local - minutes * 60 } else { local })
}

/// A block of a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Address {
    pub(super) block: u32,
    pub(super) partition: u16,
}

/// An extent of a file, as an allocation descriptor gives it (ECMA-167, 4/14.14).
#[derive(Debug, Clone, Copy)]
pub(super) struct Allocation {
    /// 0 recorded, 1 allocated only, 2 neither, 3 the place of more descriptors.
    pub(super) kind: u8,
    pub(super) len: u32,
    pub(super) at: Address,
}

impl BlockAddress {
    pub(super) fn get(&self) -> Address {
        Address { block: self.block.get(), partition: self.partition.get() }
    }
}

impl Allocation {
    /// Two bits of kind above thirty of length.
    fn of(len: u32, at: Address) -> Self {
        Self { kind: (len >> 30) as u8, len: len & 0x3fff_ffff, at }
    }
}

impl ShortAd {
    /// For a file whose entry is in `partition`.
    pub(super) fn get(&self, partition: u16) -> Allocation {
        Allocation::of(self.len.get(), Address { block: self.block.get(), partition })
    }
}

impl LongAd {
    pub(super) fn get(&self) -> Allocation {
        Allocation::of(self.len.get(), self.at.get())
    }
}

impl ExtendedAd {
    pub(super) fn get(&self) -> Allocation {
        Allocation::of(self.len.get(), self.at.get())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of ECMA-167, 3/7.2.6: the CRC of 70 6A 77 is 3299.
    #[test]
    fn published_crc() {
        assert_eq!(crc_of(&[0x70, 0x6a, 0x77]), 0x3299);
    }

    #[test]
    fn texts_and_dates() {
        assert_eq!(text(&[8, b'f', b'o', b'g']), "fog");
        assert_eq!(text(&[16, 0x6f, 0x6e, 0, b'x']), "\u{6f6e}x");
        assert_eq!(dstring(&[8, b'a', b'b', 0, 0, 0, 0, 3]), "ab");
        // 2009-03-14 09:26:53 at +60 minutes.
        let stamp = [0x3c, 0x10, 0xd9, 0x07, 3, 14, 9, 26, 53, 0, 0, 0];
        let date = |raw: [u8; 12]| date(&zerocopy::transmute!(raw));
        assert_eq!(date(stamp), Some(1_237_022_813 - 3600));
        assert_eq!(date([0; 12]), None);
    }
}
