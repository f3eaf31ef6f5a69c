//! The files: names from the file name table, places from the file allocation table; programs and overlays beside them.

use super::{HEADER, NINTENDO_DS, range};
use crate::num::{le16, le32};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree, below};
use decanter_core::{Error, Result};
use std::collections::HashSet;

/// The most that the tables may have: 61,440 files, 4,096 folders.
const MOST_FAT: u64 = 0xf000 * 8;
const MOST_FNT: u64 = 16 << 20;
const MOST_FOLDERS: usize = 0x1000;
/// Bytes that all paths together may have: far more than any disc of names, far less than folders in folders could make.
const MOST_PATHS: usize = 32 << 20;
/// Number of the root folder; those of files are below.
const ROOT: u16 = 0xf000;
/// Where what has no name of its own is listed.
const SYSTEM: &str = "_rom";

/// The tree, and what is wrong with it.
///
/// # Errors
/// What reading fails with. A damaged table gives a notice.
pub(super) fn read(source: &SourceRef, h: &[u8; HEADER]) -> Result<(Tree, Vec<String>)> {
    let mut tree = Tree::default();
    let mut notices = Vec::new();
    let folder = |path: &str| Node::new(path.into(), Kind::Folder, None);
    tree.nodes.push(folder(SYSTEM));
    let mut add = |path: String, span: std::ops::Range<u64>| -> Result<()> {
        if !span.is_empty() {
            let file = File::from_spans(source, vec![span])?;
            tree.nodes.push(Node::new(path, Kind::File(file), None));
        }
        Ok(())
    };
    add(format!("{SYSTEM}/header.bin"), 0..u64::from(le32(h, 0x84)).clamp(HEADER as u64, 0x4000).min(source.len()))?;
    let program = |at: usize| {
        let start = u64::from(le32(h, at));
        start..start + u64::from(le32(h, at + 12))
    };
    add(format!("{SYSTEM}/arm9.bin"), program(0x20))?;
    add(format!("{SYSTEM}/arm7.bin"), program(0x30))?;
    add(format!("{SYSTEM}/overlays9.bin"), range(h, 0x50))?;
    add(format!("{SYSTEM}/overlays7.bin"), range(h, 0x58))?;
    let banner = u64::from(le32(h, 0x68));
    if banner > 0 && banner < source.len() {
        add(format!("{SYSTEM}/banner.bin"), banner..(banner + super::banner::LEAST).min(source.len()))?;
    }
    match tables(source.as_ref(), h) {
        Ok((fat, fnt)) => {
            let names = match names(&fnt, fat.len()) {
                Ok(names) => names,
                Err(e) => {
                    notices.push(format!("the file name table is damaged, files are listed by number: {e}"));
                    Vec::new()
                }
            };
            let mut named = HashSet::new();
            for (path, id) in names {
                match id {
                    None => tree.nodes.push(folder(&path)),
                    Some(id) => {
                        named.insert(id);
                        push(&mut tree, source, path, fat[id].clone())?;
                    }
                }
            }
            let nameless: Vec<usize> = (0..fat.len()).filter(|i| !named.contains(i) && !fat[*i].is_empty()).collect();
            if !nameless.is_empty() {
                tree.nodes.push(folder(&format!("{SYSTEM}/numbered")));
            }
            for id in nameless {
                push(&mut tree, source, format!("{SYSTEM}/numbered/{id:04}.bin"), fat[id].clone())?;
            }
        }
        Err(e) => notices.push(format!("the files cannot be listed: {e}")),
    }
    Ok((tree, notices))
}

fn push(tree: &mut Tree, source: &SourceRef, path: String, span: std::ops::Range<u64>) -> Result<()> {
    let file = File::from_spans(source, vec![span])?;
    tree.nodes.push(Node::new(path, Kind::File(file), None));
    Ok(())
}

/// The places of all files, and the table of names.
fn tables(source: &dyn Source, h: &[u8; HEADER]) -> Result<(Vec<std::ops::Range<u64>>, Vec<u8>)> {
    let (fnt, fat) = (range(h, 0x40), range(h, 0x48));
    let fnt = read_vec(source, fnt.start, fnt.end - fnt.start, "the file name table", MOST_FNT)?;
    let bytes = read_vec(source, fat.start, fat.end - fat.start, "the file allocation table", MOST_FAT)?;
    let mut places = Vec::with_capacity(bytes.len() / 8);
    for (index, entry) in bytes.chunks_exact(8).enumerate() {
        let (start, end) = (u64::from(le32(entry, 0)), u64::from(le32(entry, 4)));
        if end < start {
            let at = fat.start + index as u64 * 8;
            return Err(Error::malformed(NINTENDO_DS.id, "a file that ends before it begins", at));
        }
        places.push(start..end);
    }
    Ok((places, fnt))
}

