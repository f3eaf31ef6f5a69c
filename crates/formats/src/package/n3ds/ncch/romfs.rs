//! The RomFS as it is read: three levels of hashes, and the tables of names. Layout: docs/formats/n3ds-content.md.

use super::ID;
use crate::num::{le32, le64};
use decanter_core::source::{Bytes, Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{Content, File, Kind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// Where the master hashes begin.
pub const MASTER_AT: u64 = 0x60;
/// Bytes of the header of level 3.
pub const LEVEL3_HEADER: u64 = 0x28;
/// What stands where there is no entry.
pub const NONE: u32 = 0xffff_ffff;
/// Limits: names, folders in each other, bytes of all tables.
pub const MOST_NAMES: usize = 400_000;
const MOST_DEPTH: usize = 64;
const MOST_TABLES: u64 = 64 << 20;
/// The longest name, in bytes.
const MOST_NAME: u32 = 0x400;

/// One level of hashed bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Level {
    /// Where it is, in bytes of the content.
    pub range: Range<u64>,
    /// Bytes of a block that has a hash one level up.
    pub block: u64,
}

/// The hash levels.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Levels {
    /// The master hashes.
    pub master: Range<u64>,
    /// Hashes of level 2, hashes of level 3, and the files.
    pub levels: [Level; 3],
}

/// Reads the header of the RomFS at `area` of a content.
///
/// # Errors
/// [`Error::Malformed`] for a wrong mark and for levels that do not fit each other, with the offset in the content.
pub fn levels(source: &dyn Source, area: &Range<u64>) -> Result<Levels> {
    let bad = |what: String, at: u64| Err(Error::malformed(ID, what, area.start + at));
    let header: [u8; MASTER_AT as usize] = read_array(source, area.start)?;
    if header[..8] != *b"IVFC\0\0\x01\0" {
        return bad("no IVFC mark of a RomFS".into(), 0);
    }
    let master = u64::from(le32(&header, 8));
    let mut raw = [(0, 0, 0); 3];
    for (index, level) in raw.iter_mut().enumerate() {
        let at = 0xc + index * 24;
        let log = le32(&header, at + 16);
        if !(4..=20).contains(&log) {
            return bad(format!("level {} has blocks of 2^{log} bytes", index + 1), at as u64 + 16);
        }
        *level = (le64(&header, at), le64(&header, at + 8), 1u64 << log);
    }
    let room = area.end - area.start;
    let body = (MASTER_AT + master).next_multiple_of(raw[2].2);
    let after = raw[2].1.checked_next_multiple_of(raw[2].2).and_then(|len| body.checked_add(len));
    let (Some(first), Some(second)) =
        (after, after.zip(raw[1].0.checked_sub(raw[0].0)).and_then(|(at, more)| at.checked_add(more)))
    else {
        return bad("levels of impossible lengths".into(), 0xc);
    };
    let starts = [first, second, body];
    for (index, ((_, len, block), start)) in raw.iter().zip(starts).enumerate() {
        if start.checked_add(*len).is_none_or(|end| end > room) {
            return bad(format!("level {} ends behind the RomFS", index + 1), 0xc + index as u64 * 24);
        }
        let hashes = len.div_ceil(*block) * 32;
        let above = if index == 0 { master } else { raw[index - 1].1 };
        if hashes > above.next_multiple_of(32) {
            return bad(
                format!("level {} needs {hashes} bytes of hashes, there are {above}", index + 1),
                0xc + index as u64 * 24,
            );
        }
    }
    if first + raw[0].1 > second {
        return bad("level 2 begins within level 1".into(), 0x24);
    }
    let level = |index: usize| {
        let start = area.start + starts[index];
        Level { range: start..start + raw[index].1, block: raw[index].2 }
    };
    let start = area.start + MASTER_AT;
    Ok(Levels { master: start..start + master, levels: [level(0), level(1), level(2)] })
}

/// A file in the tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Path from the root.
    pub path: String,
    /// Offset and length of its data; `None` for a folder.
    pub data: Option<(u64, u64)>,
    /// What is wrong with it, if something is.
    pub broken: Option<String>,
}

/// Header and tables of level 3, up to where data begins.
pub struct Tables {
    /// The bytes from the beginning of level 3 up to the data.
    pub head: Vec<u8>,
    /// Folders and files, parents first, in the order of the tables.
    pub entries: Vec<Entry>,
    /// Where data begins, from the beginning of level 3.
    pub data_at: u64,
}

/// Reads the tables of a level 3 of `len` bytes, the first of which stands at byte `at` of the content.
///
/// # Errors
/// [`Error::Malformed`] for entries that lie outside or stand in a circle, [`Error::Limit`].
pub fn tables(source: &dyn Source, at: u64, len: u64) -> Result<Tables> {
    let bad = |what: String, offset: u64| Error::malformed(ID, what, at + offset);
    let header: [u8; LEVEL3_HEADER as usize] = read_array(source, at)?;
    let word = |index: usize| u64::from(le32(&header, index * 4));
    let data_at = word(9);
    if word(0) != LEVEL3_HEADER || data_at > len {
        return Err(bad(format!("a RomFS header of {} bytes, data from {data_at:#x} on", word(0)), 0));
    }
    let head = read_vec(source, at, data_at, "the tables of a RomFS", MOST_TABLES)?;
    let table = |index: usize| -> Result<&[u8]> {
        let (start, size) = (word(index), word(index + 1));
        let end = start + size;
        head.get(start as usize..end as usize).ok_or_else(|| {
            bad(format!("a table from {start:#x} to {end:#x}, behind the tables' end"), index as u64 * 4)
        })
    };
    let walk = Walk {
        folders: table(3)?,
        files: table(7)?,
        folders_at: at + word(3),
        files_at: at + word(7),
        room: len - data_at,
    };
    let mut entries = Vec::new();
    walk.folder(0, "", 0, &mut entries)?;
    Ok(Tables { head, entries, data_at })
}

