//! NTFS, read by its master file table: every record is looked at once, in order, which is how the files of a whole drive
//! are known in the time of reading the table.
//!
//! Numbers are little-endian. Layout: docs/formats/ntfs.md.

mod check;
mod packed;
mod raw;
mod record;
mod system_packed;

use super::used;
use crate::noticed::Noticed;
use crate::num::{le16, le32};
use crate::raw::read_at;
use crate::walk::Room;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Bytes, Source, SourceRef, read_array, read_vec};
use decanter_core::tree::{About, File, Kind, Node, Tree, below};
use decanter_core::view::{Cached, Concat, Fill, Slice};
use decanter_core::{Error, Result, watch};
use packed::{MOST_UNIT, Units};
use record::{Attribute, Body, IN_USE, IS_FOLDER, NUMBER, Piece, attributes, fix, utf16};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use system_packed::Chunks;
use zerocopy::FromBytes;

const ID: &str = "ntfs";
/// Records with a fixed meaning: the table itself, the volume, the root folder, the map of clusters.
const TABLE: u64 = 0;
const VOLUME: u64 = 3;
const ROOT: u64 = 5;
const BITMAP: u64 = 6;
/// Records below are the file system's own.
const FIRST_OWN: u64 = 16;
/// Records that are read.
const MOST_RECORDS: u64 = 4 << 20;
/// Bytes of the table that are read at once.
const STRETCH: u64 = 1 << 20;
/// How deep folders may stand.
const MOST_DEPTH: usize = 512;
/// Kinds of attributes.
mod kind {
    pub const NAME: u32 = 0x30;
    pub const LABEL: u32 = 0x60;
    pub const STATE: u32 = 0x70;
    pub const DATA: u32 = 0x80;
    pub const ROOT: u32 = 0x90;
    pub const NODES: u32 = 0xa0;
    pub const MAP: u32 = 0xb0;
    pub const REPARSE: u32 = 0xc0;
}
/// Flags of an attribute.
const COMPRESSED: u16 = 0x00ff;
const ENCRYPTED: u16 = 0x4000;
/// The namespace of names of eight and three characters.
const DOS: u8 = 2;

/// The format.
pub struct Ntfs;

/// The layout of a volume.
#[derive(Debug, Clone, Copy)]
struct Layout {
    cluster_len: u64,
    len: u64,
    table: u64,
    record_len: u64,
}

impl Layout {
    fn read(source: &dyn Source) -> Result<Option<Self>> {
        if !super::is_boot_sector(source)? || &read_array::<8>(source, 3)? != b"NTFS    " {
            return Ok(None);
        }
        let own: raw::Boot = read_at(source, 0)?;
        let sector_len = u64::from(own.sector_len.get());
        let per_cluster = match own.sectors_a_cluster {
            log @ 0x81.. => 1 << (256 - u32::from(log)).min(20),
            sectors => u64::from(sectors),
        };
        let cluster_len = sector_len * per_cluster;
        let record_len = match own.record_len {
            clusters @ 1.. => cluster_len * clusters as u64,
            log => 1 << (-i32::from(log)).clamp(0, 20),
        };
        let table = own.table.get().checked_mul(cluster_len);
        let len = own.sectors.get().checked_mul(sector_len);
        let (Some(table), Some(len)) = (table, len) else { return Ok(None) };
        let plausible = matches!(sector_len, 512 | 1024 | 2048 | 4096)
            && cluster_len.is_power_of_two()
            && cluster_len <= 2 << 20
            && record_len.is_power_of_two()
            && (512..=65536).contains(&record_len);
        Ok(plausible.then_some(Self { cluster_len, len, table, record_len }))
    }
}

/// What the table says of one file or folder.
#[derive(Default)]
struct Entry {
    in_use: bool,
    is_folder: bool,
    sequence: u16,
    /// Folder (record and sequence), name, last change.
    names: Vec<(u64, u16, String, i64)>,
    data: Option<Data>,
    /// The stream with what the system itself has packed.
    packed: Option<Data>,
    streams: usize,
    /// The value of its reparse point; empty where that stands elsewhere.
    reparse: Option<Vec<u8>>,
}

