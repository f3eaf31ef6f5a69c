//! A new volume: the file table, the files, each block after block, and their tables where they belong.

use super::files::{CONSECUTIVE, FOLDER, ROOT};
use super::place::{ENTRIES, MOST_BLOCKS, Places};
use super::tables::END;
use crate::package::x360::ID;
use crate::package::x360::compose::{self, Change, Described, Making};
use crate::package::x360::header::{BLOCK, Header, Signer};
use crate::package::x360::raw::{FileEntry, HashEntry, StfsVolume, to_le24};
use crate::time;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::threads::{Shares, on_all};
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use encoding_rs::WINDOWS_1252;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::{FromZeros, IntoBytes};

/// Blocks that a thread hashes at once.
const AT_ONCE: u64 = 256;
/// That a block is in use.
const USED: u32 = 0x8000_0000;
/// Where a table says how many of its entries are in use.
const COUNT_AT: usize = 0xff0;
/// Letters of a name.
const MOST_NAME: usize = 40;
/// Entries of the file table.
const MOST_ENTRIES: usize = ROOT as usize;

/// A package with all files and folders of `tree`: the same ones give the same package, in whatever order they are listed.
///
/// # Errors
/// [`Error::Unsupported`] for what the volume has no place for; what reading the files for their digests fails with.
pub fn compose(tree: &Tree, making: &Making, watch: &dyn Watch) -> Result<Blueprint> {
    // A console writes into what it has signed itself, and needs two copies of each table for it.
    let copies = if making.signer == Signer::Console { 2 } else { 1 };
    let laid = lay(tree, Places { copies }, watch)?;
    let header = compose::header(making, &laid.described)?;
    laid.behind(header)
}

/// A package with the header of another one, and the files of `tree`. Its signature becomes zeros.
///
/// # Errors
/// As [`compose`].
pub fn rebuild(old: &Header, change: &Change, tree: &Tree, watch: &dyn Watch) -> Result<Blueprint> {
    let copies = if old.head.volume[2] & 1 == 1 { 1 } else { 2 };
    let laid = lay(tree, Places { copies }, watch)?;
    let mut bytes = old.bytes.clone();
    bytes.resize(old.end() as usize, 0);
    compose::change(&mut bytes, old, change, &laid.described);
    laid.behind(bytes)
}

/// A volume that is laid out.
struct Laid {
    described: Described,
    /// Its parts, each with the block that it begins at.
    parts: Vec<(u64, SourceRef)>,
}

impl Laid {
    /// The package, whose header is `header`.
    fn behind(self, header: Vec<u8>) -> Result<Blueprint> {
        let mut blueprint = Blueprint::of(Arc::new(Bytes(header)));
        let mut end = 0;
        for (at, part) in self.parts {
            blueprint.fill(0, (at - end) * BLOCK);
            end = at + part.len() / BLOCK;
            blueprint.source(part);
        }
        Ok(blueprint)
    }
}

fn lay(tree: &Tree, places: Places, watch: &dyn Watch) -> Result<Laid> {
    let listed = list(tree)?;
    let data = listed.data()?;
    let blocks = data.len() / BLOCK;
    if blocks > MOST_BLOCKS {
        return Err(Error::unsupported(ID, format!("a volume of {blocks} blocks (the most is {MOST_BLOCKS})")));
    }
    let lowest = entries(&data, blocks, &listed.lasts, watch)?;
    let (tables, top) = tables(lowest, blocks);
    let descriptor = StfsVolume {
        len: 0x24,
        version: 0,
        flags: if places.copies == 1 { 1 } else { 0 },
        table_blocks: (listed.table_blocks as u16).into(),
        table_first: [0; 3],
        top_digest: top,
        blocks: (blocks as u32).into(),
        free: 0.into(),
    };
    let content_len = places.end(blocks) * BLOCK;
    let mut described = Described { descriptor: [0; 0x24], kind: 0, content_len, data_files: 0, data_len: 0 };
    described.descriptor.copy_from_slice(descriptor.as_bytes());
    let mut parts: Vec<(u64, SourceRef)> = Vec::new();
    for (level, number, bytes) in tables {
        let table: SourceRef = Arc::new(Bytes(bytes));
        let at = places.table(level, number);
        parts.extend((0..places.copies).map(|copy| (at + copy, table.clone())));
    }
    for first in (0..blocks).step_by(ENTRIES as usize) {
        let count = ENTRIES.min(blocks - first);
        parts.push((places.block(first), Arc::new(Slice::new(data.clone(), first * BLOCK, count * BLOCK)?)));
    }
    parts.sort_by_key(|(at, _)| *at);
    Ok(Laid { described, parts })
}

/// The file table, and the files behind it.
struct Listed {
    table: Vec<u8>,
    table_blocks: u64,
    files: Vec<SourceRef>,
    /// The last block of each chain.
    lasts: Vec<u64>,
}

impl Listed {
    /// All blocks, one after the other.
    fn data(&self) -> Result<SourceRef> {
        let mut parts: Vec<SourceRef> = vec![Arc::new(Bytes(self.table.clone()))];
        for file in &self.files {
            parts.push(file.clone());
            parts.push(Arc::new(Fill { byte: 0, len: file.len().next_multiple_of(BLOCK) - file.len() }));
        }
        parts.retain(|p| !p.is_empty());
        Ok(Arc::new(Concat::new(parts)?))
    }
}

