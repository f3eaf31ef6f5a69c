//! The entries of a folder.

use super::inode::{Inode, Volume, flag};
use super::layout::writing;
use super::sum;
use crate::num::{le16, le32};
use decanter_core::Result;
use decanter_core::source::read_vec;

/// Bytes of a folder.
const MOST_FOLDER: u64 = 64 << 20;
/// What a checksum at the end of a block is told by: an entry of this length and this kind.
const TAIL_LEN: usize = 12;
const TAIL_KIND: u8 = 0xde;

/// An entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Entry {
    pub inode: u32,
    pub name: Vec<u8>,
    /// The kind that it says that the inode has; 0 where volumes do not say it.
    pub kind: u8,
    /// Where it begins within its list.
    pub at: usize,
}

/// A list of entries: a block, or a part of an inode.
pub(super) struct List {
    /// Number of the block within the folder.
    pub block: u64,
    pub bytes: Vec<u8>,
    pub is_inline: bool,
}

impl List {
    /// The entries that are in use, and whether the list is whole.
    pub fn entries(&self) -> (Vec<Entry>, bool) {
        let bytes = &self.bytes;
        let (mut found, mut at) = (Vec::new(), 0);
        while at < bytes.len() {
            if at + 8 > bytes.len() {
                return (found, false);
            }
            let (inode, len, name_len) = (le32(bytes, at), span(le16(bytes, at + 4)), usize::from(bytes[at + 6]));
            if len < 8 || !len.is_multiple_of(4) || at + len > bytes.len() || name_len + 8 > len {
                return (found, false);
            }
            if inode != 0 {
                let name = bytes[at + 8..at + 8 + name_len].to_vec();
                found.push(Entry { inode, name, kind: bytes[at + 7], at });
            }
            at += len;
        }
        (found, true)
    }

    /// Whether the checksum at its end holds, if it is a leaf of entries.
    pub fn has_sum(&self, seed: u32) -> bool {
        let Some(at) = self.bytes.len().checked_sub(TAIL_LEN) else { return false };
        let (own, tail) = self.bytes.split_at(at);
        tail[..8] == [0, 0, 0, 0, 12, 0, 0, TAIL_KIND] && le32(tail, 8) == sum::crc32c(seed, own)
    }
}

/// The length of an entry: 64 KiB do not fit into 16 bits.
fn span(stored: u16) -> usize {
    match stored {
        0 | 0xffff => 0x1_0000,
        len => len.into(),
    }
}

impl Volume {
    /// The lists of a folder.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn lists(&self, folder: &Inode) -> Result<Vec<List>> {
        let (content, _) = self.content(folder)?;
        let bytes = read_vec(content.as_ref(), 0, content.len(), "a folder", MOST_FOLDER)?;
        if folder.has(flag::INLINE) {
            // In an inode, a folder begins with the number of its parent, and goes on anew among the attributes.
            let parts = [bytes.get(4..60.min(bytes.len())), bytes.get(60..)];
            let parts = parts.into_iter().map(Option::unwrap_or_default).filter(|p| !p.is_empty());
            return Ok(parts.map(|p| List { block: 0, bytes: p.to_vec(), is_inline: true }).collect());
        }
        let chunks = bytes.chunks(self.layout.block_len as usize).enumerate();
        Ok(chunks.map(|(n, b)| List { block: n as u64, bytes: b.to_vec(), is_inline: false }).collect())
    }

    /// Whether a folder's lists carry checksums.
    pub fn has_sums(&self, folder: &Inode) -> bool {
        self.layout.writes(writing::SUMS) && !folder.has(flag::INLINE)
    }
}

/// Whether a name is one of the two that every folder has.
pub(super) fn is_dot(name: &[u8]) -> bool {
    matches!(name, b"." | b"..")
}