/// The content of a file.
enum Data {
    Resident(Vec<u8>),
    Pieces { pieces: Vec<Piece>, flags: u16 },
}

impl Format for Ntfs {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "NTFS file system"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Volume)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["img", "ntfs"]
    }

    fn reads(&self) -> &'static str {
        "resident, fragmented, sparse and compressed files, what the system has packed with XPRESS, hard links; volumes that were not shut down"
    }

    fn marks(&self) -> &'static [Mark] {
        &[Mark { at: 3, bytes: b"NTFS    " }]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(Layout::read(source)?.map(|_| 90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some(layout) = Layout::read(source.as_ref())? else {
            return Err(Error::malformed(ID, "the first sector is none of an NTFS volume", 3));
        };
        let mut volume = Volume::new(source.clone(), layout);
        let mut opened = Opened::new(ID, self.name());
        opened.extent.unit = Some(512);
        opened.extent.promised_len = Some(layout.len);
        let structure = volume.read_table(opener, &mut opened)?;
        if let Some(Data::Pieces { pieces, .. }) = volume.entries.get(&BITMAP).and_then(|e| e.data.as_ref())
            && let Ok(map) = volume.content(pieces, 0)
            && let Ok(bits) = read_vec(map.as_ref(), 0, map.len(), "the map of clusters", 64 << 20)
        {
            let taken: u64 = bits.iter().map(|b| u64::from(b.count_ones())).sum();
            opened.fact("used", used(taken * layout.cluster_len, layout.len));
            opened.extent.free = Some(layout.len.saturating_sub(taken * layout.cluster_len));
        }
        opened.holds.tree = Some(volume.tree()?);
        let records = volume.table.clone();
        opened.proof.inspections.push(Arc::new(move |watch| check::inspect(&source, layout, &records, watch)));
        opened.extent.structure = structure;
        opened.told.notices.extend(volume.noticed.into_notices());
        Ok(opened)
    }
}

struct Volume {
    source: SourceRef,
    layout: Layout,
    entries: HashMap<u64, Entry>,
    noticed: Noticed,
    /// The file table.
    table: Vec<Piece>,
    /// A bit for every record: whether it is in use.
    in_use: Vec<u8>,
}

impl Volume {
    fn new(source: SourceRef, layout: Layout) -> Self {
        let (entries, noticed) = (HashMap::new(), Noticed::default());
        Self { source, layout, entries, noticed, table: Vec::new(), in_use: Vec::new() }
    }

    /// Reads every record of the table; returns where the table is.
    fn read_table(&mut self, opener: &Opener<'_>, opened: &mut Opened) -> Result<Vec<Range<u64>>> {
        let record_len = self.layout.record_len;
        let mut first = read_vec(self.source.as_ref(), self.layout.table, record_len, "a record", 65536)?;
        fix(&mut first, b"FILE", self.layout.table)?;
        self.in_use = self.map_of_records(&first)?;
        let mut pieces: Vec<Piece> = Vec::new();
        for attribute in attributes(&first).0.into_iter().filter(|a| a.kind == kind::DATA && a.name.is_empty()) {
            if let Body::Elsewhere(piece) = attribute.body {
                pieces.push(piece);
            }
        }
        let Some(len) = pieces.first().map(|p| p.len) else {
            return Err(Error::malformed(ID, "the file table does not say where it is", self.layout.table));
        };
        let count = len / record_len;
        if count > MOST_RECORDS {
            return Err(Error::Limit { what: "files on a volume", asked: count, limit: MOST_RECORDS });
        }
        let mut table = self.content(&pieces, 0)?;
        let mut number = 0;
        while number < count {
            watch::check(opener.watch())?;
            // The table's own further runs stand in records that the first runs lead to.
            let more = self.entries.get(&TABLE).and_then(|e| e.data.as_ref());
            if let Some(Data::Pieces { pieces: all, .. }) = more
                && all.len() > pieces.len()
            {
                pieces = all.clone();
                table = self.content(&pieces, 0)?;
            }
            let here = number * record_len;
            let stretch = STRETCH.min(table.len().saturating_sub(here)) / record_len * record_len;
            if stretch == 0 {
                self.noticed
                    .note(format!("the file table goes on for {} records that cannot be found", count - number));
                break;
            }
            let mut bytes = vec![0; stretch as usize];
            if let Err(e) = table.read_at(here, &mut bytes) {
                if e.blame() != decanter_core::error::Blame::Source {
                    return Err(e);
                }
                self.noticed.note(format!("the file table cannot be read from record {number} on: {e}"));
                break;
            }
            for record in bytes.chunks_mut(record_len as usize).take((count - number) as usize) {
                self.record(number, record, opened);
                number += 1;
            }
        }
        let spans = self.spans(&pieces);
        self.table = pieces;
        Ok(spans)
    }