fn list(tree: &Tree) -> Result<Listed> {
    let count = tree.nodes.len();
    if count > MOST_ENTRIES {
        return Err(Error::Limit {
            what: "files and folders of a volume",
            asked: count as u64,
            limit: MOST_ENTRIES as u64,
        });
    }
    let table_blocks = (count as u64).div_ceil(BLOCK / size_of::<FileEntry>() as u64).max(1);
    let mut own = Listed { table: Vec::new(), table_blocks, files: Vec::new(), lasts: vec![table_blocks - 1] };
    let mut folders: HashMap<&str, u16> = HashMap::new();
    let mut next = table_blocks;
    // Folders before what is in them, then files, each by their paths.
    let mut nodes: Vec<&Node> = tree.nodes.iter().collect();
    nodes.sort_by_key(|n| (n.file().is_some(), n.path.as_bytes()));
    for (index, node) in nodes.into_iter().enumerate() {
        let mut entry = entry(node, &folders)?;
        match &node.kind {
            Kind::Folder => {
                entry.flags |= FOLDER;
                folders.insert(&node.path, index as u16);
            }
            Kind::File(file) => {
                let source = file.source()?.clone();
                let len = u32::try_from(source.len())
                    .map_err(|_| Error::unsupported(ID, format!("a file of 4 GiB or more ({})", node.path)))?;
                let blocks = source.len().div_ceil(BLOCK);
                entry.flags |= CONSECUTIVE;
                entry.len.set(len);
                [entry.blocks, entry.blocks_again] = [to_le24(blocks as u32); 2];
                if blocks > 0 {
                    entry.first = to_le24(next as u32);
                    next += blocks;
                    own.lasts.push(next - 1);
                }
                own.files.push(source);
            }
            Kind::Link(_) => return Err(Error::unsupported(ID, format!("the link {}", node.path))),
        }
        own.table.extend(entry.as_bytes());
    }
    own.table.resize((table_blocks * BLOCK) as usize, 0);
    Ok(own)
}

/// An entry with its name, its folder and its moments.
fn entry(node: &Node, folders: &HashMap<&str, u16>) -> Result<FileEntry> {
    let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
    let (spelled, _, is_lossy) = WINDOWS_1252.encode(name);
    if is_lossy || spelled.is_empty() || spelled.len() > MOST_NAME {
        let why =
            if is_lossy { "signs that it has no letters for".into() } else { format!("more than {MOST_NAME} letters") };
        return Err(Error::unsupported(ID, format!("a name with {why} ({})", node.path)));
    }
    let mut entry = FileEntry::new_zeroed();
    entry.name[..spelled.len()].copy_from_slice(&spelled);
    entry.flags = spelled.len() as u8;
    entry.parent.set(match parent {
        "" => ROOT,
        parent => *folders
            .get(parent)
            .ok_or_else(|| Error::Usage(format!("the folder of {} is missing in the tree", node.path)))?,
    });
    if let Some(seconds) = node.modified {
        let (date, time) = time::to_dos(seconds);
        for (slot, value) in
            [(&mut entry.date, date), (&mut entry.time, time), (&mut entry.date_2, date), (&mut entry.time_2, time)]
        {
            slot.set(value);
        }
    }
    Ok(entry)
}

/// The entries of the lowest tables: a digest of each block, and the block that follows.
fn entries(data: &SourceRef, blocks: u64, lasts: &[u64], watch: &dyn Watch) -> Result<Vec<HashEntry>> {
    let all = Mutex::new(vec![HashEntry { digest: [0; 20], info: 0.into() }; blocks as usize]);
    let shares = Shares::new(blocks, AT_ONCE);
    on_all(|| {
        let mut bytes = Vec::new();
        for range in &shares {
            watch::check(watch)?;
            bytes.resize(((range.end - range.start) * BLOCK) as usize, 0);
            data.read_at(range.start * BLOCK, &mut bytes)?;
            let digests: Vec<Vec<u8>> =
                bytes.chunks(BLOCK as usize).map(|block| of_bytes(Algorithm::Sha1, block).bytes).collect();
            let mut all = all.lock().unwrap_or_else(PoisonError::into_inner);
            for (entry, digest) in all[range.start as usize..].iter_mut().zip(digests) {
                entry.digest.copy_from_slice(&digest);
            }
            watch.advance(bytes.len() as u64);
        }
        Ok(())
    })?;
    let mut all = all.into_inner().unwrap_or_else(PoisonError::into_inner);
    for (block, entry) in all.iter_mut().enumerate() {
        entry.info.set(USED | (block as u32 + 1));
    }
    for last in lasts {
        all[*last as usize].info.set(USED | END);
    }
    Ok(all)
}

/// A table: its level, its number, its bytes.
type Table = (u32, u64, Vec<u8>);

/// All tables, level by level, and the digest of the top one.
fn tables(lowest: Vec<HashEntry>, blocks: u64) -> (Vec<Table>, [u8; 20]) {
    let (mut all, mut entries, mut top) = (Vec::new(), lowest, [0; 20]);
    for level in 0..=Places::top(blocks) {
        let each = ENTRIES.pow(level);
        let mut above = Vec::new();
        for (number, own) in entries.chunks(ENTRIES as usize).enumerate() {
            let mut bytes = own.as_bytes().to_vec();
            bytes.resize(BLOCK as usize, 0);
            let count = (blocks - number as u64 * ENTRIES * each).min(ENTRIES * each) as u32;
            bytes[COUNT_AT..COUNT_AT + 4].copy_from_slice(&count.to_be_bytes());
            top.copy_from_slice(&of_bytes(Algorithm::Sha1, &bytes).bytes);
            above.push(HashEntry { digest: top, info: 0.into() });
            all.push((level, number as u64, bytes));
        }
        entries = above;
    }
    (all, top)
}