/// Paths with the number of their file, folders without one; a folder stands before what is in it.
fn names(fnt: &[u8], files: usize) -> Result<Vec<(String, Option<usize>)>> {
    let wrong = |what: &'static str, at: usize| Error::malformed(NINTENDO_DS.id, what, at as u64);
    if fnt.is_empty() {
        return Ok(Vec::new());
    }
    if fnt.len() < 8 {
        return Err(wrong("a file name table without a root folder", 0));
    }
    let count = usize::from(le16(fnt, 6)).min(MOST_FOLDERS);
    let mut seen = HashSet::from([ROOT]);
    let mut todo = vec![(ROOT, String::new())];
    let mut found = Vec::new();
    let (mut named, mut room) = (vec![false; files], MOST_PATHS);
    while let Some((id, path)) = todo.pop() {
        let index = usize::from(id & 0xfff);
        let entry = fnt.get(index * 8..index * 8 + 8).filter(|_| index < count.max(1));
        let entry = entry.ok_or_else(|| wrong("a folder without an entry in the table", index * 8))?;
        if !path.is_empty() {
            found.push((path.clone(), None));
        }
        let (mut at, mut file) = (le32(entry, 0) as usize, usize::from(le16(entry, 4)));
        loop {
            let head = *fnt.get(at).ok_or_else(|| wrong("a folder whose names lie past the table's end", at))?;
            let len = usize::from(head & 0x7f);
            if head == 0 {
                break;
            }
            let name = fnt.get(at + 1..at + 1 + len).ok_or_else(|| wrong("a name that is cut short", at))?;
            let (name, _) = encoding_rs::SHIFT_JIS.decode_without_bom_handling(name);
            let inner = below(&path, &name);
            room = room.checked_sub(inner.len()).ok_or(Error::Limit {
                what: "the paths of all files",
                asked: MOST_PATHS as u64 + inner.len() as u64,
                limit: MOST_PATHS as u64,
            })?;
            at += 1 + len;
            if head & 0x80 == 0 {
                if file >= files {
                    return Err(wrong("a name for a file that is not there", at));
                }
                // Folders that share a list of names would make more names than there are bytes.
                if std::mem::replace(&mut named[file], true) {
                    return Err(wrong("a second name for a file", at));
                }
                found.push((inner, Some(file)));
                file += 1;
                continue;
            }
            let id =
                fnt.get(at..at + 2).map(|b| le16(b, 0)).ok_or_else(|| wrong("a folder's number is cut short", at))?;
            at += 2;
            if id < ROOT || !seen.insert(id) {
                return Err(wrong("folders that lead into each other", at - 2));
            }
            todo.push((id, inner));
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_two_folders() {
        // Root at 16: file "a", folder 0xf001 "d"; d at 24: file "b".
        let mut fnt = vec![16, 0, 0, 0, 0, 0, 2, 0, 23, 0, 0, 0, 1, 0, 0, 0xf0];
        fnt.extend(b"\x01a\x81d\x01\xf0\0\x01b\0");
        let found = names(&fnt, 2).unwrap();
        let expected = [("a", Some(0)), ("d", None), ("d/b", Some(1))];
        assert_eq!(found, expected.map(|(p, i)| (p.to_owned(), i)));
        assert!(names(&fnt, 1).is_err(), "the second file is not there");
        fnt[20] = 0;
        assert!(names(&fnt, 2).is_err(), "a folder in itself");
    }

    #[test]
    fn folders_in_folders_and_shared_lists_end_early() {
        // Each folder holds the next one, under the longest name that there is.
        let (count, entry) = (MOST_FOLDERS, 1 + 127 + 2 + 1);
        let list = |index: usize| (count * 8 + index * entry) as u32;
        let mut deep = Vec::new();
        for index in 0..count {
            deep.extend(list(index).to_le_bytes());
            deep.extend([0, 0]);
            deep.extend(if index == 0 { (count as u16).to_le_bytes() } else { ROOT.to_le_bytes() });
        }
        for index in 0..count {
            deep.push(0xff);
            deep.extend([b'x'; 127]);
            deep.extend((ROOT + (index as u16 + 1) % count as u16).to_le_bytes());
            deep.push(0);
        }
        assert!(matches!(names(&deep, 0), Err(Error::Limit { .. })));
        // Two folders have one list.
        let mut shared = vec![16, 0, 0, 0, 0, 0, 2, 0, 16, 0, 0, 0, 0, 0, 0, 0xf0];
        shared.extend(b"\x01a\x81d\x01\xf0\0");
        assert!(names(&shared, 9).is_err());
    }
}
