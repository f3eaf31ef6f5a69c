//! An installable package (CIA). Layout: docs/formats/n3ds-package.md.

mod compose;
mod proof;
pub mod ticket;
pub mod tmd;

pub use compose::{Inner, Making, compose};

use super::ncch::header::Kind as ContentKind;
use super::ncch::{self, Content};
use super::{digest, keys, sha256_of, title};
use crate::num::{be32, le32, le64};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Keyring;
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::KeyState;
use decanter_core::role::Role;
use decanter_core::seal::{Seal, Sealed};
use decanter_core::source::{Source, SourceRef, check_range, read_array, read_vec};
use decanter_core::tell::{grouped, with_article};
use decanter_core::tree::{self, File, Kind, Node, Tree};
use decanter_core::view::{ChainedCbc, Locked, Slice};
use decanter_core::{Error, Result};
use proof::{protection, seal_of_whole, settled};
use std::ops::Range;
use std::sync::Arc;
use ticket::Ticket;
use tmd::{ENCRYPTED, Record, Tmd};

pub(crate) const ID: &str = "cia";
/// Bytes of the header, and of the bitmap at its end.
pub const HEADER: u64 = 0x2020;
const BITMAP_AT: usize = 0x20;
/// Sections begin at multiples of this.
pub const ALIGN: u64 = 0x40;
/// Bytes of the meta section.
pub const META: u64 = 0x3ac0;
/// The largest certificate area, ticket, metadata and meta section that are read.
const MOST_SECTION: u64 = 8 << 20;
/// The largest content that is hashed to prove the title key.
const MOST_PROOF: u64 = 256 << 20;

/// The format.
pub struct Cia;
/// The one instance.
pub static PACKAGE: Cia = Cia;

/// A content of a package.
pub struct Entry {
    /// Its record.
    pub record: Record,
    /// Where it is in the package; `None` when the bitmap says that it is not there.
    pub range: Option<Range<u64>>,
    /// Its bytes without the title key's encryption; fails where that key is missing.
    pub plain: Option<SourceRef>,
    /// What it is, or why that cannot be read.
    pub content: std::result::Result<Content, String>,
}

/// A package, opened.
pub struct Package {
    /// The header's 0x20 bytes and the bitmap.
    pub header: Vec<u8>,
    /// Sections: certificates, ticket, title metadata, contents, meta.
    pub sections: [Range<u64>; 5],
    /// The ticket.
    pub ticket: Ticket,
    /// The title metadata.
    pub tmd: Tmd,
    /// The contents, in the order of the metadata.
    pub entries: Vec<Entry>,
    /// What is known of the title key; `NotNeeded` when nothing is under it.
    pub title_key: KeyState,
}

/// Length of a signature with its type and padding; what it signs follows.
///
/// # Errors
/// [`Error::Malformed`] for an unknown type.
pub(crate) fn signature_len(bytes: &[u8]) -> Result<usize> {
    let kind = if bytes.len() >= 4 { be32(bytes, 0) } else { 0 };
    match kind {
        0x1_0000 | 0x1_0003 => Ok(4 + 0x200 + 0x3c),
        0x1_0001 | 0x1_0004 => Ok(4 + 0x100 + 0x3c),
        0x1_0002 | 0x1_0005 => Ok(4 + 0x3c + 0x40),
        other => Err(Error::malformed(ID, format!("a signature of unknown type {other:#x}"), 0)),
    }
}

/// Lengths of the sections in the order in which they stand, from the header.
fn sections(header: &[u8]) -> Result<[Range<u64>; 5]> {
    let word = |at| u64::from(le32(header, at));
    let mut at = word(0).next_multiple_of(ALIGN);
    let mut all = [const { 0..0 }; 5];
    for (slot, len) in all.iter_mut().zip([word(8), word(0xc), word(0x10), le64(header, 0x18), word(0x14)]) {
        let end = at.checked_add(len).filter(|&end| end < u64::MAX - ALIGN);
        let end = end.ok_or_else(|| Error::malformed(ID, "contents of an impossible length", 0x18))?;
        *slot = at..end;
        at = end.next_multiple_of(ALIGN);
    }
    Ok(all)
}

/// An error of a section, with its offset in the package.
fn shifted(error: Error, by: u64) -> Error {
    match error {
        Error::Malformed { format, what, offset } => Error::Malformed { format, what, offset: offset + by },
        other => other,
    }
}

