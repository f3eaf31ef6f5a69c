//! Texts, dates and names as the standard stores them, and the tag that closes a descriptor.

use crate::optical::udf::descriptor::{crc_of, sum_of};
use crate::optical::udf::raw::{Charset, EntityId, Tag, Timestamp};
use zerocopy::{FromBytes, FromZeros, IntoBytes};

/// Revision, as descriptors give it.
pub(super) const REVISION: u16 = 0x0102;
/// Version of descriptors: that of ECMA-167's second edition, which revision 1.02 follows.
const DESCRIPTORS: u16 = 2;
/// What an entity id names.
const MAKER: &[u8] = b"*Decanter";

/// The one set of characters (UDF 1.02, 2.1.2).
pub(super) fn charset() -> Charset {
    let mut own = Charset::new_zeroed();
    let name = b"OSTA Compressed Unicode";
    own.information[..name.len()].copy_from_slice(name);
    own
}

/// An entity id with its suffix.
pub(super) fn entity(id: &[u8], suffix: &[u8]) -> EntityId {
    let mut own = EntityId::new_zeroed();
    own.id[..id.len()].copy_from_slice(id);
    own.suffix[..suffix.len()].copy_from_slice(suffix);
    own
}

/// Whoever wrote this.
pub(super) fn maker() -> EntityId {
    entity(MAKER, &[])
}

/// Which standard the volume follows, and that nothing may be written to it (UDF 1.02, 2.1.4.3).
pub(super) fn domain() -> EntityId {
    entity(b"*OSTA UDF Compliant", &[&REVISION.to_le_bytes()[..], &[3]].concat())
}

/// A name in OSTA compressed Unicode: one byte a character where that is enough.
pub(super) fn identifier(name: &str) -> Vec<u8> {
    let narrow: Option<Vec<u8>> = name.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
    match narrow {
        Some(bytes) => [&[8][..], &bytes].concat(),
        None => [16].into_iter().chain(name.encode_utf16().flat_map(u16::to_be_bytes)).collect(),
    }
}

/// A text in a field of `N` bytes whose last one is the length used, cut to what fits.
pub(super) fn dstring<const N: usize>(text: &str) -> [u8; N] {
    let mut bytes = identifier(text);
    // Two bytes a character stay together behind the one that says so.
    let room = if bytes[0] == 16 { (N - 2) / 2 * 2 + 1 } else { N - 1 };
    bytes.truncate(room);
    let mut field = [0; N];
    field[..bytes.len()].copy_from_slice(&bytes);
    field[N - 1] = bytes.len() as u8;
    field
}

/// Type 1: local time, of a zone that is zero minutes away from UTC.
pub(super) fn date(seconds: Option<i64>) -> Timestamp {
    let ((year, month, day), (hour, minute, second)) = crate::time::date(seconds.unwrap_or(0));
    let (zone, year) = (0x1000.into(), (year as i16 as u16).into());
    Timestamp { zone, year, month, day, hour, minute, second, fractions: [0; 3] }
}

/// A descriptor with its tag (ECMA-167, 3/7.2) in front, whose sums are those of the rest. `bytes` begin with room for it.
pub(super) fn sealed(id: u16, location: u64, mut bytes: Vec<u8>) -> Vec<u8> {
    let (own, rest) = bytes.split_at_mut(size_of::<Tag>());
    let mut tag = Tag::new_zeroed();
    tag.id = id.into();
    tag.version = DESCRIPTORS.into();
    tag.crc = crc_of(rest).into();
    tag.crc_len = (rest.len() as u16).into();
    tag.location = (location as u32).into();
    tag.checksum = sum_of(&tag);
    own.copy_from_slice(tag.as_bytes());
    bytes
}

/// An empty structure to fill in.
pub(super) fn blank<T: FromBytes>() -> T {
    T::new_zeroed()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_narrow_where_that_is_enough() {
        assert_eq!(identifier("Kelp\u{e9}"), b"\x08Kelp\xe9");
        assert_eq!(identifier("\u{6f6e}x"), b"\x10\x6f\x6e\0x");
        assert_eq!(dstring::<8>("pier"), *b"\x08pier\0\0\x05");
        assert_eq!(dstring::<8>("gullwing"), *b"\x08gullwi\x07", "cut to seven bytes");
        assert_eq!(dstring::<8>("\u{6f6e}\u{6f6e}\u{6f6e}\u{6f6e}"), *b"\x10\x6f\x6e\x6f\x6e\x6f\x6e\x07");
        assert_eq!(dstring::<7>("\u{6f6e}\u{6f6e}\u{6f6e}"), *b"\x10\x6f\x6e\x6f\x6e\0\x05", "no half of a character");
    }

    /// The tag of a terminating descriptor in sector 65, counted by hand.
    #[test]
    fn a_tag_has_these_bytes() {
        let bytes = sealed(8, 65, vec![0; 512]);
        // 8 + 2 + 0xf0 + 1 + 65, modulo 256; a CRC from zero over zeros is zero.
        assert_eq!(bytes[..16], [8, 0, 2, 0, 0x3c, 0, 0, 0, 0, 0, 0xf0, 1, 65, 0, 0, 0]);
    }

    #[test]
    fn a_date_has_these_bytes() {
        let seconds = crate::time::seconds((1998, 3, 14), (9, 26, 53));
        assert_eq!(date(Some(seconds)).as_bytes(), [0, 0x10, 0xce, 7, 3, 14, 9, 26, 53, 0, 0, 0]);
    }
}
