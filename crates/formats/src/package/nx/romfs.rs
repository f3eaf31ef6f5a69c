//! The file system of a content: two tables of names, folders and files that name their siblings, and the data. Layout:
//! docs/formats/nca.md.

use super::raw::{RomFile, RomFolder, RomHead, Table};
use crate::raw::{self, split};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tree::{Content, File, Kind, Node};
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;

const ID: &str = "romfs";
/// Bytes of the header.
pub const HEAD: u64 = 0x50;
/// What stands where there is no entry.
pub const NONE: u32 = 0xffff_ffff;
/// Limits: names, folders in each other, bytes of a table, of all paths, of a name.
const MOST_NAMES: usize = 400_000;
const MOST_DEPTH: usize = 64;
const MOST_TABLE: u64 = 64 << 20;
const MOST_PATHS: usize = 256 << 20;
const MOST_NAME: u32 = 0x400;
/// Files that share bytes, as they are named.
const MOST_SHARED: usize = 3;

/// A file or folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Path from the root.
    pub path: String,
    /// Its bytes in the file system; `None` for a folder.
    pub data: Option<Range<u64>>,
    /// What is wrong with it, if something is.
    pub broken: Option<String>,
}

/// The names of a file system.
#[derive(Debug, Clone)]
pub struct Files {
    /// Folders and files, parents before what is in them.
    pub entries: Vec<Entry>,
    /// Where data begins.
    pub data_at: u64,
    /// What was noticed.
    pub notices: Vec<String>,
}

/// The two tables of entries, and what was met of them.
struct Tables {
    folders: Vec<u8>,
    files: Vec<u8>,
    folders_at: u64,
    files_at: u64,
    data_at: u64,
    room: u64,
    met: [HashSet<u32>; 2],
    paths: usize,
}

impl Files {
    /// Reads the tables of a file system of `len` bytes, of which `source` has all or the first ones.
    ///
    /// # Errors
    /// [`Error::Malformed`] for tables that lie outside and for entries that stand in a circle, [`Error::Limit`].
    pub fn read(source: &dyn Source, len: u64) -> Result<Self> {
        let head: RomHead = raw::read_at(source, 0)?;
        let data_at = head.data_at.get();
        if head.len.get() != HEAD || data_at > len {
            let what = format!("a header of {} bytes, data from {data_at:#x} on", head.len.get());
            return Err(Error::malformed(ID, what, 0));
        }
        let table = |table: &Table, field: u64| -> Result<Vec<u8>> {
            let (at, size) = (table.at.get(), table.len.get());
            match at.checked_add(size) {
                Some(end) if end <= len => read_vec(source, at, size, "a table of a RomFS", MOST_TABLE),
                _ => Err(Error::malformed(ID, format!("a table of {size} bytes at {at:#x}, behind the end"), field)),
            }
        };
        let mut tables = Tables {
            folders: table(&head.folders, 0x18)?,
            files: table(&head.files, 0x38)?,
            folders_at: head.folders.at.get(),
            files_at: head.files.at.get(),
            data_at,
            room: len - data_at,
            met: Default::default(),
            paths: 0,
        };
        let mut entries = Vec::new();
        tables.folder(0, "", 0, &mut entries)?;
        let notices = shared(&entries);
        Ok(Self { entries, data_at, notices })
    }

    /// The files as nodes below `prefix`, cut where `source` ends.
    ///
    /// # Errors
    /// When a slice cannot be made, which checked entries rule out.
    pub fn nodes(&self, source: &SourceRef, prefix: &str) -> Result<Vec<Node>> {
        let mut nodes = Vec::with_capacity(self.entries.len());
        for entry in &self.entries {
            let path = format!("{prefix}{}", entry.path);
            nodes.push(match (&entry.data, &entry.broken) {
                (None, _) => Node::new(path, Kind::Folder, None),
                (Some(range), Some(why)) => {
                    let len = range.end - range.start;
                    Node::new(
                        path,
                        Kind::File(File { len, spans: Vec::new(), content: Content::Broken(why.clone()) }),
                        None,
                    )
                }
                (Some(range), None) if range.is_empty() => {
                    let nothing: SourceRef = std::sync::Arc::new(decanter_core::source::Bytes(Vec::new()));
                    Node::new(path, Kind::File(File::of(nothing)), None)
                }
                (Some(range), None) => super::partition::node(path, source, range)?,
            });
        }
        Ok(nodes)
    }
}

