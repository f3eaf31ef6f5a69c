//! The directory tree, walked from the root.

use super::overlaps::overlaps;
use super::raw::{Descriptor, FLAG_ASSOCIATED, FLAG_FOLDER, FLAG_MORE_EXTENTS, Record};
use super::record::{self, Entry};
use super::rock_ridge::{self, Date};
use super::{Encoding, Volumes, tables, text};
use crate::noticed::Noticed;
use crate::optical::both::note_disagreements;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_array};
use decanter_core::tree::{About, Content, File, Kind, Node, Tree, below};
use decanter_core::{Error, Notice, Result, SECTOR};
use std::ops::Range;

/// Sectors of a directory that are read at once.
const CHUNK: u64 = 32;

/// Where a folder's records are, in bytes.
struct Place {
    start: u64,
    len: u64,
}

/// The way through one tree of folders.
struct Way<'a> {
    source: &'a SourceRef,
    block: u64,
    /// End of the volume in bytes.
    volume_end: u64,
    encoding: Encoding,
    /// Bytes to skip in system use fields, where Rock Ridge is in use.
    rock_ridge: Option<usize>,
    walk: Walk<'a, Place, u64>,
    disagreements: usize,
}

/// A file whose extents are still coming: path, date, spans, and what is wrong with it.
struct Pending {
    path: String,
    identifier: Vec<u8>,
    is_form_2: bool,
    modified: Option<i64>,
    spans: Vec<Range<u64>>,
    broken: Option<String>,
}

/// What was found.
pub(super) struct Found {
    pub(super) tree: Tree,
    /// Whose names it has.
    pub(super) names: &'static str,
    /// The folders' own byte ranges, of all trees.
    pub(super) folders: Vec<Range<u64>>,
}

/// Which tree is read: its descriptor, what its names are called, how they are spelled, where Rock Ridge's are.
struct Side<'a> {
    descriptor: &'a Descriptor,
    names: &'static str,
    encoding: Encoding,
    rock_ridge: Option<usize>,
}

/// All files and folders, from the root on.
pub(super) fn walk(
    source: &SourceRef,
    volumes: &Volumes,
    notices: &mut Vec<Notice>,
    opener: &Opener<'_>,
) -> Result<Found> {
    let primary = &volumes.primary;
    let plain = Side { descriptor: primary, names: "ISO 9660", encoding: Encoding::Bytes, rock_ridge: None };
    let wide = |descriptor| Side { descriptor, names: "Joliet", encoding: Encoding::Ucs2, rock_ridge: None };
    // Rock Ridge has the full names in the primary tree; else Joliet has longer ones than ECMA-119.
    let (side, other) = match (announced(source, volumes)?, &volumes.joliet) {
        (Some(skip), joliet) => {
            let full = Side { names: "Rock Ridge", rock_ridge: Some(skip), ..plain };
            (full, joliet.as_deref().map(wide))
        }
        (None, Some(joliet)) => (wide(joliet), Some(plain)),
        (None, None) => (plain, None),
    };
    let own = Way::all(source, volumes, &side, opener)?;
    notices.extend(own.notices);
    let (tree, mut folders) = (own.tree, own.structure);
    notices
        .extend(tables::faults(source.as_ref(), volumes, side.descriptor, &own.met)?.into_iter().map(Notice::damage));
    // The other tree of the same volume has folders of its own, which are no padding either.
    if let Some(other) = other {
        let (found, ranges) = aside(source, volumes, &other, opener)?;
        notices.extend(found);
        folders.extend(ranges);
    }
    notices.extend(overlaps(&tree));
    Ok(Found { tree, names: side.names, folders })
}

/// The tree whose names are not used: systems that know no others go by it. What is wrong with it, and its folders.
fn aside(
    source: &SourceRef,
    volumes: &Volumes,
    side: &Side<'_>,
    opener: &Opener<'_>,
) -> Result<(Vec<Notice>, Vec<Range<u64>>)> {
    let mut told = Vec::new();
    let found = match Way::all(source, volumes, side, opener) {
        Ok(found) => found,
        Err(e) if e.blame() == Blame::Source => {
            told.push(format!("in the tree of {} names: {e}", side.names));
            return Ok((told.into_iter().map(Notice::damage).collect(), Vec::new()));
        }
        // What is encrypted was told of the other tree.
        Err(Error::Key(_)) => return Ok((Vec::new(), Vec::new())),
        Err(e) => return Err(e),
    };
    let broken = found.tree.files().filter_map(|(node, file)| match &file.content {
        Content::Broken(why) => Some(format!("{}: {why}", node.path)),
        _ => None,
    });
    let mut noticed = Noticed::default();
    broken.for_each(|text| noticed.note(text));
    let all = found.notices.into_iter().chain(noticed.into_notices());
    told.extend(all.map(|n| format!("in the tree of {} names: {}", side.names, n.text)));
    told.extend(tables::faults(source.as_ref(), volumes, side.descriptor, &found.met)?);
    Ok((told.into_iter().map(Notice::damage).collect(), found.structure))
}