    /// Which records are in use, as the table's own record leads to it.
    fn map_of_records(&self, first: &[u8]) -> Result<Vec<u8>> {
        let map = attributes(first).0.into_iter().find(|a| a.kind == kind::MAP);
        let bytes = match map.map(|a| a.body) {
            Some(Body::Resident(bytes)) => return Ok(bytes.to_vec()),
            Some(Body::Elsewhere(piece)) => self.content(&[piece], 0),
            None => return Ok(Vec::new()),
        };
        let read = bytes.and_then(|b| read_vec(b.as_ref(), 0, b.len(), "the map of records", MOST_RECORDS / 8 + 8));
        match read {
            Err(e) if e.blame() != decanter_core::error::Blame::Source => Err(e),
            // Further pieces stand in other records: what is missing here is missed by nobody.
            read => Ok(read.unwrap_or_default()),
        }
    }

    fn record(&mut self, number: u64, record: &mut [u8], opened: &mut Opened) {
        let Ok((head, _)) = raw::Record::read_from_prefix(record) else {
            self.noticed.note(format!("record {number} of the file table is cut short"));
            return;
        };
        if !matches!(&head.fixups.magic, b"FILE" | b"BAAD") || head.flags.get() & IN_USE == 0 {
            if self.in_use.get(number as usize / 8).is_some_and(|b| b >> (number % 8) & 1 != 0) {
                self.noticed.note(format!("record {number} of the file table is in use, and is none: a file is lost"));
            }
            return;
        }
        if let Err(e) = fix(record, b"FILE", number * self.layout.record_len) {
            self.noticed.note(format!("record {number} of the file table is damaged: {e}"));
            return;
        }
        let base = head.base.get() & NUMBER;
        let own = if base == 0 { number } else { base };
        let entry = self.entries.entry(own).or_default();
        if base == 0 {
            entry.in_use = true;
            entry.is_folder = head.flags.get() & IS_FOLDER != 0;
            entry.sequence = head.sequence.get();
        }
        let (all, is_whole) = attributes(record);
        if !is_whole {
            self.noticed.note(format!("record {number} of the file table is damaged: its attributes are not whole"));
        }
        for attribute in all {
            match (attribute.kind, &attribute.body) {
                (kind::NAME, Body::Resident(value)) if entry.name(value) => {}
                (kind::NAME, _) => self.noticed.note(format!("record {number} of the file table has a damaged name")),
                (kind::LABEL, Body::Resident(value)) if own == VOLUME => opened.fact("label", utf16(value)),
                (kind::STATE, Body::Resident(value)) if own == VOLUME && value.len() >= 12 => {
                    if le16(value, 10) & 1 != 0 {
                        opened.notice(
                            "the volume was not shut down: what was written last may be missing or out of date",
                        );
                    }
                    opened.fact("version", format!("{}.{}", value[8], value[9]));
                }
                (kind::DATA, _) if attribute.name.is_empty() => take(&mut entry.data, attribute),
                (kind::DATA, _) if attribute.name == system_packed::STREAM => take(&mut entry.packed, attribute),
                (kind::DATA, _) => entry.streams += 1,
                (kind::REPARSE, Body::Resident(value)) => entry.reparse = Some(value.to_vec()),
                (kind::REPARSE, _) => entry.reparse = Some(Vec::new()),
                _ => {}
            }
        }
    }