impl Package {
    /// Opens a package with all contents in it.
    ///
    /// # Errors
    /// For a header, ticket or metadata that cannot be right. A content that cannot be read is an entry with the reason.
    pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Self> {
        let header = read_vec(source.as_ref(), 0, HEADER, "the header of a package", HEADER)?;
        if u64::from(le32(&header, 0)) != HEADER {
            return Err(Error::malformed(ID, format!("a header of {:#x} bytes", le32(&header, 0)), 0));
        }
        let sections = sections(&header)?;
        let read = |section: &Range<u64>, what| {
            read_vec(source.as_ref(), section.start, section.end - section.start, what, MOST_SECTION)
        };
        let ticket = Ticket::parse(read(&sections[1], "a ticket")?).map_err(|e| shifted(e, sections[1].start))?;
        let tmd = Tmd::parse(&read(&sections[2], "title metadata")?).map_err(|e| shifted(e, sections[2].start))?;
        let mut package = Self { header, sections, ticket, tmd, entries: Vec::new(), title_key: KeyState::NotNeeded };
        package.entries = package.contents(source, keys)?;
        Ok(package)
    }

    fn contents(&mut self, source: &SourceRef, keys: &Keyring) -> Result<Vec<Entry>> {
        let mut at = self.sections[3].start;
        let mut key = None;
        let mut entries = Vec::new();
        for record in self.tmd.records.clone() {
            if !self.is_present(record.index) {
                entries.push(Entry {
                    record,
                    range: None,
                    plain: None,
                    content: Err("it is not in the package".into()),
                });
                continue;
            }
            let end = at.checked_add(record.len).filter(|_| record.len <= u64::MAX / 4);
            let Some(end) = end else {
                return Err(Error::malformed(
                    ID,
                    format!("content {} of an impossible length", record.index),
                    self.sections[2].start,
                ));
            };
            let range = at..end;
            at = end;
            let there = source.len().saturating_sub(range.start).min(record.len);
            let stored: SourceRef = Arc::new(Slice::new(source.clone(), range.start.min(source.len()), there)?);
            let plain = if record.kind & ENCRYPTED == 0 {
                stored
            } else {
                let found = key.get_or_insert_with(|| self.ticket.title_key(keys));
                self.unchained(&record, stored, found)?
            };
            let content = match Content::read(&plain, keys) {
                Ok(content) if content.header.len > record.len => {
                    Err(format!("its header says {} bytes, the metadata {}", content.header.len, record.len))
                }
                Ok(content) => Ok(content),
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(Error::Key(trouble)) => Err(trouble.to_string()),
                Err(e) => Err(e.to_string()),
            };
            entries.push(Entry { record, range: Some(range), plain: Some(plain), content });
        }
        self.title_key = self.title_key_state(&entries, key)?;
        Ok(entries)
    }

    /// A content without the title key's encryption; locked where the key is missing, cut to whole blocks.
    fn unchained(
        &self,
        record: &Record,
        stored: SourceRef,
        found: &std::result::Result<(decanter_core::Key, String), KeyTrouble>,
    ) -> Result<SourceRef> {
        let whole = stored.len() / 16 * 16;
        let stored: SourceRef = Arc::new(Slice::new(stored, 0, whole)?);
        match found {
            Ok((key, _)) => {
                let mut iv = [0; 16];
                iv[..2].copy_from_slice(&record.index.to_be_bytes());
                Ok(Arc::new(ChainedCbc::new(stored, key, iv)?))
            }
            Err(trouble) => Ok(Arc::new(Locked::new(stored, Arc::new([0..whole]), trouble.clone()))),
        }
    }

    /// Whether the title key is right: by the marks of contents, or by the hash of one that has no mark known here.
    fn title_key_state(
        &self,
        entries: &[Entry],
        key: Option<std::result::Result<(decanter_core::Key, String), KeyTrouble>>,
    ) -> Result<KeyState> {
        let origin = match key {
            None => return Ok(KeyState::NotNeeded),
            Some(Err(trouble)) => return Ok(KeyState::Trouble(trouble)),
            Some(Ok((_, origin))) => origin,
        };
        let coded = || entries.iter().filter(|e| e.record.kind & ENCRYPTED != 0 && e.plain.is_some());
        if coded().any(|e| e.content.is_ok()) {
            return Ok(KeyState::Found { origin, proof: Some("the marks of its contents".into()) });
        }
        let whole = coded().filter_map(|e| Some((e, e.plain.as_ref().filter(|p| p.len() == e.record.len)?)));
        match whole.min_by_key(|(e, _)| e.record.len) {
            Some((entry, plain)) if entry.record.len <= MOST_PROOF => {
                if sha256_of(plain.as_ref(), 0..plain.len())? == entry.record.hash {
                    let proof = Some(format!("the hash of content {}", entry.record.index));
                    return Ok(KeyState::Found { origin, proof });
                }
            }
            // Too long to look at, or not all there: nothing proves the key.
            _ => return Ok(KeyState::Found { origin, proof: None }),
        }
        let need = format!("the title key of {}", title::shown(self.ticket.title_id()));
        Ok(KeyState::Trouble(KeyTrouble { way: KeyWay::ByName, need, wrong: vec![origin], looked: Vec::new() }))
    }

