//! The two file systems that packages, gamecards and program sections are made of: a list of entries, a table of names, and
//! the files one after the other. Layout: docs/formats/pfs0-hfs0.md.

use super::raw::{HashedEntry, PartitionHead, PlainEntry};
use crate::raw::{self, split};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tree::{Content, File, Kind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

/// Limits: files, bytes of names.
pub const MOST_FILES: u64 = 65_536;
const MOST_NAMES: u64 = 16 << 20;
/// Bytes at the beginning that hold counts.
pub const HEAD: u64 = 0x10;

/// Which of the two.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kinds {
    /// Entries of a place and a length.
    Plain,
    /// The same with the SHA-256 of the beginning of each file.
    Hashed,
}

impl Kinds {
    /// The format's id, for errors.
    pub fn id(self) -> &'static str {
        match self {
            Self::Plain => "pfs0",
            Self::Hashed => "hfs0",
        }
    }

    /// What such a file system begins with.
    pub fn magic(self) -> &'static [u8; 4] {
        match self {
            Self::Plain => b"PFS0",
            Self::Hashed => b"HFS0",
        }
    }

    /// Bytes of an entry.
    pub fn entry(self) -> u64 {
        match self {
            Self::Plain => size_of::<PlainEntry>() as u64,
            Self::Hashed => size_of::<HashedEntry>() as u64,
        }
    }
}

/// A file in one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its name.
    pub name: String,
    /// Where it is, in bytes of the file system's source.
    pub range: Range<u64>,
    /// How many bytes of it are hashed, and their SHA-256.
    pub hashed: Option<(u64, [u8; 32])>,
}

/// A file system of either kind, its table read.
#[derive(Debug, Clone)]
pub struct Partition {
    /// Which kind.
    pub kind: Kinds,
    /// Bytes of the header with both tables: where files begin.
    pub head_len: u64,
    /// The files, in the order of the table.
    pub entries: Vec<Entry>,
}

impl Partition {
    /// Reads the table of one that fills `source`; its files may reach past the end of a source that is cut.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a wrong mark, tables that are cut, names that are none, files that overlap; [`Error::Limit`].
    pub fn read(source: &dyn Source, kind: Kinds) -> Result<Self> {
        let id = kind.id();
        let bad = |what: String, at: u64| Error::malformed(id, what, at);
        let head: PartitionHead = raw::read_at(source, 0)?;
        if head.magic != *kind.magic() {
            return Err(bad(format!("no {} mark", id.to_uppercase()), 0));
        }
        let (count, names_len) = (u64::from(head.count.get()), u64::from(head.names_len.get()));
        if count > MOST_FILES {
            return Err(Error::Limit { what: "files of a partition", asked: count, limit: MOST_FILES });
        }
        let table_len = count * kind.entry();
        if source.len() < HEAD + table_len + names_len {
            let end = HEAD + table_len + names_len;
            let what = format!("the table of {count} files ends at {end:#x}, the source before it");
            return Err(bad(what, source.len()));
        }
        let table = read_vec(source, HEAD, table_len, "the table of a partition", MOST_FILES * kind.entry())?;
        let names = read_vec(source, HEAD + table_len, names_len, "the names of a partition", MOST_NAMES)?;
        let head_len = HEAD + table_len + names_len;
        let mut entries = Vec::with_capacity(count as usize);
        let mut rest = table.as_slice();
        for index in 0..count {
            let at = HEAD + index * kind.entry();
            let (offset, len, name_at, hashed);
            match kind {
                Kinds::Plain => {
                    let (entry, more) = split::<PlainEntry>(id, "an entry", rest, at)?;
                    (offset, len, name_at, hashed, rest) =
                        (entry.offset.get(), entry.len.get(), entry.name.get(), None, more);
                }
                Kinds::Hashed => {
                    let (entry, more) = split::<HashedEntry>(id, "an entry", rest, at)?;
                    let own = (u64::from(entry.hashed.get()), entry.hash);
                    (offset, len, name_at, hashed, rest) =
                        (entry.offset.get(), entry.len.get(), entry.name.get(), Some(own), more);
                }
            }
            let start = head_len.checked_add(offset);
            let end = start.and_then(|s| s.checked_add(len)).filter(|end| *end <= i64::MAX as u64);
            let (Some(start), Some(end)) = (start, end) else {
                return Err(bad(format!("file {index} of an impossible length"), at));
            };
            if hashed.is_some_and(|(bytes, _)| bytes > len) {
                return Err(bad(format!("file {index} has fewer bytes than are hashed of it"), at + 0x14));
            }
            let name_field = at + 0x10;
            let name = names.get(name_at as usize..).and_then(|n| n.split(|&b| b == 0).next());
            let name = name.and_then(|n| std::str::from_utf8(n).ok()).filter(|n| !n.is_empty());
            let name = name.ok_or_else(|| bad(format!("file {index} has no name that can be read"), name_field))?;
            entries.push(Entry { name: name.to_owned(), range: start..end, hashed });
        }
        let partition = Self { kind, head_len, entries };
        partition.check()?;
        Ok(partition)
    }

