//! The directory tree, walked from the root.

use super::raw::{Descriptor, FLAG_ASSOCIATED, FLAG_FOLDER, FLAG_MORE_EXTENTS, RECORD_LEN, Record};
use super::rock_ridge::{self, Date, Extras};
use super::{Encoding, Volumes, tables, text};
use decanter_core::format::Opener;
use decanter_core::source::SourceRef;
use decanter_core::tree::{About, Content, File, Kind, Node, Tree, below, check_room};
use decanter_core::watch::{self, Notice};
use decanter_core::{Error, Result, SECTOR};
use std::collections::HashSet;
use std::ops::Range;
use zerocopy::FromBytes;

/// Files and folders in one volume; real discs stay under 100,000.
const MOST_NODES: usize = 1 << 20;
/// Bytes of directories in one volume.
const MOST_FOLDER_BYTES: u64 = 256 << 20;
/// Folders in folders. ECMA-119 allows 8, Rock Ridge any number.
const MOST_DEPTH: usize = 128;
/// Notices of one kind that are told one by one.
const MOST_NOTICES: usize = 20;
/// Sectors of a directory that are read at once.
const CHUNK: u64 = 32;

struct Walk<'a> {
    source: &'a SourceRef,
    block: u64,
    /// End of the volume in bytes.
    volume_end: u64,
    encoding: Encoding,
    /// Bytes to skip in system use fields, where Rock Ridge is in use.
    rock_ridge: Option<usize>,
    seen: HashSet<u64>,
    folder_bytes: u64,
    nodes: Vec<Node>,
    folders: Vec<Range<u64>>,
    notices: &'a mut Vec<Notice>,
    disagreements: usize,
}

/// A directory record, checked for its lengths.
struct Entry<'a> {
    raw: Record,
    identifier: &'a [u8],
    extras: Extras,
    /// Whether CD-XA says that it has more than 2,048 bytes in a sector.
    is_form_2: bool,
    /// Byte offset of the record in the source.
    offset: u64,
}

/// A folder still to be walked.
struct Folder {
    path: String,
    start: u64,
    len: u64,
    depth: usize,
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

/// What a walk came to.
pub(super) struct Walked {
    pub(super) tree: Tree,
    /// Whose names it has.
    pub(super) names: &'static str,
    /// The folders' own byte ranges, of all trees.
    pub(super) folders: Vec<Range<u64>>,
}

/// All files and folders, from the root on.
pub(super) fn walk(
    source: &SourceRef,
    volumes: &Volumes,
    notices: &mut Vec<Notice>,
    opener: &Opener<'_>,
) -> Result<Walked> {
    let mut walk = Walk::new(source, volumes, Encoding::Bytes, notices);
    // Rock Ridge has the full names in the primary tree; else Joliet has longer ones than ECMA-119.
    walk.rock_ridge = walk.announced(&volumes.primary);
    let (descriptor, names) = match (&walk.rock_ridge, &volumes.joliet) {
        (Some(_), _) => (&volumes.primary, "Rock Ridge"),
        (None, Some(joliet)) => (joliet, "Joliet"),
        (None, None) => (&volumes.primary, "ISO 9660"),
    };
    if names == "Joliet" {
        walk.encoding = Encoding::Ucs2;
    }
    walk.all(descriptor, opener)?;
    if walk.disagreements > 0 {
        let text = format!("the two byte orders disagree in {} directory records", walk.disagreements);
        walk.notices.push(Notice::damage(text));
    }
    let (nodes, mut folders, mut trees) = (walk.nodes, walk.folders, vec![(descriptor, walk.seen)]);
    // The other tree of the same volume has folders of its own, which are no padding either.
    if let Some(joliet) = &volumes.joliet {
        let (other, other_names, encoding) = match names {
            "Joliet" => (&volumes.primary, "ISO 9660", Encoding::Bytes),
            _ => (joliet, "Joliet", Encoding::Ucs2),
        };
        let mut aside = Vec::new();
        let mut second = Walk::new(source, volumes, encoding, &mut aside);
        match second.all(other, opener) {
            Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
            Err(Error::Key(_)) | Ok(()) => {}
            Err(e) => second.notices.push(Notice::damage(e.to_string())),
        }
        if second.disagreements > 0 {
            let text = format!("the two byte orders disagree in {} directory records", second.disagreements);
            second.notices.push(Notice::damage(text));
        }
        let broken = second.nodes.iter().filter_map(|n| match &n.file()?.content {
            Content::Broken(why) => Some(format!("{}: {why}", n.path)),
            _ => None,
        });
        let broken: Vec<String> = broken.take(MOST_NOTICES).collect();
        folders.append(&mut second.folders);
        trees.push((other, std::mem::take(&mut second.seen)));
        // Its names are not used here, but systems that know no others go by them.
        let told = aside.into_iter().map(|n| n.text).chain(broken);
        notices.extend(told.map(|text| Notice::damage(format!("in the tree of {other_names} names: {text}"))));
    }
    for (descriptor, folders) in &trees {
        let faults = tables::faults(source.as_ref(), volumes, descriptor, folders)?;
        notices.extend(faults.into_iter().map(Notice::damage));
    }
    let mut tree = Tree { nodes };
    // Parents before children, and siblings as they stand in their folder's own order.
    tree.nodes.sort_by(|a, b| a.path.split('/').cmp(b.path.split('/')));
    note_overlaps(&tree, notices);
    Ok(Walked { tree, names, folders })
}

impl<'a> Walk<'a> {
    fn new(source: &'a SourceRef, volumes: &Volumes, encoding: Encoding, notices: &'a mut Vec<Notice>) -> Self {
        Self {
            source,
            block: volumes.block,
            volume_end: volumes.space_bytes,
            encoding,
            rock_ridge: None,
            seen: HashSet::new(),
            folder_bytes: 0,
            nodes: Vec::new(),
            folders: Vec::new(),
            notices,
            disagreements: 0,
        }
    }

