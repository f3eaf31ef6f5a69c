//! Lays a tree out as the smallest partition: descriptor, tables, files, nothing else.

use super::raw::{Descriptor, Entry as RawEntry};
use super::{DESCRIPTOR, ID, MAGIC};
use crate::arranged::{self, Arranged, Item, Member, Named};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::Bytes;
use decanter_core::tree::Tree;
use decanter_core::{Error, Result, SECTOR};
use std::sync::Arc;
use zerocopy::IntoBytes;

/// The largest file: its length is 32 bits.
const MOST_FILE: u64 = u32::MAX as u64;
/// Seconds from 1601 to 1970: dates count 100 ns from 1601.
const EPOCH: i64 = 11_644_473_600;

/// A partition that was laid out.
pub struct Placed {
    /// Its bytes.
    pub blueprint: Blueprint,
    /// Links and what else the file system cannot hold.
    pub left_out: Vec<String>,
}

struct Folder {
    entries: Vec<Entry>,
    sector: u64,
    len: u64,
}

struct Entry {
    name: Vec<u8>,
    member: Member,
}

/// Lays `tree` out. Files stand in the order of the tree.
///
/// # Errors
/// [`Error::Unsupported`] for names, sizes and folders that the file system cannot hold.
pub fn compose_placed(tree: &Tree) -> Result<Placed> {
    let tree = Arranged::of(tree)?;
    let mut folders = tree.folders.iter().map(|f| folder(&tree, f)).collect::<Result<Vec<_>>>()?;
    let mut next = DESCRIPTOR + 1;
    for folder in &mut folders {
        folder.sector = next;
        next += folder.len / SECTOR;
    }
    let mut sectors = Vec::new();
    for item in &tree.files {
        sectors.push(if item.source.is_empty() { 0 } else { next });
        next += item.source.len().div_ceil(SECTOR);
    }
    if next > u64::from(u32::MAX) {
        return Err(Error::unsupported(ID, "a partition of 8 TiB or more"));
    }
    let mut blueprint = Blueprint::new();
    blueprint.fill(0, DESCRIPTOR * SECTOR);
    blueprint.source(Arc::new(Bytes(descriptor(&folders[0], tree.newest))));
    for own in &folders {
        blueprint.source(Arc::new(Bytes(table(own, &folders, &tree.files, &sectors)?)));
    }
    for item in &tree.files {
        blueprint.source(item.source.clone());
        blueprint.fill(0, item.source.len().next_multiple_of(SECTOR) - item.source.len());
    }
    let left_out = tree.links.iter().map(|path| format!("{path} (a link)")).collect();
    Ok(Placed { blueprint, left_out })
}

/// The entries of a folder in the order of their names, and the bytes that they take.
fn folder(tree: &Arranged, own: &arranged::Folder) -> Result<Folder> {
    let members = own.folders.iter().map(|&f| Member::Folder(f)).chain(own.files.iter().map(|&f| Member::File(f)));
    let mut entries = Vec::new();
    for member in members {
        let Named { name, path, .. } = tree.named(member);
        if let Member::File(f) = member
            && tree.files[f].source.len() > MOST_FILE
        {
            return Err(Error::unsupported(ID, format!("a file of 4 GiB or more ({path})")));
        }
        entries.push(Entry { name: spelled(name, path)?, member });
    }
    entries.sort_by_cached_key(|e| e.name.to_ascii_uppercase());
    if let Some(pair) = entries.windows(2).find(|p| p[0].name.eq_ignore_ascii_case(&p[1].name)) {
        let name = String::from_utf8_lossy(&pair[0].name).into_owned();
        return Err(Error::unsupported(ID, format!("two names that differ in case alone ({name})")));
    }
    let len = places(&entries)?.1;
    Ok(Folder { entries, sector: 0, len })
}

/// A name in the file system's one byte a character.
fn spelled(name: &str, path: &str) -> Result<Vec<u8>> {
    let bytes: Option<Vec<u8>> = name.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
    match bytes {
        Some(bytes) if (1..=255).contains(&bytes.len()) => Ok(bytes),
        Some(_) => Err(Error::unsupported(ID, format!("a name of more than 255 characters ({path})"))),
        None => Err(Error::unsupported(ID, format!("a character outside Latin-1 in a name ({path}); rename it"))),
    }
}

fn descriptor(root: &Folder, newest: Option<i64>) -> Vec<u8> {
    let date = newest.map_or(0, |s| (s + EPOCH).max(0) as u64 * 10_000_000);
    let own = Descriptor {
        magic: *MAGIC,
        root_sector: (root.sector as u32).into(),
        root_len: (root.len as u32).into(),
        made: date.into(),
        unused: [0; 1992],
        second_magic: *MAGIC,
    };
    own.as_bytes().to_vec()
}