    /// The runs of all pieces in order, without holes; clusters as bytes of the volume.
    fn spans(&self, pieces: &[Piece]) -> Vec<Range<u64>> {
        let mut spans = Vec::new();
        let len = self.layout.cluster_len;
        for (place, count) in pieces.iter().flat_map(|p| &p.runs) {
            if let Some(start) = place.and_then(|p| p.checked_mul(len))
                && let Some(bytes) = count.checked_mul(len)
                && start.checked_add(bytes).is_some_and(|end| end <= self.source.len())
            {
                super::push_span(&mut spans, start, bytes);
            }
        }
        spans
    }

    /// The bytes of a value in clusters.
    fn content(&self, pieces: &[Piece], flags: u16) -> Result<SourceRef> {
        let mut pieces: Vec<&Piece> = pieces.iter().collect();
        pieces.sort_by_key(|p| p.first);
        let bad = |what: &str| Error::Unreadable { why: format!("its runs of clusters {what}") };
        let head = pieces.first().filter(|p| p.first == 0).ok_or_else(|| bad("do not begin at its beginning"))?;
        let (len, written, unit) = (head.len, head.written.min(head.len), head.unit);
        let cluster_len = self.layout.cluster_len;
        let (mut runs, mut starts, mut at) = (Vec::new(), Vec::new(), 0u64);
        for piece in &pieces {
            if piece.first != at {
                return Err(bad(&format!("have a gap at cluster {at}")));
            }
            for (place, count) in &piece.runs {
                runs.push((*place, *count));
                starts.push(at);
                at = at.checked_add(*count).ok_or_else(|| bad("are longer than any volume"))?;
            }
        }
        if at.checked_mul(cluster_len).is_none_or(|bytes| bytes < len) {
            return Err(bad(&format!("hold fewer than its {len} bytes")));
        }
        for (place, count) in &runs {
            let end = place.and_then(|p| p.checked_add(*count)).and_then(|e| e.checked_mul(cluster_len));
            if place.is_some() && end.is_none_or(|end| end > self.source.len()) {
                return Err(bad("reach past the end of the volume"));
            }
        }
        if flags & COMPRESSED != 0 && unit > 0 {
            let unit_clusters = 1u64.checked_shl(unit.into()).unwrap_or(0);
            if unit_clusters == 0 || unit_clusters.checked_mul(cluster_len).is_none_or(|bytes| bytes > MOST_UNIT) {
                return Err(bad("are packed in units that are too large"));
            }
            let units = Units { source: self.source.clone(), runs, starts, cluster_len, unit_clusters, len };
            return Ok(Arc::new(Cached::new(units, 8)));
        }
        let (mut parts, mut left): (Vec<SourceRef>, u64) = (Vec::new(), written);
        for (place, count) in runs {
            let bytes = left.min(count * cluster_len);
            if bytes == 0 {
                break;
            }
            parts.push(match place {
                Some(place) => Arc::new(Slice::new(self.source.clone(), place * cluster_len, bytes)?),
                None => Arc::new(Fill { byte: 0, len: bytes }),
            });
            left -= bytes;
        }
        // What was never written reads as zeros.
        parts.push(Arc::new(Fill { byte: 0, len: len - written }));
        Ok(if parts.len() == 2 && written == len { parts.remove(0) } else { Arc::new(Concat::new(parts)?) })
    }