    /// Whether the bitmap in the header says that the content with this index is there.
    pub fn is_present(&self, index: u16) -> bool {
        self.header[BITMAP_AT + usize::from(index / 8)] & 0x80 >> (index % 8) != 0
    }

    /// The program, if it can be read.
    pub fn main(&self) -> Option<&Content> {
        let first = self.entries.iter().find(|e| e.record.index == 0).or(self.entries.first());
        first.and_then(|e| e.content.as_ref().ok())
    }

    /// Where the package ends.
    pub fn end(&self) -> u64 {
        let meta = &self.sections[4];
        if meta.is_empty() { self.sections[3].end } else { meta.end }
    }

    /// The first trouble with any key.
    pub fn trouble(&self) -> Option<&KeyTrouble> {
        if let KeyState::Trouble(trouble) = &self.title_key {
            return Some(trouble);
        }
        self.entries.iter().filter_map(|e| e.content.as_ref().ok()).find_map(Content::trouble)
    }

    /// The package with nothing encrypted in it, all hashes redone.
    ///
    /// # Errors
    /// What composing fails with.
    pub fn clear(&self, source: &SourceRef) -> Result<Blueprint> {
        let slice = |range: &Range<u64>| -> Result<SourceRef> {
            Ok(Arc::new(Slice::new(source.clone(), range.start, range.end - range.start)?))
        };
        let mut ticket = Ticket::parse(self.ticket.bytes.clone())?;
        ticket.unsign();
        let mut tmd = Tmd::parse(&self.tmd.bytes())?;
        tmd.unsign();
        let mut contents = Vec::new();
        tmd.records.clear();
        for entry in &self.entries {
            let mut record = entry.record.clone();
            record.kind &= !ENCRYPTED;
            if let Some(plain) = &entry.plain {
                let content = entry.content.as_ref().ok();
                let source = content.map_or(plain, |c| &c.clear).clone();
                contents.push(Inner { record: record.clone(), source, proof: content.cloned() });
            }
            tmd.records.push(record);
        }
        let meta = (!self.sections[4].is_empty()).then(|| slice(&self.sections[4])).transpose()?;
        compose(Making { certificates: Some(slice(&self.sections[0])?), ticket, tmd, contents, meta })
    }
}

/// Folder of a content in the tree.
fn folder_of(entry: &Entry) -> String {
    match (entry.record.index, entry.content.as_ref().ok().map(|c| c.header.kind())) {
        (0, _) => "game".into(),
        (_, Some(ContentKind::Manual)) => "manual".into(),
        (_, Some(ContentKind::Child)) => "child".into(),
        (index, _) => format!("content {index:04}"),
    }
}

fn file_node(path: String, source: &SourceRef, range: &Range<u64>) -> Result<Node> {
    let len = range.end - range.start;
    let content = match check_range(source.len(), range.start, len) {
        Ok(()) => tree::Content::Whole(Arc::new(Slice::new(source.clone(), range.start, len)?)),
        Err(_) => tree::Content::Cut { missing: (range.end - source.len().max(range.start)).min(len) },
    };
    Ok(Node::new(path, Kind::File(File { len, spans: Vec::new(), content }), None))
}