/// Bytes to skip in system use fields, if the root's own record announces Rock Ridge.
fn announced(source: &SourceRef, volumes: &Volumes) -> Result<Option<usize>> {
    let start = start_of(&volumes.primary.root, volumes.block);
    let sector: [u8; SECTOR as usize] = match read_array(source.as_ref(), start) {
        Ok(sector) => sector,
        Err(e) if matches!(e.blame(), Blame::Source | Blame::Key) => return Ok(None),
        Err(e) => return Err(e),
    };
    let Some(entry) = record::parse(&sector, start) else { return Ok(None) };
    let area = record::system_use(&sector, &entry.raw);
    let Some(skip) = rock_ridge::announced(area) else { return Ok(None) };
    // The announcement is for the protocol below; only its entries show that Rock Ridge itself is in use.
    Ok(rock_ridge::read(source.as_ref(), volumes.block, area).any.then_some(skip))
}

/// Where the extent of a record begins, in bytes.
fn start_of(record: &Record, block: u64) -> u64 {
    (u64::from(record.extent.get().0) + u64::from(record.attribute_blocks)) * block
}

impl<'a> Way<'a> {
    fn all(source: &'a SourceRef, volumes: &Volumes, side: &Side<'_>, opener: &Opener<'a>) -> Result<Walked<u64>> {
        let root = &side.descriptor.root;
        let start = start_of(root, volumes.block);
        let place = Place { start, len: root.data_length.get().0.into() };
        let mut way = Self {
            source,
            block: volumes.block,
            volume_end: volumes.space_bytes,
            encoding: side.encoding,
            rock_ridge: side.rock_ridge,
            walk: Walk::new(opener, place, start),
            disagreements: 0,
        };
        while let Some(folder) = way.walk.next()? {
            way.folder(&folder)?;
        }
        note_disagreements(&mut way.walk.noticed, way.disagreements);
        Ok(way.walk.finish().sorted())
    }

    fn folder(&mut self, folder: &Folder<Place>) -> Result<()> {
        let Place { start, len } = folder.place;
        self.walk.spend(len)?;
        let whole = start.saturating_add(len);
        let end = whole.min(self.source.len());
        if end < whole {
            let lost = "what it lists there is not known";
            self.walk.note(format!("{} at offset {start:#x} lies past the end of the image; {lost}", folder.shown()));
        }
        self.walk.structure.push(start..end.next_multiple_of(SECTOR));
        let mut pending: Option<Pending> = None;
        let mut at = start;
        while at < end {
            let mut chunk = vec![0; (end - at).min(CHUNK * SECTOR) as usize];
            let read = self.source.read_at(at, &mut chunk);
            if self.walk.keep(read, || format!("{} at offset {at:#x}", folder.shown()))?.is_none() {
                break;
            }
            // A record never crosses the end of a sector (6.8.1.1); the rest of a sector is zeros.
            for (index, sector) in chunk.chunks(SECTOR as usize).enumerate() {
                self.records(folder, sector, at + index as u64 * SECTOR, &mut pending)?;
            }
            at += chunk.len() as u64;
        }
        self.finish(pending)
    }

    /// The records of one sector of a folder, which stands at byte `at`.
    fn records(&mut self, folder: &Folder<Place>, sector: &[u8], at: u64, pending: &mut Option<Pending>) -> Result<()> {
        let mut within = 0;
        while let Some(&length) = sector.get(within).filter(|&&l| l != 0) {
            let (bytes, here) = (&sector[within..], at + within as u64);
            let Some(mut entry) = record::parse(bytes, here) else {
                self.walk.note(format!("a directory record of {} is malformed at offset {here:#x}", folder.shown()));
                return Ok(());
            };
            let area = record::system_use(bytes, &entry.raw);
            entry.is_form_2 = record::is_form_2(area);
            if let Some(skip) = self.rock_ridge {
                entry.extras = rock_ridge::read(self.source.as_ref(), self.block, area.get(skip..).unwrap_or_default());
            }
            self.entry(folder, &entry, pending)?;
            within += usize::from(length);
        }
        Ok(())
    }

