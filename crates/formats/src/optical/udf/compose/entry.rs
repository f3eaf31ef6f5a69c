//! Entries of files and folders, and the names in folders.

use super::Bridge;
use super::fields::{blank, date, identifier, maker, sealed};
use crate::optical::udf::descriptor::tag;
use crate::optical::udf::entry::{FILE, FOLDER};
use crate::optical::udf::raw::{FileEntry, FileIdentifier, IcbTag, LongAd, ShortAd};
use crate::optical::udf::walk::PARENT;
use decanter_core::SECTOR;
use zerocopy::IntoBytes;

/// The longest extent that is a multiple of a block.
const MOST_EXTENT: u64 = 0x3fff_f800;
/// Read and execute, for everybody (ECMA-167, 4/14.9.5).
const PERMISSIONS: u32 = 0x14a5;
/// Characteristic of a name that is a folder's (ECMA-167, 4/14.4.3).
const IS_FOLDER: u8 = 2;

/// What an entry is of.
pub(super) struct About {
    pub(super) file_type: u8,
    pub(super) links: u16,
    pub(super) modified: Option<i64>,
    pub(super) len: u64,
    pub(super) unique: u64,
}

/// The unique id of an entry; the root's is 0, others begin at 16 (UDF 1.02, 3.2.1.1).
pub(super) fn unique(block: u64, is_root: bool) -> u64 {
    if is_root { 0 } else { block + 16 }
}

/// Extents of so many bytes from a block on.
fn extents(first: u64, len: u64) -> Vec<ShortAd> {
    let starts = (0..len).step_by(MOST_EXTENT as usize);
    let extent = |done: u64| ShortAd {
        len: (MOST_EXTENT.min(len - done) as u32).into(),
        block: ((first + done / SECTOR) as u32).into(),
    };
    starts.map(extent).collect()
}

/// The entry in `block` of something whose bytes lie in one piece from block `first` on.
pub(super) fn entry(block: u64, about: &About, first: u64) -> Vec<u8> {
    let extents = extents(first, about.len);
    let when = date(about.modified);
    let own = FileEntry {
        icb: IcbTag { strategy: 4.into(), entries: 1.into(), file_type: about.file_type, ..blank() },
        user: u32::MAX.into(),
        group: u32::MAX.into(),
        permissions: PERMISSIONS.into(),
        links: about.links.into(),
        len: about.len.into(),
        blocks: about.len.div_ceil(SECTOR).into(),
        accessed: when,
        modified: when,
        changed: when,
        checkpoint: 1.into(),
        implementation: maker(),
        unique: about.unique.into(),
        allocation_len: (size_of_val(&extents[..]) as u32).into(),
        ..blank()
    };
    sealed(tag::FILE_ENTRY, block, [own.as_bytes(), extents.as_bytes()].concat())
}

/// Bytes of a name in a folder.
fn identifier_len(name_len: usize) -> usize {
    (size_of::<FileIdentifier>() + name_len).next_multiple_of(4)
}

/// A name in a folder: of whom the entry is in `block`.
fn file_identifier(name: &[u8], characteristics: u8, block: u64, unique: u64, location: u64) -> Vec<u8> {
    let mut icb = LongAd { len: (SECTOR as u32).into(), unique: (unique as u32).into(), ..blank() };
    icb.at.block = (block as u32).into();
    let name_len = name.len() as u8;
    let own = FileIdentifier { version: 1.into(), characteristics, name_len, entry: icb, ..blank() };
    let mut bytes = [own.as_bytes(), name].concat();
    bytes.resize(identifier_len(name.len()), 0);
    sealed(tag::FILE_IDENTIFIER, location, bytes)
}