    /// Fails where two files have the same name or share bytes.
    fn check(&self) -> Result<()> {
        let id = self.kind.id();
        let mut names = HashSet::new();
        let mut order: Vec<usize> = (0..self.entries.len()).collect();
        order.sort_by_key(|&i| (self.entries[i].range.start, self.entries[i].range.end));
        for (index, entry) in self.entries.iter().enumerate() {
            if !names.insert(entry.name.as_str()) {
                let at = HEAD + index as u64 * self.kind.entry() + 0x10;
                return Err(Error::malformed(id, format!("two files are called {}", entry.name), at));
            }
        }
        for pair in order.windows(2) {
            let [a, b] = [&self.entries[pair[0]], &self.entries[pair[1]]];
            if a.range.end > b.range.start && !b.range.is_empty() {
                let at = HEAD + pair[1] as u64 * self.kind.entry();
                return Err(Error::malformed(id, format!("{} and {} share bytes", a.name, b.name), at));
            }
        }
        Ok(())
    }

    /// Where the last file ends.
    pub fn end(&self) -> u64 {
        self.entries.iter().map(|e| e.range.end).max().unwrap_or(self.head_len)
    }

    /// The file called `name`.
    pub fn find(&self, name: &str) -> Option<&Entry> {
        self.entries.iter().find(|e| e.name == name)
    }

    /// Its files as nodes below `prefix`; `source` is the file system's, or what of it is there.
    ///
    /// # Errors
    /// When a slice cannot be made, which checked entries rule out.
    pub fn nodes(&self, source: &SourceRef, prefix: &str) -> Result<Vec<Node>> {
        self.entries.iter().map(|e| node(format!("{prefix}{}", e.name), source, &e.range)).collect()
    }
}

/// A file of `range` of `source`, cut where that ends.
///
/// # Errors
/// When a slice cannot be made, which the check before it rules out.
pub fn node(path: String, source: &SourceRef, range: &Range<u64>) -> Result<Node> {
    let len = range.end - range.start;
    let content = match range.end.saturating_sub(source.len()) {
        0 => Content::Whole(Arc::new(Slice::new(source.clone(), range.start, len)?)),
        over => Content::Cut { missing: over.min(len) },
    };
    Ok(Node::new(path, Kind::File(File { len, spans: Vec::new(), content }), None))
}

/// A file that goes into one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Its length in bytes.
    pub len: u64,
    /// How many bytes of it are hashed, and their SHA-256; only of the hashed kind.
    pub hashed: Option<(u32, [u8; 32])>,
}