/// The two tables of entries.
struct Walk<'a> {
    folders: &'a [u8],
    files: &'a [u8],
    folders_at: u64,
    files_at: u64,
    room: u64,
}

impl Walk<'_> {
    /// Adds what is in the folder whose entry is at `at`.
    fn folder(&self, at: u32, path: &str, depth: usize, out: &mut Vec<Entry>) -> Result<()> {
        if depth > MOST_DEPTH {
            return Err(Error::Limit {
                what: "folders in folders of a RomFS",
                asked: depth as u64,
                limit: MOST_DEPTH as u64,
            });
        }
        let entry = fixed(self.folders, at, 24, self.folders_at)?;
        let (mut child, mut file) = (le32(entry, 8), le32(entry, 12));
        while file != NONE {
            let entry = fixed(self.files, file, 32, self.files_at)?;
            let name = name(self.files, file, 32, self.files_at)?;
            let (start, len) = (le64(entry, 8), le64(entry, 16));
            // An empty file may stand behind the end, where its alignment leads.
            let inside = len == 0 || start.checked_add(len).is_some_and(|end| end <= self.room);
            let field = self.files_at + u64::from(file) + 8;
            let broken = (!inside)
                .then(|| format!("its data of {len} bytes at {start:#x} lies behind the end (field at {field:#x})"));
            push(out, Entry { path: format!("{path}{name}"), data: Some((start, len)), broken })?;
            file = self.next(le32(entry, 4), file, self.files_at)?;
        }
        while child != NONE {
            let entry = fixed(self.folders, child, 24, self.folders_at)?;
            let name = name(self.folders, child, 24, self.folders_at)?;
            let inner = format!("{path}{name}");
            push(out, Entry { path: inner.clone(), data: None, broken: None })?;
            self.folder(child, &format!("{inner}/"), depth + 1, out)?;
            child = self.next(le32(entry, 4), child, self.folders_at)?;
        }
        Ok(())
    }

    /// Siblings stand behind each other in every table that a tool writes; one that leads back could lead in a circle.
    fn next(&self, next: u32, now: u32, table_at: u64) -> Result<u32> {
        if next != NONE && next <= now {
            return Err(Error::malformed(
                ID,
                "an entry whose next one stands before it",
                table_at + u64::from(now) + 4,
            ));
        }
        Ok(next)
    }
}

fn push(out: &mut Vec<Entry>, entry: Entry) -> Result<()> {
    if out.len() >= MOST_NAMES {
        let limit = MOST_NAMES as u64;
        return Err(Error::Limit { what: "names in a RomFS", asked: limit + 1, limit });
    }
    out.push(entry);
    Ok(())
}

/// The fixed part of the entry at `at`.
fn fixed(table: &[u8], at: u32, len: usize, table_at: u64) -> Result<&[u8]> {
    let at = at as usize;
    let entry = at.checked_add(len).and_then(|end| table.get(at..end));
    entry.ok_or_else(|| Error::malformed(ID, "an entry behind the end of its table", table_at + at as u64))
}

/// The name after it.
fn name(table: &[u8], at: u32, fixed_len: usize, table_at: u64) -> Result<String> {
    let len_at = at as usize + fixed_len - 4;
    let bad = |what: &'static str| Error::malformed(ID, what, table_at + len_at as u64);
    let len = le32(table, len_at);
    if len > MOST_NAME || !len.is_multiple_of(2) {
        return Err(bad("a name of an impossible length"));
    }
    let bytes =
        table.get(len_at + 4..len_at + 4 + len as usize).ok_or_else(|| bad("a name behind the end of its table"))?;
    let units = bytes.as_chunks::<2>().0.iter().map(|p| u16::from_le_bytes(*p));
    let name: String = char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
    if name.is_empty() || name.contains(['/', '\0']) || name == "." || name == ".." {
        return Err(bad("a name that no file can have"));
    }
    Ok(name)
}

/// The files as nodes below `prefix`. `base` is the content in the clear; level 3 stands at `level3` of it, of which
/// the first `there` bytes of the content are there. `locked` says that the key is missing.
///
/// # Errors
/// When a slice cannot be made, which checked entries rule out.
pub fn nodes(tables: &Tables, base: &SourceRef, level3: u64, prefix: &str, there: u64) -> Result<Vec<Node>> {
    let mut nodes = Vec::with_capacity(tables.entries.len());
    for entry in &tables.entries {
        let kind = match entry.data {
            None => Kind::Folder,
            Some((_, len)) if entry.broken.is_some() => {
                let content = Content::Broken(entry.broken.clone().unwrap_or_default());
                Kind::File(File { len, spans: Vec::new(), content })
            }
            Some((_, 0)) => {
                Kind::File(File { len: 0, spans: Vec::new(), content: Content::Whole(Arc::new(Bytes(Vec::new()))) })
            }
            Some((start, len)) => {
                let at = level3 + tables.data_at + start;
                let content = match (at + len).checked_sub(there).filter(|&over| over > 0) {
                    Some(over) => Content::Cut { missing: over.min(len) },
                    None => Content::Whole(Arc::new(Slice::new(base.clone(), at.min(base.len()), len)?)),
                };
                Kind::File(File { len, spans: Vec::new(), content })
            }
        };
        nodes.push(Node::new(format!("{prefix}{}", entry.path), kind, None));
    }
    Ok(nodes)
}