    fn start_of(&self, record: &Record) -> u64 {
        (u64::from(record.extent.get().0) + u64::from(record.attribute_blocks)) * self.block
    }

    /// Whether the root's own record announces Rock Ridge.
    fn announced(&self, descriptor: &Descriptor) -> Option<usize> {
        let start = self.start_of(&descriptor.root);
        let mut sector = [0; SECTOR as usize];
        self.source.read_at(start, &mut sector).ok()?;
        let entry = parse_record(&sector, start)?;
        let skip = rock_ridge::announced(system_use(&sector, &entry.raw))?;
        // The announcement is for the protocol below; only its entries show that Rock Ridge itself is in use.
        let uses = rock_ridge::read(self.source.as_ref(), self.block, system_use(&sector, &entry.raw)).any;
        uses.then_some(skip)
    }

    fn all(&mut self, descriptor: &Descriptor, opener: &Opener<'_>) -> Result<()> {
        let start = self.start_of(&descriptor.root);
        let len = u64::from(descriptor.root.data_length.get().0);
        self.seen.insert(start);
        let mut todo = vec![Folder { path: String::new(), start, len, depth: 0 }];
        while let Some(folder) = todo.pop() {
            watch::check(opener.watch())?;
            self.folder(&folder, &mut todo)?;
        }
        Ok(())
    }