/// Tells of files that share bytes without being the same.
fn shared(entries: &[Entry]) -> Vec<String> {
    let placed = entries.iter().filter_map(|e| Some((e.data.clone().filter(|r| !r.is_empty())?, &e.path)));
    let mut order: Vec<(Range<u64>, &String)> = placed.collect();
    order.sort_by_key(|(range, _)| (range.start, range.end));
    let pairs = order.windows(2).filter(|w| w[0].0.end > w[1].0.start && w[0].0 != w[1].0);
    let told: Vec<String> = pairs.map(|w| format!("{} and {} share bytes", w[0].1, w[1].1)).collect();
    let more = told.len().saturating_sub(MOST_SHARED);
    let last = (more > 0).then(|| format!("{more} more pairs of files share bytes"));
    told.into_iter().take(MOST_SHARED).chain(last).collect()
}

impl Tables {
    /// Adds what is in the folder whose entry is at `at`.
    fn folder(&mut self, at: u32, path: &str, depth: usize, out: &mut Vec<Entry>) -> Result<()> {
        if depth > MOST_DEPTH {
            let (asked, limit) = (depth as u64, MOST_DEPTH as u64);
            return Err(Error::Limit { what: "folders in folders of a RomFS", asked, limit });
        }
        let own = *fixed::<RomFolder>(&self.folders, at, self.folders_at)?;
        let (mut file, mut child) = (own.file.get(), own.folder.get());
        while file != NONE {
            self.meet(1, file, self.files_at)?;
            let entry = *fixed::<RomFile>(&self.files, file, self.files_at)?;
            let name = name(&self.files, file, size_of::<RomFile>(), entry.name_len.get(), self.files_at)?;
            let (start, len) = (entry.offset.get(), entry.len.get());
            let inside = start.checked_add(len).filter(|end| *end <= self.room);
            let field = self.files_at + u64::from(file) + 8;
            let (data, broken) = match inside {
                Some(end) => (self.data_at + start..self.data_at + end, None),
                // An empty file may stand behind the end, where its alignment leads.
                None if len == 0 => (0..0, None),
                None => (
                    0..len,
                    Some(format!("its data of {len} bytes at {start:#x} lies behind the end (field at {field:#x})")),
                ),
            };
            self.push(Entry { path: format!("{path}{name}"), data: Some(data), broken }, out)?;
            file = entry.sibling.get();
        }
        while child != NONE {
            self.meet(0, child, self.folders_at)?;
            let entry = *fixed::<RomFolder>(&self.folders, child, self.folders_at)?;
            let name = name(&self.folders, child, size_of::<RomFolder>(), entry.name_len.get(), self.folders_at)?;
            let inner = format!("{path}{name}");
            self.push(Entry { path: inner.clone(), data: None, broken: None }, out)?;
            self.folder(child, &format!("{inner}/"), depth + 1, out)?;
            child = entry.sibling.get();
        }
        Ok(())
    }

    /// An entry that was met before leads in a circle, or stands in two folders.
    fn meet(&mut self, table: usize, at: u32, table_at: u64) -> Result<()> {
        match self.met[table].insert(at) && !(table == 0 && at == 0) {
            true => Ok(()),
            false => Err(Error::malformed(ID, "an entry that was met before: a loop", table_at + u64::from(at))),
        }
    }

    fn push(&mut self, entry: Entry, out: &mut Vec<Entry>) -> Result<()> {
        self.paths += entry.path.len();
        let (limit, most) = (MOST_NAMES as u64, MOST_PATHS as u64);
        if out.len() >= MOST_NAMES {
            return Err(Error::Limit { what: "names in a RomFS", asked: limit + 1, limit });
        }
        if self.paths > MOST_PATHS {
            return Err(Error::Limit { what: "paths in a RomFS", asked: self.paths as u64, limit: most });
        }
        out.push(entry);
        Ok(())
    }
}

/// The fixed part of the entry at `at`.
fn fixed<T: raw::Layout>(table: &[u8], at: u32, table_at: u64) -> Result<&T> {
    let rest = table.get(at as usize..).unwrap_or_default();
    split::<T>(ID, "an entry", rest, table_at + u64::from(at)).map(|(entry, _)| entry)
}