    fn entry(&mut self, folder: &Folder<Place>, entry: &Entry<'_>, pending: &mut Option<Pending>) -> Result<()> {
        let raw = &entry.raw;
        if matches!(entry.identifier, [0 | 1]) || entry.extras.relocated || raw.flags & FLAG_ASSOCIATED != 0 {
            return Ok(());
        }
        if !(raw.extent.get().1 && raw.data_length.get().1) {
            self.disagreements += 1;
        }
        let continues = pending.as_ref().is_some_and(|p| p.identifier == entry.identifier);
        if !continues {
            self.finish(pending.take())?;
        }
        let path = below(&folder.path, &entry.name(self.encoding));
        let modified = entry.extras.modified.unwrap_or(Date::Short(raw.date)).seconds();
        if let Some(target) = &entry.extras.link {
            return self.walk.add(Node::new(path, Kind::Link(text(target, Encoding::Bytes)), modified));
        }
        if raw.flags & FLAG_FOLDER != 0 || entry.extras.child.is_some() {
            self.walk.add(Node::new(path.clone(), Kind::Folder, modified))?;
            return self.subfolder(folder, path, entry);
        }
        let start = start_of(raw, self.block);
        let span = start..start + u64::from(raw.data_length.get().0);
        let broken = self.wrong_with(entry, &span);
        let mut file = pending.take().unwrap_or_else(|| Pending {
            is_form_2: entry.is_form_2,
            path,
            identifier: entry.identifier.to_vec(),
            modified,
            spans: Vec::new(),
            broken: None,
        });
        file.broken = file.broken.or(broken);
        match file.spans.last_mut() {
            // Extents of one file mostly follow each other: one span is easier on everything after this.
            Some(last) if last.end == span.start => last.end = span.end,
            _ => file.spans.push(span),
        }
        if raw.flags & FLAG_MORE_EXTENTS != 0 {
            *pending = Some(file);
            return Ok(());
        }
        self.finish(Some(file))
    }

    /// Why the extent of a file cannot be read, if so.
    fn wrong_with(&self, entry: &Entry<'_>, span: &Range<u64>) -> Option<String> {
        let (raw, at) = (&entry.raw, entry.offset);
        if raw.unit_size != 0 || raw.gap_size != 0 {
            return Some(format!("its sectors are interleaved (record at offset {at:#x}), which is not supported"));
        }
        let is_outside = !span.is_empty() && span.end > self.volume_end.max(self.source.len());
        let sector = span.start / SECTOR;
        is_outside.then(|| format!("its extent at sector {sector} lies outside the volume (record at offset {at:#x})"))
    }

    /// Queues a folder, unless that would lead in a circle.
    fn subfolder(&mut self, parent: &Folder<Place>, path: String, entry: &Entry<'_>) -> Result<()> {
        let place = match entry.extras.child {
            Some(block) => self.relocated(u64::from(block) * self.block)?,
            None => Place { start: start_of(&entry.raw, self.block), len: entry.raw.data_length.get().0.into() },
        };
        let start = place.start;
        let why = match self.walk.refuse(parent, start) {
            Some(why) => why.to_string(),
            None if start > self.volume_end.max(self.source.len()) => "lies outside the volume".to_owned(),
            None => {
                self.walk.later(parent, path, place);
                return Ok(());
            }
        };
        self.walk.note(format!("the folder {path} (record at offset {:#x}) {why}; it is shown empty", entry.offset));
        Ok(())
    }

    /// A folder that stands elsewhere: its size is in its own first record.
    fn relocated(&self, start: u64) -> Result<Place> {
        let own: [u8; SECTOR as usize] = match read_array(self.source.as_ref(), start) {
            Ok(own) => own,
            Err(e) if e.blame() == Blame::Source => return Ok(Place { start, len: 0 }),
            Err(e) => return Err(e),
        };
        let len = record::parse(&own, start).map_or(0, |own| own.raw.data_length.get().0.into());
        Ok(Place { start, len })
    }

    fn finish(&mut self, pending: Option<Pending>) -> Result<()> {
        let Some(Pending { path, modified, spans, broken, is_form_2, .. }) = pending else { return Ok(()) };
        let len = spans.iter().map(|s| s.end - s.start).sum();
        let mut file = File::from_spans(self.source, spans).unwrap_or_else(|e| File::broken(len, e.to_string()));
        if let Some(why) = broken {
            file.content = Content::Broken(why);
        }
        let words = if is_form_2 { vec![super::FORM_2.to_owned()] } else { Vec::new() };
        let about = About { words, ..About::default() };
        self.walk.add(Node::new(path, Kind::File(file), modified).about(about))
    }
}
