//! A RomFS made of files: tables of names, data, and the tree of hashes, which pour computes in passing.

use super::ID;
use super::romfs::{self, Entry, LEVEL3_HEADER, MASTER_AT, MOST_NAMES, NONE};
use crate::package::n3ds::sha256;
use decanter_core::blueprint::{BlocksId, Blueprint, PartId};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

/// Bytes of a block that has a hash.
pub const BLOCK: u64 = 0x1000;
/// Data of each file begins at a multiple of this.
const DATA_ALIGN: u64 = 16;
/// Bytes of files that become one part of a blueprint.
const BATCH: u64 = 4 << 20;
/// Bytes of the fixed part of entries of folders and files.
const FOLDER: usize = 24;
const FILE: usize = 32;

/// A RomFS that is laid out.
pub struct RomFs {
    /// Level 3 up to the data.
    head: Vec<u8>,
    /// The files, each with the offset of its data from the beginning of level 3, in that order.
    files: Vec<(u64, SourceRef)>,
    /// Bytes of level 3.
    level3: u64,
    /// The last bytes of the header's fixed part.
    tail: [u8; 12],
}

/// The parts of a RomFS in a blueprint.
pub struct Laid {
    /// The last part of level 3, which everything late waits for.
    pub needs: PartId,
    /// The digests of level 3.
    pub blocks: BlocksId,
}

/// A folder while tables are made.
#[derive(Default)]
struct Folder {
    folders: BTreeMap<Vec<u16>, Folder>,
    files: BTreeMap<Vec<u16>, SourceRef>,
}

impl RomFs {
    /// One of these files and folders, by their paths; names are sorted by their UTF-16 units.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for two names that are the same, [`Error::Limit`].
    pub fn new(files: &[(String, SourceRef)], folders: &[String]) -> Result<Self> {
        if files.len() + folders.len() > MOST_NAMES {
            let (asked, limit) = ((files.len() + folders.len()) as u64, MOST_NAMES as u64);
            return Err(Error::Limit { what: "names in a RomFS", asked, limit });
        }
        let mut root = Folder::default();
        for path in folders {
            root.below(path);
        }
        for (path, source) in files {
            let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
            let old = root.below(folder).files.insert(name.encode_utf16().collect(), source.clone());
            if old.is_some() {
                return Err(Error::unsupported(ID, format!("\"{path}\" twice")));
            }
        }
        let mut tables = TableWriter::default();
        tables.folder(&root, 0, &[]);
        Ok(tables.finish())
    }

    /// The same with the tables of names that another RomFS had: `romfs.bin` of a folder that was extracted. `None`
    /// unless they describe exactly these files.
    pub fn with_tables(saved: &[u8], files: &[(String, SourceRef)], folders: &[String]) -> Option<Self> {
        let (ivfc, head) = saved.split_at_checked(MASTER_AT as usize)?;
        let level3 = crate::num::le64(ivfc, 0x44);
        let mut by_path: HashMap<&str, &SourceRef> = files.iter().map(|(path, s)| (path.as_str(), s)).collect();
        let whole: SourceRef = Arc::new(Bytes(head.to_vec()));
        let padded = Concat::new(vec![whole, Arc::new(Fill { byte: 0, len: level3.checked_sub(head.len() as u64)? })]);
        let tables = romfs::tables(&padded.ok()?, 0, level3).ok()?;
        if tables.data_at != head.len() as u64 {
            return None;
        }
        let own: HashSet<&str> = folders.iter().map(String::as_str).collect();
        let mut known = 0;
        let mut laid = Vec::new();
        for Entry { path, data, broken } in &tables.entries {
            if broken.is_some() {
                return None;
            }
            match data {
                None if own.contains(path.as_str()) => known += 1,
                None => return None,
                Some((at, len)) => {
                    let source = by_path.remove(path.as_str()).filter(|s| s.len() == *len)?;
                    laid.push((tables.data_at + at, source.clone()));
                }
            }
        }
        laid.retain(|(_, s)| !s.is_empty());
        laid.sort_by_key(|(at, _)| *at);
        let apart = laid.windows(2).all(|w| w[0].0 + w[0].1.len() <= w[1].0);
        let fits = laid.last().is_none_or(|(at, s)| at + s.len() <= level3);
        if !by_path.is_empty() || known != folders.len() || !apart || !fits {
            return None;
        }
        let mut tail = [0; 12];
        tail.copy_from_slice(&ivfc[0x54..0x60]);
        Some(Self { head: head.to_vec(), files: laid, level3, tail })
    }