    /// Folders and files by their names, folders before what is in them.
    fn tree(&mut self) -> Result<Tree> {
        let mut paths: HashMap<u64, Option<String>> = HashMap::from([(ROOT, Some(String::new()))]);
        let mut numbers: Vec<u64> = self
            .entries
            .iter()
            .filter(|(n, e)| **n >= FIRST_OWN && e.in_use && !e.names.is_empty())
            .map(|(n, _)| *n)
            .collect();
        numbers.sort_unstable();
        let mut room = Room::default();
        let (mut nodes, mut streams, mut lost) = (Vec::new(), 0, 0);
        for number in numbers {
            let entry = &self.entries[&number];
            streams += entry.streams;
            for (parent, sequence, name, modified) in &entry.names {
                let folder = match self.folder_path(*parent, *sequence, &mut paths, 0) {
                    Some(path) => path,
                    None => {
                        lost += 1;
                        format!("lost/{number}")
                    }
                };
                let path = below(&folder, name);
                room.take(&path)?;
                let kind = if entry.is_folder { Kind::Folder } else { Kind::File(self.file(entry)) };
                let mut node = Node::new(path, kind, Some(*modified));
                if matches!(&entry.data, Some(Data::Pieces { flags, .. }) if flags & COMPRESSED != 0) {
                    node = node.about(About { words: vec!["compressed".into()], ..About::default() });
                }
                nodes.push(node);
            }
        }
        if streams > 0 {
            self.noticed.remark(format!("{streams} further data streams of files are not handed out"));
        }
        if lost > 0 {
            self.noticed.note(format!("{lost} files stand in a folder that is gone: they are listed in \"lost\""));
        }
        // The file system's own records beyond the fixed ones.
        nodes.retain(|n| n.path != "$Extend" && !n.path.starts_with("$Extend/"));
        nodes.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(Tree { nodes })
    }

    /// The path of a folder; `None` if it, or one above it, is gone.
    fn folder_path(
        &self,
        number: u64,
        sequence: u16,
        paths: &mut HashMap<u64, Option<String>>,
        depth: usize,
    ) -> Option<String> {
        if let Some(known) = paths.get(&number) {
            return known.clone();
        }
        let entry = self.entries.get(&number).filter(|e| e.in_use && e.is_folder && depth < MOST_DEPTH)?;
        let (parent, own, name, _) = entry.names.first().filter(|_| entry.sequence == sequence || sequence == 0)?;
        // Whoever leads back here meets nothing.
        paths.insert(number, None);
        let path = self.folder_path(*parent, *own, paths, depth + 1);
        let path = path.map(|p| below(&p, name));
        paths.insert(number, path.clone());
        path
    }

    /// A file whose content its reparse point tells of: packed by the system itself, or somewhere else.
    fn reparsed(&self, entry: &Entry, value: &[u8]) -> File {
        let len = match &entry.data {
            Some(Data::Pieces { pieces, .. }) => pieces.iter().find(|p| p.first == 0).map_or(0, |p| p.len),
            Some(Data::Resident(bytes)) => bytes.len() as u64,
            None => 0,
        };
        let tag = if value.len() >= 4 { le32(value, 0) } else { 0 };
        let packing = match (system_packed::packing(value), &entry.packed) {
            (Some(packing), Some(_)) => packing,
            _ => return File::broken(len, format!("a reparse point ({tag:#010x}), which leads elsewhere")),
        };
        let stream = match &entry.packed {
            Some(Data::Pieces { pieces, flags }) => self.content(pieces, *flags),
            Some(Data::Resident(bytes)) => Ok(Arc::new(Bytes(bytes.clone())) as SourceRef),
            None => Ok(Arc::new(Bytes(Vec::new())) as SourceRef),
        };
        match stream.and_then(|stream| Chunks::new(stream, len, packing)) {
            Ok(chunks) => File::of(Arc::new(Cached::new(chunks, 8))),
            Err(e) => File::broken(len, e.to_string()),
        }
    }

