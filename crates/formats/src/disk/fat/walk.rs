//! The way through all folders.

use super::layout::{ENTRY, Width};
use super::moment;
use super::names::{LongName, oem, short_name};
use super::table::{Fault, MOST_FOLDER, Table};
use crate::disk::claims::Claims;
use crate::disk::faults::Faults;
use crate::disk::{MOST_NODES, Noticed};
use crate::num::{le16, le32};
use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree, below, check_room};
use decanter_core::{Result, Watch, watch};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

/// Attributes.
const LABEL: u8 = 0x08;
const FOLDER: u8 = 0x10;
pub(super) const LONG: u8 = 0x0f;

/// The way through all folders.
pub(super) struct Walk<'a> {
    pub(super) source: &'a SourceRef,
    pub(super) table: &'a mut Table,
    pub(super) tree: Tree,
    pub(super) structure: Vec<Range<u64>>,
    pub(super) noticed: Noticed,
    pub(super) label: Option<String>,
    pub(super) clusters: u64,
    pub(super) claims: Claims,
    pub(super) seen: HashSet<u32>,
    /// What does not fit together in entries.
    pub(super) faults: Faults,
}

/// A folder still to be read.
pub(super) struct Todo {
    pub(super) path: String,
    pub(super) spans: Vec<Range<u64>>,
    /// Its first cluster, and that of the folder it is in; 0: the root folder.
    cluster: u32,
    parent: u32,
}

impl<'a> Walk<'a> {
    pub(super) fn new(source: &'a SourceRef, table: &'a mut Table) -> Self {
        Self {
            source,
            table,
            tree: Tree::default(),
            structure: Vec::new(),
            noticed: Noticed::default(),
            label: None,
            clusters: 0,
            claims: Claims::default(),
            seen: HashSet::new(),
            faults: Faults::default(),
        }
    }

    pub(super) fn run(mut self, opener: &Opener<'_>) -> Result<Self> {
        let root = match self.table.layout.width {
            Width::Fat32 => {
                let cluster = self.table.layout.root_cluster;
                self.seen.insert(cluster);
                let (spans, wrong) = self.table.folder(cluster, &mut self.claims)?;
                if let Some(wrong) = wrong {
                    self.noticed.note(format!("the root folder: {wrong}"));
                }
                self.clusters += spans.iter().map(|s| s.end - s.start).sum::<u64>() / self.table.layout.cluster_len;
                spans
            }
            _ => vec![self.table.layout.root.clone()],
        };
        let mut todo = vec![Todo { path: String::new(), spans: root, cluster: 0, parent: 0 }];
        while let Some(folder) = todo.pop() {
            watch::check(opener.watch())?;
            self.folder(&folder, &mut todo, opener.watch())?;
        }
        Ok(self)
    }

    fn folder(&mut self, folder: &Todo, todo: &mut Vec<Todo>, watch: &dyn Watch) -> Result<()> {
        let mut bytes = Vec::new();
        for span in &folder.spans {
            match read_vec(self.source.as_ref(), span.start, span.end - span.start, "a folder", MOST_FOLDER) {
                Ok(more) => bytes.extend(more),
                Err(e) if e.blame() == decanter_core::error::Blame::Source => {
                    let shown = if folder.path.is_empty() { "the root folder" } else { &folder.path };
                    self.noticed.note(format!("{shown} lies past the end of the image ({:#x})", span.start));
                    break;
                }
                Err(e) => return Err(e),
            }
        }
        self.structure.extend(folder.spans.iter().cloned());
        self.dots(folder, &bytes);
        let (mut long, mut met) = (LongName::default(), HashSet::new());
        for entry in bytes.as_chunks::<ENTRY>().0 {
            match (entry[0], entry[11]) {
                (0, _) => break,
                (0xe5, _) => long = LongName::default(),
                (_, attributes) if attributes & 0x3f == LONG => long.add(entry),
                (_, attributes) if attributes & LABEL != 0 => {
                    if folder.path.is_empty() && self.label.is_none() {
                        self.label = Some(oem(&entry[..11]).trim_end().to_owned());
                    }
                    long = LongName::default();
                }
                _ if is_dot(entry) => long = LongName::default(),
                _ => {
                    let own = std::mem::take(&mut long);
                    let has_long = !own.units.is_empty() || own.is_broken;
                    let name = own.take(entry).unwrap_or_else(|| {
                        let short = short_name(entry);
                        if has_long {
                            let told = below(&folder.path, &short);
                            self.noticed
                                .note(format!("the long name of {told} is damaged: its pieces do not belong to it"));
                        }
                        short
                    });
                    let is_new = met.insert(entry[..11].to_vec());
                    if !is_new {
                        self.faults.note(|| format!("two entries of {} are called {name}", folder.shown()));
                    }
                    self.entry(folder, &name, entry, todo, watch)?;
                }
            }
        }
        Ok(())
    }

