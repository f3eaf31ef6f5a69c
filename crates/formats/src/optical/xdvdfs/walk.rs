//! The folders of a partition, each a binary search tree of entries.

use super::raw::Entry as RawEntry;
use crate::walk::{Walk, Walked};
use decanter_core::format::Opener;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, below};
use decanter_core::{Result, SECTOR};
use std::cmp::Ordering;
use std::collections::HashSet;
use std::sync::Arc;
use zerocopy::{FromBytes, IntoBytes};

/// Bytes of one folder's table: offsets in it are 16 bits of four bytes each.
const MOST_TABLE: u64 = 4 * 0x1_0000;
/// Attribute of a folder.
const FOLDER: u8 = 0x10;
/// An offset that stands for "nothing here", as 0 does: the root of a table is nobody's child.
const NONE: u16 = 0xffff;

/// Where a folder's table is.
#[derive(Clone, Copy)]
pub(super) struct Table {
    pub(super) sector: u32,
    pub(super) len: u32,
}

/// All files and folders from `root` on. `base` is the byte offset of the partition.
pub(super) fn walk(source: &SourceRef, base: u64, root: Table, opener: &Opener<'_>) -> Result<Walked<u32>> {
    let mut walk = Walk::new(opener, root, root.sector);
    while let Some(folder) = walk.next()? {
        let Table { sector, len } = folder.place;
        let at = base + u64::from(sector) * SECTOR;
        let shown = folder.shown();
        if len == 0 {
            continue;
        }
        if u64::from(len) > MOST_TABLE {
            let reach = "more than its entries can reach";
            walk.note(format!("the table of {shown} at offset {at:#x} claims {len} bytes, {reach}"));
            continue;
        }
        let bytes = read_vec(source.as_ref(), at, len.into(), "a folder", MOST_TABLE);
        let Some(bytes) = walk.keep(bytes, || format!("the table of {shown} at offset {at:#x}"))? else { continue };
        walk.structure.push(at..at + u64::from(len).next_multiple_of(SECTOR));
        for entry in entries(&bytes, &mut |offset, what| {
            walk.note(format!("an entry of {shown} at offset {:#x} {what}", at + offset as u64))
        }) {
            let path = below(&folder.path, &entry.name);
            let is_folder = entry.attributes & FOLDER != 0;
            let kind = if is_folder { Kind::Folder } else { Kind::File(file(source, base, &entry)?) };
            walk.add(Node::new(path.clone(), kind, None))?;
            let table = Table { sector: entry.sector, len: entry.len };
            // Folders without a table may all stand in one place, which is nowhere.
            if is_folder
                && entry.len > 0
                && let Some(why) = walk.enter(&folder, path.clone(), table, entry.sector)
            {
                walk.note(format!("the table of {path} at sector {} {why}, not followed", entry.sector));
            }
        }
    }
    Ok(walk.finish().sorted())
}

fn file(source: &SourceRef, base: u64, entry: &Entry) -> Result<File> {
    if entry.len == 0 {
        // Nothing of an empty file is anywhere: its sector may be any.
        return Ok(File::of(Arc::new(Bytes(Vec::new()))));
    }
    let start = base + u64::from(entry.sector) * SECTOR;
    File::from_spans(source, vec![start..start + u64::from(entry.len)])
}

struct Entry {
    name: String,
    sector: u32,
    len: u32,
    attributes: u8,
}

/// The order of names in a search tree: case does not count.
fn order(a: &[u8], b: &[u8]) -> Ordering {
    a.iter().map(u8::to_ascii_uppercase).cmp(b.iter().map(u8::to_ascii_uppercase))
}

/// The entries of a table that can be reached from its root, in the order of their names.
fn entries(table: &[u8], trouble: &mut dyn FnMut(usize, &str)) -> Vec<Entry> {
    let mut found = Vec::new();
    let mut seen = HashSet::new();
    // With each entry the names between which it has to be: a console goes left or right by the name that it looks for.
    let mut todo = vec![(0usize, None::<&[u8]>, None::<&[u8]>)];
    while let Some((at, after, before)) = todo.pop() {
        if !seen.insert(at) {
            trouble(at, "is reached twice: its search tree has a loop");
            continue;
        }
        let split = table.get(at..).and_then(|rest| RawEntry::ref_from_prefix(rest).ok());
        let Some((raw, rest)) = split else {
            trouble(at, "lies outside its table");
            continue;
        };
        let (left, right) = (raw.left.get(), raw.right.get());
        if raw.as_bytes().iter().all(|&b| b == 0xff) {
            // Padding: an empty folder has a table of nothing else.
            if at != 0 {
                trouble(at, "is padding");
            }
            continue;
        }
        let own = rest.get(..raw.name_len.into()).filter(|n| !n.is_empty());
        let children = [(right, own.or(after), before), (left, after, own.or(before))];
        let there = children.into_iter().filter(|(o, ..)| *o != 0 && *o != NONE);
        todo.extend(there.map(|(o, after, before)| (usize::from(o) * 4, after, before)));
        let Some(name) = own else {
            trouble(at, "has a name that does not fit its table");
            continue;
        };
        if name.contains(&b'/') || name.contains(&0) {
            trouble(at, "has a name that no file can have");
            continue;
        }
        if after.is_some_and(|a| order(a, name).is_ge()) || before.is_some_and(|b| order(name, b).is_ge()) {
            trouble(
                at,
                "stands where a console does not look for it: the search tree is not in the order of the names",
            );
        }
        let name = match std::str::from_utf8(name) {
            Ok(text) => text.to_owned(),
            Err(_) => name.iter().map(|&b| char::from(b)).collect(),
        };
        let (sector, len) = (raw.sector.get(), raw.len.get());
        found.push(Entry { name, sector, len, attributes: raw.attributes });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A table of three entries: the root, its left and its right child, each in a place of 20 bytes.
    fn table(names: [&[u8; 4]; 3]) -> Vec<u8> {
        let mut bytes = vec![0xff; 64];
        for (index, name) in names.into_iter().enumerate() {
            let raw = &mut bytes[index * 20..index * 20 + 18];
            raw[..4].copy_from_slice(if index == 0 { &[5, 0, 10, 0] } else { &[0; 4] });
            raw[4..14].copy_from_slice(&[40, 0, 0, 0, 9, 0, 0, 0, 0x80, 4]);
            raw[14..].copy_from_slice(name);
        }
        bytes
    }

    #[test]
    fn an_entry_that_a_console_would_not_find_is_told() {
        let told = |names| {
            let mut troubles = Vec::new();
            let found = entries(&table(names), &mut |at, what| troubles.push((at, what.to_owned())));
            assert_eq!(found.len(), 3, "they are listed nevertheless");
            troubles
        };
        assert!(told([b"kelp", b"Fogs", b"MOTH"]).is_empty(), "case does not count");
        let troubles = told([b"kelp", b"moth", b"tide"]);
        assert_eq!(troubles.len(), 1);
        assert!(troubles[0].0 == 20 && troubles[0].1.contains("not in the order"));
        assert_eq!(told([b"kelp", b"KELP", b"tide"]).len(), 1, "the same name twice");
    }
}