    fn file(&self, entry: &Entry) -> File {
        let empty = || File::of(Arc::new(Bytes(Vec::new())));
        if let Some(value) = &entry.reparse {
            return self.reparsed(entry, value);
        }
        match &entry.data {
            None => empty(),
            Some(Data::Resident(bytes)) => File::of(Arc::new(Bytes(bytes.clone()))),
            Some(Data::Pieces { pieces, flags }) => {
                let len = pieces.iter().find(|p| p.first == 0).map_or(0, |p| p.len);
                if flags & ENCRYPTED != 0 {
                    return File::broken(
                        len,
                        "encrypted by its file system: only the machine that wrote it has the key",
                    );
                }
                match self.content(pieces, *flags) {
                    Ok(source)
                        if flags & COMPRESSED == 0 && !pieces.iter().flat_map(|p| &p.runs).any(|r| r.0.is_none()) =>
                    {
                        File { spans: self.spans(pieces), ..File::of(source) }
                    }
                    Ok(source) => File::of(source),
                    Err(e) => File::broken(len, e.to_string()),
                }
            }
        }
    }
}

impl Entry {
    /// Takes a name over, unless it is one that DOS sees; whether it is whole.
    fn name(&mut self, value: &[u8]) -> bool {
        let Ok((own, rest)) = raw::Name::ref_from_prefix(value) else { return false };
        let Some(name) = rest.get(..usize::from(own.letters) * 2) else { return false };
        if own.namespace == DOS {
            return true;
        }
        let parent = own.parent.get();
        // Units of 100 ns since 1601.
        let modified = (own.modified.get() / 10_000_000) as i64 - 11_644_473_600;
        self.names.push((parent & NUMBER, (parent >> 48) as u16, utf16(name).replace('/', "_"), modified));
        true
    }
}

