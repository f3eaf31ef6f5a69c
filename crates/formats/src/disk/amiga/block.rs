//! Blocks of Amiga volumes: 512 bytes, numbers big-endian, each with a checksum.

use crate::num::be32;
use crate::time;

/// Bytes of a block.
pub(super) const BLOCK: usize = 512;
/// Where things stand in header blocks.
pub(super) mod at {
    pub const TYPE: usize = 0;
    pub const OWN: usize = 4;
    pub const COUNT: usize = 8;
    pub const TABLE_LEN: usize = 12;
    pub const FIRST_DATA: usize = 16;
    pub const CHECKSUM: usize = 20;
    pub const TABLE: usize = 24;
    pub const MAP_FLAG: usize = 312;
    pub const MAPS: usize = 316;
    pub const PROTECTION: usize = 320;
    pub const LEN: usize = 324;
    pub const COMMENT: usize = 328;
    pub const MAP_EXTENSION: usize = 416;
    pub const DATE: usize = 420;
    pub const NAME: usize = 432;
    pub const REAL: usize = 468;
    pub const DISK_DATE: usize = 472;
    pub const BIRTH: usize = 484;
    pub const NEXT: usize = 496;
    pub const PARENT: usize = 500;
    pub const EXTENSION: usize = 504;
    pub const KIND: usize = 508;
}
/// Types of blocks.
pub(super) const HEADER: u32 = 2;
pub(super) const DATA: u32 = 8;
pub(super) const LIST: u32 = 16;
/// Kinds of entries.
pub(super) const ROOT: i32 = 1;
pub(super) const FOLDER: i32 = 2;
pub(super) const SOFT_LINK: i32 = 3;
pub(super) const FOLDER_LINK: i32 = 4;
pub(super) const FILE: i32 = -3;
pub(super) const FILE_LINK: i32 = -4;
/// Entries of a table: of names in folders, of blocks in files.
pub(super) const TABLE: usize = 72;
/// Bytes before the content in a data block of the old file system, and those of the content.
pub(super) const LEAD: usize = 24;
pub(super) const OLD_DATA: usize = BLOCK - LEAD;
/// Bytes of a name, and of a comment.
pub(super) const MOST_NAME: usize = 30;
pub(super) const MOST_COMMENT: usize = 79;
/// Bitmap pages that the root names, and blocks that one describes.
pub(super) const MAP_PAGES: usize = 25;
pub(super) const PER_MAP: u64 = 127 * 32;

/// The sum of all numbers in a block: zero if its checksum holds.
pub(super) fn sum(block: &[u8]) -> u32 {
    block.as_chunks::<4>().0.iter().fold(0, |sum: u32, b| sum.wrapping_add(u32::from_be_bytes(*b)))
}

/// Puts a number into a block.
pub(super) fn put(block: &mut [u8], at: usize, value: u32) {
    block[at..at + 4].copy_from_slice(&value.to_be_bytes());
}

/// Makes the checksum at `place` hold.
pub(super) fn seal(block: &mut [u8], place: usize) {
    put(block, place, 0);
    let sum = sum(block);
    put(block, place, 0u32.wrapping_sub(sum));
}

/// The kind of an entry.
pub(super) fn kind(block: &[u8]) -> i32 {
    be32(block, at::KIND) as i32
}

/// A text that begins with its length; at most `most` bytes.
pub(super) fn counted(block: &[u8], place: usize, most: usize) -> &[u8] {
    let len = usize::from(block[place]).min(most);
    &block[place + 1..place + 1 + len]
}

/// Bytes of ISO 8859-1 as text.
pub(super) fn latin(bytes: &[u8]) -> String {
    bytes.iter().map(|b| if *b == b'/' { '_' } else { char::from(*b) }).collect()
}

/// Text as bytes of ISO 8859-1, if it has them all.
pub(super) fn to_latin(text: &str) -> Option<Vec<u8>> {
    text.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect()
}

/// Seconds from 1970 to 1978-01-01, where the Amiga's days begin.
fn epoch() -> i64 {
    time::seconds((1978, 1, 1), (0, 0, 0))
}

/// Days since 1978, minutes and fiftieths of a second, as seconds since 1970; `None` for what is no date.
pub(super) fn moment(block: &[u8], place: usize) -> Option<i64> {
    let [days, minutes, ticks] = [0, 4, 8].map(|o| i64::from(be32(block, place + o)));
    (days < 100_000 && minutes < 1440 && ticks < 3000).then(|| epoch() + days * 86_400 + minutes * 60 + ticks / 50)
}

/// The other way round.
pub(super) fn put_moment(block: &mut [u8], place: usize, seconds: i64) {
    let since = (seconds - epoch()).max(0);
    put(block, place, (since / 86_400) as u32);
    put(block, place + 4, (since % 86_400 / 60) as u32);
    put(block, place + 8, (since % 60 * 50) as u32);
}

/// A letter as names are compared: volumes of the international kind know all letters of ISO 8859-1.
fn upper(byte: u8, is_international: bool) -> u8 {
    match byte {
        b'a'..=b'z' => byte - 32,
        0xe0..=0xfe if is_international && byte != 0xf7 => byte - 32,
        _ => byte,
    }
}

/// The slot of a folder's table that a name belongs to.
pub(super) fn slot(name: &[u8], is_international: bool) -> usize {
    let start = name.len() as u32;
    let hash = name.iter().fold(start, |h, b| (h * 13 + u32::from(upper(*b, is_international))) & 0x7ff);
    hash as usize % TABLE
}

/// Protection bits as they are listed: the first four are shown when set, the last four when clear.
pub fn protection(bits: u32) -> String {
    let letters = [
        (7, 'h', true),
        (6, 's', true),
        (5, 'p', true),
        (4, 'a', true),
        (3, 'r', false),
        (2, 'w', false),
        (1, 'e', false),
        (0, 'd', false),
    ];
    letters.iter().map(|(bit, letter, when)| if (bits >> bit & 1 == 1) == *when { *letter } else { '-' }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_worked_out_by_hand() {
        // "s": length 1, 1 * 13 + 0x53 = 96, modulo 72.
        assert_eq!(slot(b"s", false), 24);
        assert_eq!(slot(b"S", false), 24);
        // "ab": (2 * 13 + 65) * 13 + 66 = 1249, modulo 72.
        assert_eq!(slot(b"ab", false), 25);
        assert_ne!(slot(b"\xe9", false), slot(b"\xc9", false));
        assert_eq!(slot(b"\xe9", true), slot(b"\xc9", true));
        assert_eq!((protection(0), protection(0x12)), ("----rwed".into(), "---arw-d".into()));
        let mut block = [0; 12];
        put_moment(&mut block, 0, time::seconds((1978, 1, 2), (1, 2, 3)));
        assert_eq!(block, [0, 0, 0, 1, 0, 0, 0, 62, 0, 0, 0, 150]);
        assert_eq!(moment(&block, 0), Some(time::seconds((1978, 1, 2), (1, 2, 3))));
    }
}