/// The header of a file system with these files back to back, filled up to a multiple of `align` bytes.
///
/// # Errors
/// [`Error::Unsupported`] for more names than a header has room for.
pub fn header(kind: Kinds, items: &[Item], align: u64) -> Result<Vec<u8>> {
    let tables = HEAD + items.len() as u64 * kind.entry();
    let mut names = Vec::new();
    let mut entries = Vec::new();
    let mut offset = 0u64;
    for item in items {
        let name = u32::try_from(names.len()).map_err(|_| Error::unsupported(kind.id(), "so many names"))?;
        names.extend(item.name.as_bytes());
        names.push(0);
        entries.extend(offset.to_le_bytes());
        entries.extend(item.len.to_le_bytes());
        entries.extend(name.to_le_bytes());
        if kind == Kinds::Hashed {
            let (len, hash) = item.hashed.unwrap_or_default();
            entries.extend(len.to_le_bytes());
            entries.extend([0; 8]);
            entries.extend(hash);
        } else {
            entries.extend([0; 4]);
        }
        offset += item.len;
    }
    let whole = (tables + names.len() as u64).next_multiple_of(align);
    names.resize((whole - tables) as usize, 0);
    let count = u32::try_from(items.len()).map_err(|_| Error::unsupported(kind.id(), "so many files"))?;
    let names_len = u32::try_from(names.len()).map_err(|_| Error::unsupported(kind.id(), "so many names"))?;
    let mut header = kind.magic().to_vec();
    header.extend(count.to_le_bytes());
    header.extend(names_len.to_le_bytes());
    header.extend([0; 4]);
    header.extend(entries);
    header.extend(names);
    Ok(header)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;

    /// Written byte by byte from the layout table.
    fn by_hand() -> Vec<u8> {
        let mut own = b"PFS0\x02\0\0\0\x08\0\0\0\0\0\0\0".to_vec();
        own.extend(b"\0\0\0\0\0\0\0\0\x05\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0");
        own.extend(b"\x05\0\0\0\0\0\0\0\x02\0\0\0\0\0\0\0\x03\0\0\0\0\0\0\0");
        own.extend(b"ab\0cd\0\0\0");
        own.extend(b"helloKK");
        own
    }

    #[test]
    fn a_table_by_hand() {
        let bytes = by_hand();
        let own = Partition::read(&Bytes(bytes.clone()), Kinds::Plain).unwrap();
        let found: Vec<_> = own.entries.iter().map(|e| (e.name.as_str(), e.range.clone())).collect();
        assert_eq!((own.head_len, found), (0x48, vec![("ab", 0x48..0x4d), ("cd", 0x4d..0x4f)]));
        let items = [("ab", 5), ("cd", 2)].map(|(n, len)| Item { name: n.into(), len, hashed: None });
        assert_eq!(header(Kinds::Plain, &items, 8).unwrap(), bytes[..0x48]);
        let source: SourceRef = Arc::new(Bytes(bytes[..0x4e].to_vec()));
        let nodes = own.nodes(&source, "x/").unwrap();
        assert_eq!(nodes[1].path, "x/cd");
        assert!(matches!(nodes[1].file().unwrap().content, Content::Cut { missing: 1 }));
    }

    #[test]
    fn hashes_stand_with_their_lengths() {
        let items = [Item { name: "a".into(), len: 0x300, hashed: Some((0x200, [7; 32])) }];
        let bytes = header(Kinds::Hashed, &items, 0x200).unwrap();
        assert_eq!((bytes.len(), &bytes[0x10..0x38], bytes[0x50]), (0x200, &b"\0\0\0\0\0\0\0\0\0\x03\0\0\0\0\0\0\0\0\0\0\0\x02\0\0\0\0\0\0\0\0\0\0\x07\x07\x07\x07\x07\x07\x07\x07"[..], b'a'));
        let own = Partition::read(&Bytes(bytes), Kinds::Hashed).unwrap();
        assert_eq!(own.entries[0].hashed, Some((0x200, [7; 32])));
    }

    #[test]
    fn tables_that_cannot_be_right_say_where() {
        let told = |at: usize, byte: u8| {
            let mut bytes = by_hand();
            bytes[at] = byte;
            Partition::read(&Bytes(bytes), Kinds::Plain).err().unwrap().to_string()
        };
        assert!(told(0, b'Q').contains("no PFS0 mark"));
        assert!(told(0x28, 4).contains("ab and cd share bytes at offset 0x28"));
        assert!(told(0x38, 8).contains("file 1 has no name that can be read at offset 0x38"));
        assert!(told(0x38, 0).contains("two files are called ab at offset 0x38"));
        assert!(told(0x2f, 0xff).contains("impossible length"));
        assert!(told(0x06, 0xff).contains("limit"));
    }

    proptest! {
        #[test]
        fn any_bytes_are_refused_or_read(mut bytes in proptest::collection::vec(any::<u8>(), 0..300), hashed in any::<bool>(), count in 0u8..4) {
            let kind = if hashed { Kinds::Hashed } else { Kinds::Plain };
            if bytes.len() > 16 {
                bytes[..4].copy_from_slice(kind.magic());
                bytes[4..16].copy_from_slice(&[count, 0, 0, 0, 40, 0, 0, 0, 0, 0, 0, 0]);
            }
            let source: SourceRef = Arc::new(Bytes(bytes));
            if let Ok(own) = Partition::read(source.as_ref(), kind) {
                own.nodes(&source, "").unwrap();
            }
        }

        #[test]
        fn what_is_written_is_read(lens in proptest::collection::vec(0u64..1 << 40, 0..20), align in 1u64..0x400) {
            let items: Vec<Item> = lens.iter().enumerate().map(|(i, len)| Item { name: format!("f{i}"), len: *len, hashed: None }).collect();
            let bytes = header(Kinds::Plain, &items, align).unwrap();
            let own = Partition::read(&Bytes(bytes.clone()), Kinds::Plain).unwrap();
            prop_assert_eq!(own.head_len, bytes.len() as u64);
            prop_assert!(own.head_len.is_multiple_of(align));
            prop_assert_eq!(own.entries.iter().map(|e| e.range.end - e.range.start).collect::<Vec<_>>(), lens);
        }
    }
}