/// Takes a value, or a piece of one, over.
fn take(own: &mut Option<Data>, attribute: Attribute<'_>) {
    match (attribute.body, &mut *own) {
        (Body::Resident(value), _) => *own = Some(Data::Resident(value.to_vec())),
        (Body::Elsewhere(piece), Some(Data::Pieces { pieces, flags })) => {
            *flags |= attribute.flags;
            // The table's own record is met twice.
            if pieces.iter().all(|p| p.first != piece.first) {
                pieces.push(piece);
            }
        }
        (Body::Elsewhere(piece), _) => {
            *own = Some(Data::Pieces { pieces: vec![piece], flags: attribute.flags });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CLUSTER: u64 = 512;

    /// A volume of 16 clusters, each filled with its number.
    fn volume() -> Volume {
        let bytes = (0..16u8).flat_map(|n| [n; CLUSTER as usize]).collect();
        let layout = Layout { cluster_len: CLUSTER, len: 16 * CLUSTER, table: 0, record_len: 1024 };
        Volume::new(Arc::new(Bytes(bytes)), layout)
    }

    fn piece(first: u64, runs: &[(Option<u64>, u64)], len: u64, written: u64) -> Piece {
        Piece { first, runs: runs.to_vec(), len, written, unit: 0 }
    }

    fn read(pieces: &[Piece]) -> std::result::Result<Vec<u8>, String> {
        let source = volume().content(pieces, 0).map_err(|e| e.to_string())?;
        read_vec(source.as_ref(), 0, source.len(), "a file", 1 << 20).map_err(|e| e.to_string())
    }

    #[test]
    fn runs_follow_each_other_and_holes_are_zeros() {
        let all =
            read(&[piece(0, &[(Some(9), 1), (None, 2), (Some(3), 1)], 4 * CLUSTER - 12, 4 * CLUSTER - 12)]).unwrap();
        let of = |cluster: usize| all[cluster * 512];
        assert_eq!((all.len(), [of(0), of(1), of(2), of(3)]), (2036, [9, 0, 0, 3]));
        // What was never written reads as zeros, whatever stands in its clusters.
        let part = read(&[piece(0, &[(Some(9), 2)], 2 * CLUSTER, 700)]).unwrap();
        assert_eq!((part[699], part[700], part.len()), (10, 0, 1024));
        assert!(read(&[piece(0, &[], 0, 0)]).unwrap().is_empty());
    }

    #[test]
    fn pieces_of_several_records_are_put_in_order() {
        let pieces = [piece(2, &[(Some(7), 1)], 0, 0), piece(0, &[(Some(4), 2)], 3 * CLUSTER, 3 * CLUSTER)];
        let all = read(&pieces).unwrap();
        assert_eq!([all[0], all[512], all[1024]], [4, 5, 7]);
    }

    #[test]
    fn runs_that_cannot_be_are_told() {
        let told = |pieces: &[Piece]| read(pieces).unwrap_err();
        assert!(told(&[piece(1, &[(Some(4), 1)], 512, 512)]).contains("do not begin at its beginning"));
        let gap = [piece(0, &[(Some(4), 1)], 2048, 2048), piece(3, &[(Some(5), 1)], 0, 0)];
        assert!(told(&gap).contains("have a gap at cluster 1"));
        assert!(told(&[piece(0, &[(Some(4), 1)], 513, 513)]).contains("hold fewer than its 513 bytes"));
        assert!(told(&[piece(0, &[(Some(15), 2)], 1024, 1024)]).contains("past the end of the volume"));
        assert!(told(&[piece(0, &[(None, u64::MAX), (None, 1)], 1, 1)]).contains("longer than any volume"));
    }

    #[test]
    fn spans_are_the_runs_without_holes_and_what_lies_outside() {
        let spans = volume().spans(&[piece(0, &[(Some(2), 1), (Some(3), 1), (None, 4), (Some(15), 9)], 0, 0)]);
        assert_eq!(spans, [1024..2048]);
    }

    /// A first sector: 512 bytes a sector, 8 of them a cluster, 4,096 clusters, the table at cluster 4, records of 2^10.
    fn first_sector(sectors_a_cluster: u8, record: i8) -> SourceRef {
        let mut b = vec![0; 512];
        b[3..11].copy_from_slice(b"NTFS    ");
        (b[12], b[13], b[64], b[510], b[511]) = (2, sectors_a_cluster, record as u8, 0x55, 0xaa);
        b[40..48].copy_from_slice(&32_768u64.to_le_bytes());
        b[48] = 4;
        Arc::new(Bytes(b))
    }

    #[test]
    fn the_first_sector_tells_the_layout() {
        let layout = |sectors, record| Layout::read(first_sector(sectors, record).as_ref()).unwrap();
        let own = layout(8, -10).unwrap();
        assert_eq!((own.cluster_len, own.record_len, own.table, own.len), (4096, 1024, 16_384, 16 << 20));
        // Records counted in clusters; clusters as a negative power of two, as large ones are.
        assert_eq!(layout(2, 1).unwrap().record_len, 1024);
        assert_eq!(layout(0xf4, -10).unwrap().cluster_len, 512 << 12);
        assert!(layout(3, -10).is_none() && layout(8, -4).is_none(), "no power of two, and records of 16 bytes");
    }

    /// A name of `letters` in the root folder (record 5, used once), changed at the beginning of 1970, along
    /// docs/formats/ntfs.md.
    fn name(letters: &str, namespace: u8) -> Vec<u8> {
        let mut value = vec![0; 66];
        value[..8].copy_from_slice(&[5, 0, 0, 0, 0, 0, 1, 0]);
        value[16..24].copy_from_slice(&(11_644_473_600u64 * 10_000_000).to_le_bytes());
        (value[64], value[65]) = (letters.len() as u8, namespace);
        value.extend(letters.encode_utf16().flat_map(u16::to_le_bytes));
        value
    }

    #[test]
    fn names_are_taken_over_whole_or_told() {
        let mut entry = Entry::default();
        assert!(entry.name(&name("Kelp Courier", 1)));
        assert!(entry.name(&name("KELPCO~1", DOS)), "known, and left to DOS");
        let mut cut = name("Kelp Courier", 1);
        cut.pop();
        assert!(!entry.name(&cut), "a letter is missing");
        assert!(!entry.name(&cut[..65]), "not even the head is whole");
        assert_eq!(entry.names, [(5, 1, "Kelp Courier".to_owned(), 0)]);
    }
}