    /// Bytes of level 1, level 2 and the master hashes.
    fn hash_lens(&self) -> (u64, u64, u64) {
        let hashes = |len: u64| len.div_ceil(BLOCK) * 32;
        let level2 = hashes(self.level3);
        let level1 = hashes(level2);
        (level1, level2, hashes(level1))
    }

    /// Bytes of the whole RomFS, up to the end of level 2.
    pub fn used(&self) -> u64 {
        let (level1, level2, master) = self.hash_lens();
        (MASTER_AT + master).next_multiple_of(BLOCK)
            + self.level3.next_multiple_of(BLOCK)
            + level1.next_multiple_of(BLOCK)
            + level2
    }

    /// Bytes at the beginning that the hash in the content's header is of.
    pub fn hashed(&self) -> u64 {
        MASTER_AT + self.hash_lens().2
    }

    /// The header with the master hashes, `len` bytes long, for these digests of level 3.
    pub fn header(&self, level2: &[u8], len: u64) -> Vec<u8> {
        let (level1_len, level2_len, _) = self.hash_lens();
        let (_, master) = hash_tree(level2);
        let mut out = b"IVFC\0\0\x01\0".to_vec();
        out.extend_from_slice(&(master.len() as u32).to_le_bytes());
        let second = level1_len.next_multiple_of(BLOCK);
        let third = second + level2_len.next_multiple_of(BLOCK);
        for (at, len) in [(0, level1_len), (second, level2_len), (third, self.level3)] {
            out.extend_from_slice(&at.to_le_bytes());
            out.extend_from_slice(&len.to_le_bytes());
            out.extend_from_slice(&BLOCK.ilog2().to_le_bytes());
            out.extend_from_slice(&[0; 4]);
        }
        out.extend_from_slice(&self.tail);
        out.extend_from_slice(&master);
        out.resize(len as usize, 0);
        out
    }

    /// Adds everything to a blueprint; the RomFS takes `room` bytes, at least [`RomFs::used`].
    ///
    /// # Errors
    /// [`Error::Usage`] when the room is too small.
    pub fn lay(self: &Arc<Self>, blueprint: &mut Blueprint, room: u64) -> Result<Laid> {
        let end = room.checked_sub(self.used()).ok_or_else(|| Error::Usage("no room for the RomFS".into()))?;
        let (level1_len, level2_len, master_len) = self.hash_lens();
        let header_len = (MASTER_AT + master_len).next_multiple_of(BLOCK);
        let header = blueprint.late(header_len);
        let first = blueprint.source(Arc::new(Bytes(self.head.clone())));
        let last = self.lay_files(blueprint)?.unwrap_or(first);
        let blocks = blueprint.measure_blocks(first, last, BLOCK as usize)?;
        let rest = |len: u64| len.next_multiple_of(BLOCK) - len;
        blueprint.fill(0, rest(self.level3));
        let level1 = blueprint.late(level1_len.next_multiple_of(BLOCK));
        let level2 = blueprint.late(level2_len);
        blueprint.fill(0, end);
        let own = self.clone();
        blueprint.compute(header, &[last], Arc::new(move |known| Ok(own.header(known.blocks(blocks), header_len))))?;
        let level1_room = level1_len.next_multiple_of(BLOCK) as usize;
        let make = move |known: &decanter_core::blueprint::Known<'_>| {
            let mut level1 = hash_tree(known.blocks(blocks)).0;
            level1.resize(level1_room, 0);
            Ok(level1)
        };
        blueprint.compute(level1, &[last], Arc::new(make))?;
        blueprint.compute(level2, &[last], Arc::new(move |known| Ok(known.blocks(blocks).to_vec())))?;
        Ok(Laid { needs: last, blocks })
    }
}