impl Format for Cia {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "3DS package"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["cia"]
    }

    fn reads(&self) -> &'static str {
        "encrypted and decrypted: contents, ticket, title metadata, titles, icons, files, every hash"
    }

    fn least_len(&self) -> u64 {
        HEADER
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&[0x20, 0x20, 0, 0])] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < HEADER + 0x140 {
            return Ok(None);
        }
        let head: [u8; 0x20] = read_array(source, 0)?;
        let Ok(sections) = sections(&head) else { return Ok(None) };
        let right = u64::from(le32(&head, 0)) == HEADER && head[4..6] == [0; 2];
        let ticket = &sections[1];
        if !right || ticket.end - ticket.start < 0x200 || ticket.start + 4 > source.len() {
            return Ok(None);
        }
        let kind: [u8; 4] = read_array(source, ticket.start)?;
        Ok(signature_len(&kind).is_ok().then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let package = Package::read(&source, opener.keys())?;
        let title_id = package.tmd.title_id();
        let mut opened = Opened::new(ID, format!("3DS package of {}", with_article(title::Kind::of(title_id).name())));
        if let Some(main) = package.main() {
            ncch::tell(&mut opened, main, title_id, title::Kind::of(title_id).part());
        } else {
            opened.fact("title id", title::shown(title_id));
            opened.belonging(title::family(title_id), title::Kind::of(title_id).part());
        }
        if matches!(title::Kind::of(title_id), title::Kind::Update | title::Kind::AddOn) {
            opened.notice("it is installed beside its program: nothing is merged into one package on this platform");
        }
        let version = package.tmd.version();
        opened.fact("version", format!("{}.{}.{} ({version})", version >> 10, version >> 4 & 0x3f, version & 0xf));
        if opened.get("save data").is_none() && package.tmd.save_len() > 0 {
            opened.fact("save data", format!("{} KiB", package.tmd.save_len() >> 10));
        }
        let (mut nodes, mut notices) = (Vec::new(), Vec::new());
        for (name, section) in ["certificates.bin", "ticket.bin", "metadata.bin"].iter().zip(&package.sections) {
            nodes.push(file_node((*name).to_owned(), &source, section)?);
        }
        if !package.sections[4].is_empty() {
            nodes.push(file_node("meta.bin".into(), &source, &package.sections[4])?);
        }
        for entry in &package.entries {
            self.describe(entry, &package, &mut opened, &mut nodes, &mut notices)?;
        }
        opened.holds.tree = Some(Tree { nodes });
        notices.into_iter().for_each(|n| opened.notice(n));
        opened.proof.settled = settled(&package);
        opened.extent.promised_len = Some(package.end());
        let is_whole = package.trouble().is_none() && package.end() <= source.len();
        let clear = if is_whole { Some(package.clear(&source)?) } else { None };
        opened.protection = Some(protection(&package, clear));
        Ok(opened)
    }
}

impl Cia {
    fn describe(
        &self,
        entry: &Entry,
        package: &Package,
        opened: &mut Opened,
        nodes: &mut Vec<Node>,
        notices: &mut Vec<String>,
    ) -> Result<()> {
        let package_key_is_there = !matches!(package.title_key, KeyState::Trouble(_));
        let index = entry.record.index;
        let folder = folder_of(entry);
        let name = format!("content {index}");
        let what = match (&entry.content, &entry.range) {
            (_, None) => "not in the package".to_owned(),
            (Ok(content), _) => content.header.kind().name().to_owned(),
            (Err(_), _) => "not understood".to_owned(),
        };
        opened.fact("content", format!("{index}: {what}, {} bytes", grouped(entry.record.len)));
        let (Some(range), Some(plain)) = (&entry.range, &entry.plain) else { return Ok(()) };
        let whole = digest(&entry.record.hash);
        match &entry.content {
            Ok(content) => {
                notices.extend(content.notices.iter().map(|n| format!("{name}: {n}")));
                let mut more = Vec::new();
                nodes.extend(content.nodes(&format!("{folder}/"), &mut more)?);
                notices.extend(more.into_iter().map(|n| format!("{name}: {n}")));
                let mut sealed = content.sealed(&name, (content.header.len == entry.record.len).then(|| whole.clone()));
                if content.header.len != entry.record.len {
                    sealed = Sealed { source: plain.clone(), ..sealed };
                    sealed.seals.insert(0, seal_of_whole(entry, whole));
                }
                opened.proof.sealed.push(sealed);
                match entry.record.kind & ENCRYPTED {
                    0 => opened.extent.regions.extend(ncch::regions(content, range.start)),
                    _ => opened.extent.regions.push(Region { range: range.clone(), encrypted: true }),
                }
            }
            Err(why) => {
                if package_key_is_there {
                    notices.push(format!("{name} cannot be looked into: {why}"));
                }
                nodes.push(file_node(format!("{folder}.bin"), plain, &(0..entry.record.len))?);
                let mut first = [0];
                let trouble = match plain.is_empty() {
                    false => match plain.read_at(0, &mut first) {
                        Err(Error::Key(trouble)) => Some(trouble),
                        _ => None,
                    },
                    true => None,
                };
                let locked = trouble.is_some();
                if locked && let Some(Node { kind: Kind::File(file), .. }) = nodes.last_mut() {
                    file.content = tree::Content::Locked(plain.clone());
                }
                let seals = vec![Seal { of_plaintext: locked, ..seal_of_whole(entry, whole) }];
                let out_of_reach = if locked { vec![0..entry.record.len] } else { Vec::new() };
                let source = plain.clone();
                opened.proof.sealed.push(Sealed {
                    name,
                    source,
                    transform: None,
                    locked: out_of_reach,
                    trouble,
                    seals,
                    examine: None,
                });
                opened
                    .extent
                    .regions
                    .push(Region { range: range.clone(), encrypted: entry.record.kind & ENCRYPTED != 0 });
            }
        }
        Ok(())
    }
}