/// The name after it.
fn name(table: &[u8], at: u32, fixed: usize, len: u32, table_at: u64) -> Result<String> {
    let start = at as usize + fixed;
    let bad = |what: &'static str| Error::malformed(ID, what, table_at + start as u64);
    let bytes = table.get(start..start + len.min(MOST_NAME) as usize).filter(|_| len <= MOST_NAME);
    let bytes = bytes.ok_or_else(|| bad("a name behind the end of its table"))?;
    let name = String::from_utf8_lossy(bytes).into_owned();
    if name.is_empty() || name.contains(['/', '\0']) || name == "." || name == ".." {
        return Err(bad("a name that no file can have"));
    }
    Ok(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;

    /// A root with the folder "sea", which holds "b" (3 bytes at 0x10); "a" (2 bytes at 0) stands in the root. Written entry
    /// by entry from the layout.
    fn by_hand() -> Vec<u8> {
        let mut folders = Vec::new();
        for (parent, sibling, folder, file, name) in [(0, NONE, 0x18, 0, ""), (0, NONE, NONE, 0x24, "sea\0")] {
            for word in [parent, sibling, folder, file, NONE, name.trim_end_matches('\0').len() as u32] {
                folders.extend(word.to_le_bytes());
            }
            folders.extend(name.as_bytes());
        }
        let mut files = Vec::new();
        for (parent, offset, len, name) in [(0u32, 0u64, 2u64, "a\0\0\0"), (0x18, 0x10, 3, "b\0\0\0")] {
            files.extend(parent.to_le_bytes());
            files.extend(NONE.to_le_bytes());
            files.extend(offset.to_le_bytes());
            files.extend(len.to_le_bytes());
            files.extend(NONE.to_le_bytes());
            files.extend(1u32.to_le_bytes());
            files.extend(name.as_bytes());
        }
        let folders_at = 0x50u64;
        let files_at = folders_at + folders.len() as u64;
        let data_at = files_at + files.len() as u64;
        let mut own = 0x50u64.to_le_bytes().to_vec();
        for (at, len) in [(0x50, 0), (folders_at, folders.len()), (0x50, 0), (files_at, files.len())] {
            own.extend(at.to_le_bytes());
            own.extend((len as u64).to_le_bytes());
        }
        own.extend(data_at.to_le_bytes());
        own.extend(folders);
        own.extend(files);
        own.extend(b"hi\0\0\0\0\0\0\0\0\0\0\0\0\0\0sea");
        own
    }

    fn read(bytes: &[u8]) -> Result<Files> {
        Files::read(&Bytes(bytes.to_vec()), bytes.len() as u64)
    }

    #[test]
    fn a_tree_by_hand() {
        let bytes = by_hand();
        let files = read(&bytes).unwrap();
        let source: SourceRef = std::sync::Arc::new(Bytes(bytes));
        let nodes = files.nodes(&source, "romfs/").unwrap();
        let told: Vec<(&str, u64)> = nodes.iter().map(|n| (n.path.as_str(), n.file().map_or(99, |f| f.len))).collect();
        assert_eq!(told, [("romfs/a", 2), ("romfs/sea", 99), ("romfs/sea/b", 3)]);
        let mut sea = [0; 3];
        nodes[2].file().unwrap().source().unwrap().read_at(0, &mut sea).unwrap();
        assert_eq!(&sea, b"sea");
    }

    #[test]
    fn loops_overlaps_and_places_outside() {
        let with = |at: usize, value: u32| {
            let mut bytes = by_hand();
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
            read(&bytes)
        };
        let files_at = 0x50 + 0x18 + 0x1c;
        assert!(
            with(0x50 + 0x18 + 4, 0x18).unwrap_err().to_string().contains("a loop at offset 0x68"),
            "its own sibling"
        );
        assert!(with(0x50 + 0x18 + 8, 0).unwrap_err().to_string().contains("a loop"), "the root in a folder");
        assert!(with(files_at + 4, 0).unwrap_err().to_string().contains("a loop"));
        let shared = with(files_at + 0x10, 0x12).unwrap();
        assert_eq!(shared.notices, ["a and sea/b share bytes"]);
        let outside = with(files_at + 0x10, 0x1000).unwrap();
        assert!(outside.entries[0].broken.as_ref().unwrap().contains("lies behind the end"));
        assert!(with(files_at + 0x1c, 0x500).is_err() && with(0x50 + 8, 0x1000).is_err());
        assert!(with(0, 0x28).is_err() && with(0x20, 0xffff_ffff).is_err());
    }

    proptest! {
        #[test]
        fn any_change_is_refused_or_read(noise in proptest::collection::vec((0usize..0x100, any::<u8>()), 0..6), cut in 0usize..0x100) {
            let mut bytes = by_hand();
            for (at, byte) in noise {
                let len = bytes.len();
                bytes[at % len] = byte;
            }
            let len = bytes.len() as u64;
            bytes.truncate(cut.max(1));
            let source: SourceRef = std::sync::Arc::new(Bytes(bytes));
            if let Ok(files) = Files::read(source.as_ref(), len) {
                files.nodes(&source, "").unwrap();
            }
        }
    }
}
