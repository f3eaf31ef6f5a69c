//! The file name table: a fixed entry for each folder, then lists of names.
//!
//! Files are numbered in the order of their names; an entry says which number the first file of its folder has.

use super::NINTENDO_DS;
use crate::raw::split;
use crate::walk::Room;
use decanter_core::tree::below;
use decanter_core::{Error, Result};
use std::collections::HashSet;
use zerocopy::byteorder::{LE, U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

/// Folders that the table may have.
const MOST_FOLDERS: usize = 0x1000;
/// Number of the root folder; those of files are below.
const ROOT: u16 = 0xf000;
/// Set in the byte before a name if it is a folder's; the others are the name's length.
const IS_FOLDER: u8 = 0x80;

/// A folder's entry.
#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct Entry {
    /// Offset of its list of names in the table.
    list: U32<LE>,
    /// Number of its first file.
    first: U16<LE>,
    /// Number of the folder around it; of the root, how many folders there are.
    parent: U16<LE>,
}
const _: () = assert!(size_of::<Entry>() == 8);

/// A name in a list.
enum Name {
    File(String),
    /// With the folder's number.
    Folder(String, u16),
}

/// A list of names, read from `at` on.
struct List<'a> {
    table: &'a [u8],
    at: usize,
}

impl List<'_> {
    /// The next name; `None` at the end of the list.
    fn next(&mut self) -> Result<Option<Name>> {
        let at = self.at;
        let cut = |what: &'static str| Error::malformed(NINTENDO_DS.id, what, at as u64);
        let rest = self.table.get(at..).unwrap_or_default();
        let (&head, rest) = rest.split_first().ok_or_else(|| cut("a folder whose names lie past the table's end"))?;
        let len = usize::from(head & !IS_FOLDER);
        if head == 0 {
            return Ok(None);
        }
        let (name, rest) = rest.split_at_checked(len).ok_or_else(|| cut("a name that is cut short"))?;
        let name = encoding_rs::SHIFT_JIS.decode_without_bom_handling(name).0.into_owned();
        self.at += 1 + len;
        if head & IS_FOLDER == 0 {
            return Ok(Some(Name::File(name)));
        }
        let number = rest.first_chunk().ok_or_else(|| cut("a folder's number is cut short"))?;
        self.at += 2;
        Ok(Some(Name::Folder(name, u16::from_le_bytes(*number))))
    }
}

/// Paths with the number of their file, folders without one; a folder stands before what is in it. There are so many
/// `files`.
///
/// # Errors
/// [`Error::Malformed`] at the offset in the table, [`Error::Limit`].
pub(super) fn names(fnt: &[u8], files: usize) -> Result<Vec<(String, Option<usize>)>> {
    let wrong = |what: &'static str, at: usize| Error::malformed(NINTENDO_DS.id, what, at as u64);
    if fnt.is_empty() {
        return Ok(Vec::new());
    }
    let (root, _) = split::<Entry>(NINTENDO_DS.id, "the root folder of the file name table", fnt, 0)?;
    let count = usize::from(root.parent.get()).clamp(1, MOST_FOLDERS);
    let (mut seen, mut todo, mut found) = (HashSet::from([ROOT]), vec![(ROOT, String::new())], Vec::new());
    let (mut named, mut room) = (vec![false; files], Room::default());
    while let Some((id, path)) = todo.pop() {
        let index = usize::from(id - ROOT);
        let own = fnt.get(index * size_of::<Entry>()..).filter(|_| index < count);
        let own = own.ok_or_else(|| wrong("a folder without an entry in the table", index * size_of::<Entry>()))?;
        let (entry, _) = split::<Entry>(NINTENDO_DS.id, "the entry of a folder", own, (index * 8) as u64)?;
        if !path.is_empty() {
            found.push((path.clone(), None));
        }
        let (mut list, mut file) = (List { table: fnt, at: entry.list.get() as usize }, usize::from(entry.first.get()));
        while let Some(name) = list.next()? {
            let (Name::File(own) | Name::Folder(own, _)) = &name;
            let inner = below(&path, own);
            room.take(&inner)?;
            match name {
                Name::File(_) => {
                    let is_taken =
                        named.get_mut(file).ok_or_else(|| wrong("a name for a file that is not there", list.at))?;
                    // Folders that share a list of names would make more names than there are bytes.
                    if std::mem::replace(is_taken, true) {
                        return Err(wrong("a second name for a file", list.at));
                    }
                    found.push((inner, Some(file)));
                    file += 1;
                }
                Name::Folder(_, id) if id < ROOT || !seen.insert(id) => {
                    return Err(wrong("folders that lead into each other", list.at - 2));
                }
                Name::Folder(_, id) => todo.push((id, inner)),
            }
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