impl RomFs {
    /// Adds the data of all files. Small ones are read many at a time, as one part each would cost more than reading it.
    fn lay_files(&self, blueprint: &mut Blueprint) -> Result<Option<PartId>> {
        let (mut at, mut last) = (self.head.len() as u64, None);
        let (mut batch, mut batch_len): (Vec<SourceRef>, u64) = (Vec::new(), 0);
        for (offset, source) in &self.files {
            if *offset > at {
                batch.push(Arc::new(Fill { byte: 0, len: offset - at }));
            }
            batch.push(source.clone());
            batch_len += source.len();
            at = offset + source.len();
            if batch_len >= BATCH {
                last = Some(blueprint.source(Arc::new(Concat::new(std::mem::take(&mut batch))?)));
                batch_len = 0;
            }
        }
        if self.level3 > at {
            batch.push(Arc::new(Fill { byte: 0, len: self.level3 - at }));
        }
        if !batch.is_empty() {
            last = Some(blueprint.source(Arc::new(Concat::new(batch)?)));
        }
        Ok(last)
    }
}

/// Level 1 and the master hashes over a level 2.
pub fn hash_tree(level2: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let hash = |bytes: &[u8]| -> Vec<u8> {
        let mut block = vec![0; BLOCK as usize];
        let digest = |piece: &[u8]| {
            block[..piece.len()].copy_from_slice(piece);
            block[piece.len()..].fill(0);
            sha256(&block)
        };
        bytes.chunks(BLOCK as usize).flat_map(digest).collect()
    };
    let level1 = hash(level2);
    let master = hash(&level1);
    (level1, master)
}

impl Folder {
    /// The folder at `path`, made if it is not there.
    fn below(&mut self, path: &str) -> &mut Self {
        let names = path.split('/').filter(|n| !n.is_empty());
        names.fold(self, |folder, name| folder.folders.entry(name.encode_utf16().collect()).or_default())
    }
}

/// Tables in the making. Entries are chained by their offsets, so later ones are written back into earlier ones.
#[derive(Default)]
struct TableWriter {
    folders: Vec<u8>,
    files: Vec<u8>,
    /// Offset and hash of each entry, in order.
    folder_hashes: Vec<(u32, u32)>,
    file_hashes: Vec<(u32, u32)>,
    data: Vec<(u64, SourceRef)>,
    data_len: u64,
}

impl TableWriter {
    /// Writes a folder with everything in it; returns the offset of its entry.
    fn folder(&mut self, folder: &Folder, parent: u32, name: &[u16]) -> u32 {
        let at = entry(&mut self.folders, FOLDER, parent, name);
        self.folder_hashes.push((at, name_hash(parent, name)));
        let mut before: Option<u32> = None;
        for (name, source) in &folder.files {
            let file = entry(&mut self.files, FILE, at, name);
            self.data_len = self.data_len.next_multiple_of(DATA_ALIGN);
            let place = file as usize;
            self.files[place + 8..place + 16].copy_from_slice(&self.data_len.to_le_bytes());
            self.files[place + 16..place + 24].copy_from_slice(&source.len().to_le_bytes());
            self.data.push((self.data_len, source.clone()));
            self.data_len += source.len();
            self.file_hashes.push((file, name_hash(at, name)));
            match before {
                None => set(&mut self.folders, at + 12, file),
                Some(before) => set(&mut self.files, before + 4, file),
            }
            before = Some(file);
        }
        let mut before: Option<u32> = None;
        for (name, inner) in &folder.folders {
            let child = self.folder(inner, at, name);
            match before {
                None => set(&mut self.folders, at + 8, child),
                Some(before) => set(&mut self.folders, before + 4, child),
            }
            before = Some(child);
        }
        at
    }

    fn finish(mut self) -> RomFs {
        let folder_buckets = buckets(&mut self.folders, 16, &self.folder_hashes);
        let file_buckets = buckets(&mut self.files, 24, &self.file_hashes);
        let mut head = (LEVEL3_HEADER as u32).to_le_bytes().to_vec();
        let mut at = LEVEL3_HEADER as usize;
        for table in [&folder_buckets, &self.folders, &file_buckets, &self.files] {
            head.extend_from_slice(&(at as u32).to_le_bytes());
            head.extend_from_slice(&(table.len() as u32).to_le_bytes());
            at += table.len();
        }
        let data_at = (at as u64).next_multiple_of(DATA_ALIGN);
        head.extend_from_slice(&(data_at as u32).to_le_bytes());
        for table in [&folder_buckets, &self.folders, &file_buckets, &self.files] {
            head.extend_from_slice(table);
        }
        head.resize(data_at as usize, 0);
        let files = self.data.into_iter().filter(|(_, s)| !s.is_empty()).map(|(at, s)| (data_at + at, s)).collect();
        let mut tail = [0; 12];
        tail[0] = 0x5c;
        RomFs { head, files, level3: data_at + self.data_len, tail }
    }
}

