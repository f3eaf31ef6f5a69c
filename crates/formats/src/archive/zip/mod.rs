//! Zip archives (APPNOTE 6.3.10): zip64, names in UTF-8 or code page 437, programs that unpack themselves.
//!
//! The entries' bytes are views, because an image inside has to be readable at any offset without unpacking it. Layout
//! and limits: docs/formats/zip.md.

mod directory;
mod entry;
mod inflate;
mod method;
mod raw;

pub use inflate::Inflate;

use crate::time;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::Checked;
use decanter_core::{Result, tell};
use directory::{Directory, Record};
use entry::Entry;
use method::Method;
use std::collections::HashSet;
use std::sync::Arc;

const ID: &str = "zip";
/// Signature of a local file header (APPNOTE 4.3.7).
const LOCAL: [u8; 4] = *b"PK\x03\x04";
/// Signature of the end of central directory record, with which an empty archive begins (APPNOTE 4.3.16).
const END: [u8; 4] = *b"PK\x05\x06";
/// What an archive begins with that was meant to be cut into parts (APPNOTE 8.5.5).
const SPANNED: [u8; 4] = *b"PK00";
/// Bytes of the end record.
const END_LEN: u64 = 22;
/// Bytes of where a link leads.
const MOST_LINK: u64 = 4096;

/// The format.
pub struct Zip;

impl Format for Zip {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "zip archive"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["zip"]
    }

    fn reads(&self) -> &'static str {
        "stored, deflated, Deflate64, bzip2, LZMA, xz, zstd and PPMd entries, zip64; an image inside is read in place"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < END_LEN {
            return Ok(None);
        }
        let magic: [u8; 4] = read_array(source, 0)?;
        if magic == LOCAL || magic == END || magic == SPANNED {
            return Ok(Some(80));
        }
        // A program that unpacks itself, or whatever else stands before an archive.
        let is_program = magic[..2] == *b"MZ" || magic == *b"\x7fELF" || magic[..2] == *b"#!";
        let end: [u8; 4] = read_array(source, source.len() - END_LEN)?;
        let ends = end == END || (is_program && directory::has_end(source)?);
        Ok(ends.then_some(if is_program { 60 } else { 15 }))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let directory = Directory::read(source.as_ref(), opener.watch())?;
        let mut opened = Opened::new(ID, "zip archive");
        if directory.before > 0 {
            opened.fact("before it", format!("{} bytes that are no part of the archive", directory.before));
        }
        for fault in &directory.faults {
            opened.proof.settled.push(Settled::fails(
                "central directory",
                fault,
                "an entry may be missing or too much",
            ));
        }
        let overlapping = overlapping(&directory);
        let locked = directory.records.iter().filter(|r| r.flags & 1 != 0).count();
        let mut tree = Tree::default();
        let mut names = HashSet::new();
        let mut twice = 0;
        for (index, record) in directory.records.iter().enumerate() {
            let path = record.name.trim_matches('/').to_owned();
            if path.is_empty() {
                continue;
            }
            twice += usize::from(!names.insert(path.clone()) && !record.is_folder());
            let kind = match record.is_folder() {
                true => Kind::Folder,
                false => file(&source, record, overlapping.contains(&index)),
            };
            tree.nodes.push(Node::new(path, kind, time::dos(record.date, record.time)));
        }
        if locked > 0 {
            opened.notice(format!(
                "{} encrypted; unpack them with their password first",
                tell::count(locked as u64, "entry is", "entries are")
            ));
        }
        if twice > 0 {
            opened.notice(format!(
                "{} the name of another one; each is kept",
                tell::count(twice as u64, "entry has", "entries have")
            ));
        }
        opened.fact("entries", tree.nodes.len().to_string());
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// An entry's content, read with its CRC-32; or where a link leads.
fn file(source: &SourceRef, record: &Record, overlaps: bool) -> Kind {
    let name = &record.name;
    let broken = |why: String| Kind::File(File::broken(record.len, format!("the entry \"{name}\" {why}")));
    if overlaps {
        return broken("shares its bytes with another one, as no archive that was made to be unpacked does".into());
    }
    if record.flags & 1 != 0 {
        return broken("is encrypted, which is not supported".into());
    }
    let Some(method) = Method::of(record.method, record.flags) else {
        return broken(format!("is compressed by a method that is not supported: {}", Method::name(record.method)));
    };
    let view = Entry::new(source.clone(), record.header_at, record.packed_len, record.len, method);
    let checked = Checked::new(Arc::new(view), record.crc, format!("the entry \"{name}\""));
    if !record.is_link() {
        return Kind::File(File::of(Arc::new(checked)));
    }
    match read_vec(&checked, 0, record.len, "where a link leads", MOST_LINK) {
        Ok(target) => Kind::Link(String::from_utf8_lossy(&target).into_owned()),
        Err(e) => broken(format!("is a link that cannot be read: {e}")),
    }
}

/// Entries that begin before another one ends: how a small archive claims to hold a huge amount of data.
fn overlapping(directory: &Directory) -> HashSet<usize> {
    let records = &directory.records;
    // One that reaches into the directory has a wrong length of its own, which says nothing of the others.
    let fits = |r: &Record| r.header_at.checked_add(r.packed_len).is_some_and(|end| end <= directory.begin);
    let mut order: Vec<usize> = (0..records.len()).filter(|i| !records[*i].is_folder() && fits(&records[*i])).collect();
    order.sort_by_key(|i| records[*i].header_at);
    let mut end = 0;
    let mut found = HashSet::new();
    for index in order {
        let record = &records[index];
        if record.header_at < end {
            found.insert(index);
        }
        let name = record.name.len().min(usize::from(u16::MAX)) as u64;
        // A name in another encoding may be shorter than its text here.
        let own = entry::HEADER_LEN + if name > 0 { 1 } else { 0 } + record.packed_len;
        end = end.max(record.header_at.saturating_add(own));
    }
    found
}