    fn folder(&mut self, folder: &Folder, todo: &mut Vec<Folder>) -> Result<()> {
        let shown = if folder.path.is_empty() { "the root folder" } else { &folder.path };
        self.folder_bytes += folder.len;
        if self.folder_bytes > MOST_FOLDER_BYTES {
            return Err(Error::Limit { what: "directories", asked: self.folder_bytes, limit: MOST_FOLDER_BYTES });
        }
        let end = folder.start.saturating_add(folder.len).min(self.source.len());
        if end < folder.start.saturating_add(folder.len) {
            let text = format!(
                "{shown} at offset {:#x} lies past the end of the image; what it lists there is not known",
                folder.start
            );
            self.notices.push(Notice::damage(text));
        }
        self.folders.push(folder.start..end.next_multiple_of(SECTOR));
        let mut pending: Option<Pending> = None;
        let mut at = folder.start;
        while at < end {
            let mut chunk = vec![0; (end - at).min(CHUNK * SECTOR) as usize];
            if let Err(e) = self.source.read_at(at, &mut chunk) {
                if matches!(e, Error::Key(_)) {
                    return Err(e);
                }
                self.notices.push(Notice::damage(format!("{shown} cannot be read at offset {at:#x}: {e}")));
                return Ok(());
            }
            // A record never crosses the end of a sector (6.8.1.1); the rest of a sector is zeros.
            for (index, sector) in chunk.chunks(SECTOR as usize).enumerate() {
                let sector_at = at + index as u64 * SECTOR;
                let mut within = 0;
                while let Some(&length) = sector.get(within).filter(|&&l| l != 0) {
                    let record_at = sector_at + within as u64;
                    let Some(mut entry) = parse_record(&sector[within..], record_at) else {
                        let text = format!("a directory record of {shown} is malformed at offset {record_at:#x}");
                        self.notices.push(Notice::damage(text));
                        break;
                    };
                    entry.is_form_2 = is_form_2(system_use(&sector[within..], &entry.raw));
                    if let Some(skip) = self.rock_ridge {
                        let area = system_use(&sector[within..], &entry.raw);
                        let area = area.get(skip..).unwrap_or_default();
                        entry.extras = rock_ridge::read(self.source.as_ref(), self.block, area);
                    }
                    self.entry(folder, &entry, &mut pending, todo)?;
                    within += usize::from(length);
                }
            }
            at += chunk.len() as u64;
        }
        self.finish(pending)
    }

    fn entry(
        &mut self,
        folder: &Folder,
        entry: &Entry<'_>,
        pending: &mut Option<Pending>,
        todo: &mut Vec<Folder>,
    ) -> Result<()> {
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
        check_room(self.nodes.len(), MOST_NODES)?;
        let name = self.name(entry);
        let path = below(&folder.path, &name);
        let modified = entry.extras.modified.unwrap_or(Date::Short(raw.date)).seconds();
        if let Some(target) = &entry.extras.link {
            let kind = Kind::Link(text(target, Encoding::Bytes));
            self.nodes.push(Node::new(path, kind, modified));
            return Ok(());
        }
        if raw.flags & FLAG_FOLDER != 0 || entry.extras.child.is_some() {
            self.nodes.push(Node::new(path.clone(), Kind::Folder, modified));
            self.subfolder(folder, path, entry, todo);
            return Ok(());
        }
        let start = self.start_of(raw);
        let len = u64::from(raw.data_length.get().0);
        let span = start..start + len;
        let broken = if raw.unit_size != 0 || raw.gap_size != 0 {
            Some(format!("its sectors are interleaved (record at offset {:#x}), which is not supported", entry.offset))
        } else if len > 0 && span.end > self.volume_end.max(self.source.len()) {
            Some(format!(
                "its extent at sector {} lies outside the volume (record at offset {:#x})",
                start / SECTOR,
                entry.offset
            ))
        } else {
            None
        };
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

    /// Queues a folder, unless that would lead in a circle.
    fn subfolder(&mut self, parent: &Folder, path: String, entry: &Entry<'_>, todo: &mut Vec<Folder>) {
        let (start, len) = match entry.extras.child {
            // A relocated folder: its size stands in its own first record.
            Some(block) => {
                let start = u64::from(block) * self.block;
                let mut own = [0; SECTOR as usize];
                let read = self.source.read_at(start, &mut own).ok().and_then(|()| parse_record(&own, start));
                (start, read.map_or(0, |own| u64::from(own.raw.data_length.get().0)))
            }
            None => (self.start_of(&entry.raw), u64::from(entry.raw.data_length.get().0)),
        };
        let why = if !self.seen.insert(start) {
            "leads back to a folder that was listed already"
        } else if parent.depth + 1 >= MOST_DEPTH {
            "lies too deep"
        } else if start > self.volume_end.max(self.source.len()) {
            "lies outside the volume"
        } else {
            todo.push(Folder { path, start, len, depth: parent.depth + 1 });
            return;
        };
        let text = format!("the folder {path} (record at offset {:#x}) {why}; it is shown empty", entry.offset);
        self.notices.push(Notice::damage(text));
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
        self.nodes.push(Node::new(path, Kind::File(file), modified).about(about));
        Ok(())
    }

    /// The name without what ECMA-119 puts around it: `;1`, and the dot of an empty extension.
    fn name(&self, entry: &Entry<'_>) -> String {
        let mut name = match &entry.extras.name {
            Some(name) => text(name, Encoding::Bytes),
            None => {
                let whole = text(entry.identifier, self.encoding);
                let bare = match whole.rsplit_once(';') {
                    Some((bare, version)) if version.bytes().all(|b| b.is_ascii_digit()) => bare,
                    _ => &whole,
                };
                let bare = match bare.strip_suffix('.') {
                    Some(stem) if !stem.is_empty() && entry.raw.flags & FLAG_FOLDER == 0 => stem,
                    _ => bare,
                };
                bare.to_owned()
            }
        };
        if name.contains('/') {
            name = name.replace('/', "_");
        }
        if name.is_empty() { "_".into() } else { name }
    }
}

/// The record at the beginning of `bytes`, if its lengths are possible.
fn parse_record(bytes: &[u8], offset: u64) -> Option<Entry<'_>> {
    let (raw, rest) = Record::read_from_prefix(bytes).ok()?;
    let identifier = rest.get(..usize::from(raw.identifier_length))?;
    let fits =
        usize::from(raw.length) >= RECORD_LEN + identifier.len().max(1) && usize::from(raw.length) <= bytes.len();
    fits.then_some(Entry { raw, identifier, extras: Extras::default(), is_form_2: false, offset })
}

/// The system use field of a record: what follows the identifier, which is padded to an even offset.
fn system_use<'a>(bytes: &'a [u8], raw: &Record) -> &'a [u8] {
    let identifier = usize::from(raw.identifier_length);
    let start = RECORD_LEN + identifier + usize::from(identifier.is_multiple_of(2));
    bytes.get(start..usize::from(raw.length)).unwrap_or_default()
}