/// The search tree of `count` sorted entries: for each its left and right child, and the order in which they are
/// stored, the root first. Every half is as large as the other or one larger, so no search takes more steps than it must.
fn balanced(count: usize) -> (Vec<[Option<usize>; 2]>, Vec<usize>) {
    let mut children = vec![[None, None]; count];
    let mut order = Vec::with_capacity(count);
    let mut todo = vec![(0, count, None::<(usize, usize)>)];
    while let Some((from, to, parent)) = todo.pop() {
        if from == to {
            continue;
        }
        let middle = (from + to) / 2;
        if let Some((parent, side)) = parent {
            children[parent][side] = Some(middle);
        }
        order.push(middle);
        todo.push((middle + 1, to, Some((middle, 1))));
        todo.push((from, middle, Some((middle, 0))));
    }
    (children, order)
}

/// Where each entry of a folder stands in its table, and the table's length. No entry crosses a sector's end.
fn places(entries: &[Entry]) -> Result<(Vec<u64>, u64)> {
    let (_, order) = balanced(entries.len());
    let mut places = vec![0; entries.len()];
    let mut at = 0u64;
    for index in order {
        let len = (14 + entries[index].name.len() as u64).next_multiple_of(4);
        if at % SECTOR + len > SECTOR {
            at = at.next_multiple_of(SECTOR);
        }
        places[index] = at;
        at += len;
    }
    if places.iter().any(|p| p / 4 >= 0xffff) {
        return Err(Error::unsupported(ID, format!("a folder with {} entries", entries.len())));
    }
    Ok((places, at.next_multiple_of(SECTOR).max(SECTOR)))
}

/// The table of a folder; what no entry takes is 0xff.
fn table(folder: &Folder, folders: &[Folder], files: &[Item], sectors: &[u64]) -> Result<Vec<u8>> {
    let (children, _) = balanced(folder.entries.len());
    let (places, len) = places(&folder.entries)?;
    let mut table = vec![0xff; len as usize];
    for (index, entry) in folder.entries.iter().enumerate() {
        let child = |side: usize| children[index][side].map_or(0, |c| (places[c] / 4) as u16);
        let (sector, size, attributes) = match entry.member {
            Member::Folder(f) => (folders[f].sector, folders[f].len, 0x10),
            Member::File(f) => (sectors[f], files[f].source.len(), 0x20),
        };
        let at = places[index] as usize;
        let own = RawEntry {
            left: child(0).into(),
            right: child(1).into(),
            sector: (sector as u32).into(),
            len: (size as u32).into(),
            attributes,
            name_len: entry.name.len() as u8,
        };
        let raw = [own.as_bytes(), &entry.name].concat();
        table[at..at + raw.len()].copy_from_slice(&raw);
    }
    Ok(table)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::SourceRef;
    use decanter_core::tree::{File, Kind, Node};
    use proptest::prelude::*;

    fn tree(names: &[&str]) -> Tree {
        let mut tree = Tree::default();
        for name in names {
            let source: SourceRef = Arc::new(Bytes(name.as_bytes().to_vec()));
            tree.nodes.push(Node::new((*name).to_owned(), Kind::File(File::of(source)), None));
        }
        tree
    }

    /// Worked out by hand: three names, the middle one the root of the search tree.
    #[test]
    fn three_files_have_these_very_bytes() {
        let blueprint = compose_placed(&tree(&["b.txt", "a.txt", "C.txt"])).unwrap().blueprint;
        let source = blueprint.as_source().unwrap();
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes).unwrap();
        assert_eq!(bytes.len(), 37 * 2048);
        assert_eq!(&bytes[0x10000..0x1001c], b"MICROSOFT*XBOX*MEDIA\x21\0\0\0\0\x08\0\0");
        assert_eq!(&bytes[0x107ec..0x10800], MAGIC);
        let table = &bytes[33 * 2048..34 * 2048];
        // left 5 (a.txt at 20), right 10 (C.txt at 40), sector 34, 5 bytes, archive, 5 letters.
        assert_eq!(&table[..20], b"\x05\0\x0a\0\x22\0\0\0\x05\0\0\0\x20\x05b.txt\xff");
        assert_eq!(&table[20..40], b"\0\0\0\0\x23\0\0\0\x05\0\0\0\x20\x05a.txt\xff");
        assert_eq!(&table[40..60], b"\0\0\0\0\x24\0\0\0\x05\0\0\0\x20\x05C.txt\xff");
        assert!(table[60..].iter().all(|&b| b == 0xff));
        assert_eq!(&bytes[34 * 2048..][..5], b"b.txt");
    }

    #[test]
    fn what_it_cannot_hold_is_refused() {
        let why = |names: &[&str]| compose_placed(&tree(names)).err().map(|e| e.to_string()).unwrap_or_default();
        assert!(why(&["a", "A"]).contains("case"));
        assert!(why(&["\u{6f6e}"]).contains("Latin-1"));
        assert!(why(&[&"n".repeat(256)]).contains("255"));
    }

    proptest! {
        #[test]
        fn every_entry_is_found_by_a_binary_search(count in 0usize..700) {
            let (children, order) = balanced(count);
            prop_assert_eq!(order.len(), count);
            let deepest = usize::BITS - count.leading_zeros();
            for wanted in 0..count {
                let (mut at, mut steps) = (Some(order[0]), 0);
                while let Some(node) = at.filter(|&n| n != wanted) {
                    at = children[node][usize::from(wanted > node)];
                    steps += 1;
                }
                prop_assert!(at.is_some() && steps < deepest);
            }
        }
    }
}