    fn cluster(&self, entry: &[u8; ENTRY]) -> u32 {
        match self.table.layout.width {
            Width::Fat32 => u32::from(le16(entry, 26)) | u32::from(le16(entry, 20)) << 16,
            _ => le16(entry, 26).into(),
        }
    }

    /// The two entries that every folder but the root begins with.
    fn dots(&mut self, folder: &Todo, bytes: &[u8]) {
        if folder.path.is_empty() || bytes.is_empty() {
            return;
        }
        let entries = bytes.as_chunks::<ENTRY>().0;
        let wanted =
            [(entries.first(), b".          ", folder.cluster), (entries.get(1), b"..         ", folder.parent)];
        let is_right = |(entry, name, cluster): (Option<&[u8; ENTRY]>, &[u8; 11], u32)| {
            entry.is_some_and(|e| e[..11] == *name && e[11] & FOLDER != 0 && self.cluster(e) == cluster)
        };
        if !wanted.into_iter().all(is_right) {
            self.faults.note(|| format!("the folder {} does not begin with itself and its parent", folder.path));
        }
    }

    fn entry(
        &mut self,
        folder: &Todo,
        name: &str,
        entry: &[u8; ENTRY],
        todo: &mut Vec<Todo>,
        watch: &dyn Watch,
    ) -> Result<()> {
        check_room(self.tree.nodes.len(), MOST_NODES)?;
        let path = below(&folder.path, name);
        let cluster = self.cluster(entry);
        if entry[..11].iter().any(|b| (*b < 0x20 && *b != 5) || b"\"*+,./:;<=>?[\\]|".contains(b)) {
            self.faults.note(|| format!("{path} has a name that no file can have"));
        }
        let modified = moment(le16(entry, 24), le16(entry, 22));
        let of = |spans: &[Range<u64>], len: u64| spans.iter().map(|s| (s.end - s.start).div_ceil(len)).sum::<u64>();
        if entry[11] & FOLDER != 0 {
            self.tree.nodes.push(Node::new(path.clone(), Kind::Folder, modified));
            if le32(entry, 28) != 0 {
                self.faults.note(|| format!("the folder {path} has a length"));
            }
            if !self.seen.insert(cluster) {
                self.noticed.note(format!("{path} is the same as another folder (cluster {cluster}): not followed"));
                return Ok(());
            }
            let (spans, wrong) = self.table.folder(cluster, &mut self.claims)?;
            if let Some(wrong) = wrong {
                self.noticed.note(format!("the folder {path}: {wrong}; what was read so far is listed"));
            }
            self.clusters += of(&spans, self.table.layout.cluster_len);
            todo.push(Todo { path, spans, cluster, parent: folder.cluster });
            return Ok(());
        }
        let len = u64::from(le32(entry, 28));
        if len == 0 && cluster != 0 {
            self.faults.note(|| format!("{path} is empty, and has cluster {cluster}"));
        }
        let (spans, wrong) = self.table.chain(cluster, len, &mut self.claims, watch)?;
        self.clusters += of(&spans, self.table.layout.cluster_len);
        if let Some(Fault::Longer(why)) = &wrong {
            self.faults.note(|| format!("{path}: {why}"));
        }
        let file = match wrong {
            Some(Fault::Broken(why)) => File { spans, ..File::broken(len, why) },
            _ if spans.is_empty() => File::of(Arc::new(decanter_core::source::Bytes(Vec::new()))),
            _ => File::from_spans(self.source, spans)?,
        };
        self.tree.nodes.push(Node::new(path, Kind::File(file), modified));
        Ok(())
    }
}

impl Todo {
    fn shown(&self) -> &str {
        if self.path.is_empty() { "the root folder" } else { &self.path }
    }
}

/// Whether an entry is the folder itself, or its parent.
fn is_dot(entry: &[u8; ENTRY]) -> bool {
    entry[11] & FOLDER != 0 && (entry[..11] == *b".          " || entry[..11] == *b"..         ")
}