impl Bridge<'_> {
    /// Bytes of a folder's list of names, the one of its parent included.
    pub(super) fn folder_len(&self, folder: usize) -> u64 {
        let own = &self.tree.folders[folder];
        let folders = own.folders.iter().map(|&f| &self.tree.folders[f].named.name);
        let files = own.files.iter().map(|&f| &self.tree.files[f].named.name);
        let names = folders.chain(files).map(|n| identifier_len(identifier(n).len()));
        (identifier_len(0) + names.sum::<usize>()) as u64
    }

    /// The names in a folder (ECMA-167, 4/14.4), that of its parent first. The entries of folders and files are in these
    /// blocks.
    pub(super) fn folder_bytes(&self, index: usize, folders: &[u64], files: &[u64]) -> Vec<u8> {
        let own = &self.tree.folders[index];
        let mut list = vec![(Vec::new(), IS_FOLDER | PARENT, folders[own.named.parent], own.named.parent == 0)];
        let of_folder = |&f: &usize| (identifier(&self.tree.folders[f].named.name), IS_FOLDER, folders[f], false);
        list.extend(own.folders.iter().map(of_folder));
        list.extend(own.files.iter().map(|&f| (identifier(&self.tree.files[f].named.name), 0, files[f], false)));
        let mut bytes = Vec::new();
        for (name, characteristics, block, is_root) in list {
            // The list begins in the block behind the folder's entry.
            let at = folders[index] + 1 + bytes.len() as u64 / SECTOR;
            bytes.extend(file_identifier(&name, characteristics, block, unique(block, is_root), at));
        }
        bytes
    }

    /// The entry of a folder in `block`, whose names follow in the next one.
    pub(super) fn folder_entry(&self, index: usize, block: u64) -> Vec<u8> {
        let own = &self.tree.folders[index];
        let (links, len) = (1 + own.folders.len() as u16, self.folder_len(index));
        let unique = unique(block, index == 0);
        let about = About { file_type: FOLDER, links, modified: own.named.modified, len, unique };
        entry(block, &about, block + 1)
    }

    /// The entry of a file in `block`, whose bytes lie from block `first` of the partition on.
    pub(super) fn file_entry(&self, index: usize, block: u64, first: u64) -> Vec<u8> {
        let own = &self.tree.files[index];
        let (len, unique) = (own.source.len(), unique(block, false));
        let about = About { file_type: FILE, links: 1, modified: own.named.modified, len, unique };
        entry(block, &about, first)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Counted by hand along 4/14.4: the name "kelp" of a file whose entry is in block 9.
    #[test]
    fn a_name_has_these_bytes() {
        let bytes = file_identifier(b"\x08kelp", 0, 9, 25, 4);
        assert_eq!((bytes.len(), bytes[..4].to_vec(), bytes[10]), (44, vec![1, 1, 2, 0], 28));
        let want = [&[1, 0, 0, 5][..], &[0, 8, 0, 0, 9, 0, 0, 0, 0, 0, 0, 0, 25, 0, 0, 0], &[0, 0], b"\x08kelp\0"];
        assert_eq!(bytes[16..], want.concat());
        assert_eq!(file_identifier(&[], 0x0a, 2, 0, 3).len(), 40, "the parent has no name");
    }

    #[test]
    fn an_entry_has_these_bytes() {
        let about = About { file_type: FILE, links: 1, modified: Some(0), len: 5000, unique: 25 };
        let bytes = entry(9, &about, 70);
        assert_eq!(bytes.len(), 184);
        assert_eq!(bytes[..2], [5, 1], "tag 261");
        assert_eq!((&bytes[20..28], bytes[48]), (&[4, 0, 0, 0, 1, 0, 0, 5][..], 1));
        assert_eq!(bytes[44..48], [0xa5, 0x14, 0, 0]);
        assert_eq!(bytes[56..72], [0x88, 0x13, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 0, 0, 0, 0], "5000 bytes in three blocks");
        assert_eq!((bytes[84..93].to_vec(), bytes[160]), (vec![0, 0x10, 0xb2, 7, 1, 1, 0, 0, 0], 25));
        assert_eq!(bytes[168..], [0, 0, 0, 0, 8, 0, 0, 0, 0x88, 0x13, 0, 0, 70, 0, 0, 0]);
    }

    #[test]
    fn a_long_file_lies_in_extents_of_whole_blocks() {
        let all: Vec<_> = extents(100, MOST_EXTENT * 2 + 1).iter().map(|e| (e.block.get(), e.len.get())).collect();
        let blocks = (MOST_EXTENT / SECTOR) as u32;
        assert_eq!(all, [(100, 0x3fff_f800), (100 + blocks, 0x3fff_f800), (100 + 2 * blocks, 1)]);
        assert!(extents(100, 0).is_empty());
    }
}
