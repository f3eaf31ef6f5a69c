//! Extended attributes: their checksums, and whether they stay within their room. What they mean is not looked at.

use super::super::inode::{Inode, Volume};
use super::super::layout::writing;
use super::super::sum;
use crate::num::{le16, le32};
use decanter_core::Result;

const MARK: u32 = 0xea02_0000;
/// Bytes of the head of a block of attributes.
const HEAD: usize = 32;

/// What is wrong with the attributes in an inode.
pub(super) fn in_inode(inode: &Inode) -> Option<String> {
    let list = inode.own_attributes()?;
    list_fault(list, 0)
}

/// What is wrong with a block of attributes that `users` inodes have.
pub(super) fn in_block(volume: &Volume, block: u64, users: u32) -> Result<Option<String>> {
    let mut bytes = volume.block(block, "a block of attributes")?;
    if le32(&bytes, 0) != MARK {
        return Ok(Some(format!("block {block} is no block of attributes")));
    }
    if le32(&bytes, 4) != users {
        let said = le32(&bytes, 4);
        return Ok(Some(format!("block {block} of attributes says that {said} inodes have it, and {users} do")));
    }
    if le32(&bytes, 8) != 1 {
        return Ok(Some(format!("the attributes in block {block} go on elsewhere")));
    }
    if volume.layout.writes(writing::SUMS) {
        let stored = le32(&bytes, 16);
        bytes[16..20].fill(0);
        if sum::crc32c(sum::crc32c(volume.layout.seed, &block.to_le_bytes()), &bytes) != stored {
            return Ok(Some(format!("the checksum of block {block} of attributes does not hold")));
        }
    }
    Ok(list_fault(&bytes[HEAD..], HEAD).map(|fault| format!("block {block}: {fault}")))
}

/// Follows a list; offsets of values count from `before` bytes before it.
fn list_fault(list: &[u8], before: usize) -> Option<String> {
    let (mut at, mut values) = (0, Vec::new());
    loop {
        let Some(entry) = list.get(at..at + 4) else { return Some("a list of attributes has no end".into()) };
        if entry == [0; 4] {
            break;
        }
        let name_len = usize::from(entry[0]);
        let Some(entry) = list.get(at..at + 16 + name_len) else {
            return Some("a list of attributes has no end".into());
        };
        let (from, elsewhere, len) = (usize::from(le16(entry, 2)), le32(entry, 4), le32(entry, 8) as usize);
        if elsewhere == 0 && len > 0 {
            let from = from.checked_sub(before);
            let Some(from) = from.filter(|f| f.saturating_add(len) <= list.len()) else {
                return Some("the value of an attribute lies outside".into());
            };
            values.push(from..from + len);
        }
        // The hash of its name and value; zero in inodes of older systems.
        let hash = le32(entry, 12);
        if hash != 0
            && elsewhere == 0
            && !fits(entry, values.last().filter(|_| len > 0).map(|v| &list[v.clone()]), hash)
        {
            return Some("the hash of an attribute does not hold".into());
        }
        at += (16 + name_len).next_multiple_of(4);
    }
    values.sort_by_key(|v| v.start);
    let is_in_list = values.first().is_some_and(|v| v.start < at);
    (is_in_list || values.windows(2).any(|w| w[1].start < w[0].end)).then(|| "values of attributes overlap".into())
}

/// Whether a hash is the one of this name and value, with the characters of the name signed or not.
fn fits(entry: &[u8], value: Option<&[u8]>, wanted: u32) -> bool {
    let name = &entry[16..];
    [false, true].into_iter().any(|is_signed| {
        let mut hash = 0u32;
        for byte in name {
            let byte = if is_signed { i32::from(byte.cast_signed()).cast_unsigned() } else { u32::from(*byte) };
            hash = hash.rotate_left(5) ^ byte;
        }
        let mut words = value.unwrap_or_default().to_vec();
        words.resize(words.len().next_multiple_of(4), 0);
        for word in words.as_chunks::<4>().0 {
            hash = hash.rotate_left(16) ^ u32::from_le_bytes(*word);
        }
        hash == wanted
    })
}
