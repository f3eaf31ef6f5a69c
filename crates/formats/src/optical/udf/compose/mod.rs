//! A UDF 1.02 volume beside another file system: both describe the same files, in the same sectors.
//!
//! | sectors | content |
//! | ---: | --- |
//! | 19 to 21 | recognition: BEA01, NSR02, TEA01 |
//! | 32 to 47, 48 to 63 | volume descriptors, and their reserve |
//! | 64, 65 | integrity descriptor, terminator |
//! | 256, last | anchors |
//! | 257 to the last but one | the partition: file set, file entries, folders; then whatever the other file system has |

mod entry;
mod fields;
mod volume;

use crate::arranged::Arranged;
use decanter_core::SECTOR;
pub(crate) use volume::anchor;

/// First sector of the partition.
pub(crate) const PARTITION: u64 = 257;
/// Where the three recognition structures stand.
const RECOGNITION: u64 = 19;
const MAIN: u64 = 32;
const RESERVE: u64 = 48;
const SEQUENCE_SECTORS: u32 = 16;
const INTEGRITY: u64 = 64;
const ANCHOR: u64 = 256;
/// Bytes of an anchor (ECMA-167, 3/10.2).
const ANCHOR_LEN: usize = 512;
/// Blocks of the file set and what ends it.
const FILE_SET: u64 = 2;

/// A volume in the making.
pub(crate) struct Bridge<'a> {
    /// Volume identifier.
    label: &'a str,
    /// Its folders and files.
    tree: &'a Arranged,
}

impl<'a> Bridge<'a> {
    /// One of this name with these files.
    pub(crate) fn new(label: &'a str, tree: &'a Arranged) -> Self {
        Self { label, tree }
    }

    /// Blocks that file set, entries and folders take from [`PARTITION`] on.
    pub(crate) fn blocks(&self) -> u64 {
        let folders: u64 = (0..self.tree.folders.len()).map(|f| self.folder_blocks(f)).sum();
        FILE_SET + folders + self.tree.files.len() as u64
    }

    /// Blocks of a folder: its entry, and its names.
    fn folder_blocks(&self, folder: usize) -> u64 {
        1 + self.folder_len(folder).div_ceil(SECTOR)
    }

    /// The block of each folder's entry, then of each file's.
    fn places(&self) -> (Vec<u64>, Vec<u64>) {
        let mut next = FILE_SET;
        let mut folders = Vec::new();
        for folder in 0..self.tree.folders.len() {
            folders.push(next);
            next += self.folder_blocks(folder);
        }
        let files = (next..).take(self.tree.files.len()).collect();
        (folders, files)
    }

    /// Hands every sector to `put`, but for those of files, which begin at `sectors`; `total` is the number of sectors of
    /// the whole image.
    pub(crate) fn write(&self, sectors: &[u64], total: u64, put: &mut dyn FnMut(u64, &[u8])) {
        for (at, id) in (RECOGNITION..).zip([b"BEA01", b"NSR02", b"TEA01"]) {
            put(at, &[&[0][..], id, &[1]].concat());
        }
        // All but what stands before it and the last anchor.
        let blocks = total - 1 - PARTITION;
        for start in [MAIN, RESERVE] {
            for (at, bytes) in (start..).zip(self.sequence(start, blocks)) {
                put(at, &bytes);
            }
        }
        put(INTEGRITY, &self.integrity(blocks));
        put(INTEGRITY + 1, &volume::terminator(INTEGRITY + 1));
        put(ANCHOR, &anchor(ANCHOR));
        let (folders, files) = self.places();
        put(PARTITION, &self.file_set(folders[0]));
        put(PARTITION + 1, &volume::terminator(1));
        for (index, &block) in folders.iter().enumerate() {
            put(PARTITION + block, &self.folder_entry(index, block));
            put(PARTITION + block + 1, &self.folder_bytes(index, &folders, &files));
        }
        for (index, (&block, &sector)) in files.iter().zip(sectors).enumerate() {
            put(PARTITION + block, &self.file_entry(index, block, sector - PARTITION));
        }
    }
}
