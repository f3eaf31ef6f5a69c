//! The folders of a partition, each a binary search tree of entries.

use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{Content, File, Kind, Node, Tree, below, check_room};
use decanter_core::watch::{self, Notice};
use decanter_core::{Error, Result, SECTOR};
use std::cmp::Ordering;
use std::collections::HashSet;
use std::ops::Range;

/// Bytes of one folder's table: offsets in it are 16 bits of four bytes each.
const MOST_TABLE: u64 = 4 * 0x1_0000;
/// Files and folders in one partition.
const MOST_NODES: usize = 1 << 20;
/// Attribute of a folder.
const FOLDER: u8 = 0x10;
/// An offset that stands for "nothing here", as 0 does: the root of a table is nobody's child.
const NONE: u16 = 0xffff;
/// Notices that are told one by one.
const MOST_NOTICES: usize = 20;

/// A folder's table still to be walked.
pub(super) struct Table {
    pub(super) path: String,
    pub(super) sector: u32,
    pub(super) len: u32,
}

pub(super) struct Walked {
    pub(super) tree: Tree,
    pub(super) structure: Vec<Range<u64>>,
}

/// All files and folders from `root` on. `base` is the byte offset of the partition.
pub(super) fn walk(
    source: &SourceRef,
    base: u64,
    root: Table,
    notices: &mut Vec<Notice>,
    opener: &Opener<'_>,
) -> Result<Walked> {
    let mut walked = Walked { tree: Tree::default(), structure: Vec::new() };
    let mut seen = HashSet::new();
    let mut todo = vec![root];
    let mut troubles = 0;
    while let Some(table) = todo.pop() {
        watch::check(opener.watch())?;
        if table.len == 0 {
            continue;
        }
        let shown = if table.path.is_empty() { "the root folder" } else { &table.path };
        let at = base + u64::from(table.sector) * SECTOR;
        let mut note = |text: String| {
            troubles += 1;
            if troubles <= MOST_NOTICES {
                notices.push(Notice::damage(text));
            }
        };
        if !seen.insert(at) {
            note(format!("{shown} is the same table at offset {at:#x} as another folder: a loop, not followed"));
            continue;
        }
        if u64::from(table.len) > MOST_TABLE {
            note(format!(
                "the table of {shown} at offset {at:#x} claims {} bytes, more than its entries can reach",
                table.len
            ));
            continue;
        }
        let bytes = match read_vec(source.as_ref(), at, table.len.into(), "a folder", MOST_TABLE) {
            Ok(bytes) => bytes,
            Err(e @ (Error::Io { .. } | Error::Cancelled | Error::Key(_))) => return Err(e),
            Err(_) => {
                note(format!(
                    "the table of {shown} at offset {at:#x} lies past the end of the image; what it lists is not known"
                ));
                continue;
            }
        };
        walked.structure.push(at..at + u64::from(table.len).next_multiple_of(SECTOR));
        for entry in entries(&bytes, &mut |offset, what| {
            note(format!("an entry of {shown} at offset {:#x} {what}", at + offset as u64))
        }) {
            check_room(walked.tree.nodes.len(), MOST_NODES)?;
            let path = below(&table.path, &entry.name);
            let kind = if entry.attributes & FOLDER != 0 {
                todo.push(Table { path: path.clone(), sector: entry.sector, len: entry.len });
                Kind::Folder
            } else {
                let start = base + u64::from(entry.sector) * SECTOR;
                // Nothing of an empty file is anywhere: its sector may be any.
                let spans = if entry.len == 0 { Vec::new() } else { vec![start..start + u64::from(entry.len)] };
                let file = if spans.is_empty() {
                    let nothing: SourceRef = std::sync::Arc::new(decanter_core::source::Bytes(Vec::new()));
                    File { len: 0, spans, content: Content::Whole(nothing) }
                } else {
                    File::from_spans(source, spans)?
                };
                Kind::File(file)
            };
            walked.tree.nodes.push(Node::new(path, kind, None));
        }
    }
    if troubles > MOST_NOTICES {
        notices.push(Notice::damage(format!("and {} more of this kind", troubles - MOST_NOTICES)));
    }
    walked.tree.nodes.sort_by(|a, b| a.path.split('/').cmp(b.path.split('/')));
    Ok(walked)
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
        let Some(raw) = table.get(at..at + 14) else {
            trouble(at, "lies outside its table");
            continue;
        };
        let half = |i: usize| u16::from_le_bytes([raw[i], raw[i + 1]]);
        let word = |i: usize| u32::from_le_bytes([raw[i], raw[i + 1], raw[i + 2], raw[i + 3]]);
        let (left, right, length) = (half(0), half(2), usize::from(raw[13]));
        if left == NONE && right == NONE && raw[4..].iter().all(|&b| b == 0xff) {
            // Padding: an empty folder has a table of nothing else.
            if at != 0 {
                trouble(at, "is padding");
            }
            continue;
        }
        let own = table.get(at + 14..at + 14 + length).filter(|n| !n.is_empty());
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
        found.push(Entry { name, sector: word(4), len: word(8), attributes: raw[12] });
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