/// Appends an entry without links; returns its offset.
fn entry(table: &mut Vec<u8>, fixed: usize, parent: u32, name: &[u16]) -> u32 {
    let at = table.len();
    table.resize(at + fixed, 0xff);
    table[at..at + 4].copy_from_slice(&parent.to_le_bytes());
    table[at + fixed - 4..].copy_from_slice(&(name.len() as u32 * 2).to_le_bytes());
    table.extend(name.iter().flat_map(|u| u.to_le_bytes()));
    table.resize(table.len().next_multiple_of(4), 0);
    at as u32
}

fn set(table: &mut [u8], at: u32, value: u32) {
    table[at as usize..at as usize + 4].copy_from_slice(&value.to_le_bytes());
}

/// The hash of a name below the folder whose entry is at `parent`.
fn name_hash(parent: u32, name: &[u16]) -> u32 {
    name.iter().fold(parent ^ 123_456_789, |hash, &unit| hash.rotate_right(5) ^ u32::from(unit))
}

/// Number of buckets for so many entries.
fn bucket_count(entries: usize) -> usize {
    match entries {
        0..3 => 3,
        3..19 => entries | 1,
        _ => (entries..).find(|n| [2, 3, 5, 7, 11, 13, 17].iter().all(|p| n % p != 0)).unwrap_or(entries),
    }
}

/// The table of buckets; entries of one bucket are chained at `link` of each, the last one first.
fn buckets(table: &mut [u8], link: u32, hashes: &[(u32, u32)]) -> Vec<u8> {
    let count = bucket_count(hashes.len());
    let mut buckets = vec![NONE; count];
    for &(at, hash) in hashes {
        let bucket = &mut buckets[hash as usize % count];
        set(table, at + link, *bucket);
        *bucket = at;
    }
    buckets.iter().flat_map(|b| b.to_le_bytes()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand: 123456789 is 0x075bcd15; rotated right by 5 it is 0xa83ade68, XOR 0x61 gives 0xa83ade09.
    #[test]
    fn hashes_and_buckets() {
        assert_eq!(name_hash(0, &[0x61]), 0xa83a_de09);
        assert_eq!(name_hash(0x18, &[]), 0x075b_cd0d);
        assert_eq!([0, 2, 3, 4, 18, 19, 20, 25].map(bucket_count), [3, 3, 3, 5, 19, 19, 23, 29]);
    }

    /// One file "a" of three bytes in the root, laid out by hand.
    #[test]
    fn tables_by_hand() {
        let romfs = RomFs::new(&[("a".into(), Arc::new(Bytes(b"abc".to_vec())))], &[]).unwrap();
        let words: Vec<u32> = romfs.head.as_chunks::<4>().0.iter().map(|w| u32::from_le_bytes(*w)).collect();
        assert_eq!(words[..10], [0x28, 0x28, 12, 0x34, 24, 0x4c, 12, 0x58, 36, 0x80]);
        // Hash of the root: 0x075bcd15 % 3 = 0. Hash of "a": 0xa83ade09 % 3 = 1.
        assert_eq!(words[10..13], [0, NONE, NONE]);
        assert_eq!(words[13..19], [0, NONE, NONE, 0, NONE, 0], "the root: its first file is at 0");
        assert_eq!(words[19..22], [NONE, 0, NONE]);
        assert_eq!(words[22..31], [0, NONE, 0, 0, 3, 0, NONE, 2, 0x61]);
        assert_eq!((romfs.head.len(), romfs.level3), (0x80, 0x83));
        assert_eq!(romfs.used(), 0x1000 + 0x1000 + 0x1000 + 32);
    }
}