/// Whether the attributes of CD-XA say that the sectors of a file are of form 2, or some of them (System Description
/// CD-ROM XA, directory records: owner 4 bytes, attributes 2, "XA", file number, 5 reserved).
fn is_form_2(area: &[u8]) -> bool {
    const FORM_2: u16 = 0x1000;
    const INTERLEAVED: u16 = 0x2000;
    let Some(own) = area.windows(14).step_by(2).find(|w| w[6..8] == *b"XA" && w[9..14] == [0; 5]) else { return false };
    u16::from_be_bytes([own[4], own[5]]) & (FORM_2 | INTERLEAVED) != 0
}

/// Two names for the same extent are links. Two files that share only a part are damage.
fn note_overlaps(tree: &Tree, notices: &mut Vec<Notice>) {
    let mut spans: Vec<(&Range<u64>, &str)> =
        tree.files().flat_map(|(n, f)| f.spans.iter().map(move |s| (s, n.path.as_str()))).collect();
    spans.retain(|(s, _)| !s.is_empty());
    spans.sort_by_key(|(s, _)| (s.start, s.end));
    let mut told = 0;
    let mut widest: Option<(&Range<u64>, &str)> = None;
    for (span, path) in spans {
        if let Some((before, other)) = widest
            && before.end > span.start
            && before != span
        {
            told += 1;
            if told <= MOST_NOTICES {
                let sector = span.start / SECTOR;
                notices.push(Notice::damage(format!(
                    "{path} and {other} overlap at sector {sector} (offset {:#x})",
                    span.start
                )));
            }
        }
        if widest.is_none_or(|(w, _)| span.end > w.end) {
            widest = Some((span, path));
        }
    }
    if told > MOST_NOTICES {
        notices.push(Notice::damage(format!("{} more files overlap", told - MOST_NOTICES)));
    }
}
