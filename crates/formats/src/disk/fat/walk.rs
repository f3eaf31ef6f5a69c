//! The way through all folders.

use super::layout::{ENTRY, Width};
use super::names::{LongName, oem, short_name};
use super::table::{Fault, Table};
use crate::disk::claims::Claims;
use crate::disk::faults::Faults;
use crate::num::{le16, le32};
use crate::time;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::source::SourceRef;
use decanter_core::tree::{File, Kind, Node, below};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

/// Attributes.
const LABEL: u8 = 0x08;
const FOLDER: u8 = 0x10;
pub(super) const LONG: u8 = 0x0f;

/// The way through all folders of a FAT volume.
pub(super) struct Way<'a> {
    source: &'a SourceRef,
    table: &'a mut Table,
    walk: Walk<'a, Place, u32>,
    label: Option<String>,
    clusters: u64,
    claims: Claims,
    faults: Faults,
}

/// Where a folder is.
struct Place {
    spans: Vec<Range<u64>>,
    /// Its first cluster, and that of the folder it is in; 0: the root folder.
    cluster: u32,
    parent: u32,
}

/// What was found on the way.
pub(super) struct Found {
    pub(super) walked: Walked<u32>,
    pub(super) label: String,
    /// Clusters that files and folders have.
    pub(super) clusters: u64,
    pub(super) claims: Claims,
    /// What does not fit together in entries.
    pub(super) faults: Faults,
}

impl<'a> Way<'a> {
    /// Goes through all folders.
    ///
    /// # Errors
    /// What reading fails with, where the volume is not to blame; [`decanter_core::Error::Limit`].
    pub(super) fn run(source: &'a SourceRef, table: &'a mut Table, opener: &Opener<'a>) -> Result<Found> {
        let (claims, faults) = (Claims::default(), Faults::default());
        let is_chain = table.layout.width == Width::Fat32;
        // The root folder of FAT12 and FAT16 is no chain of clusters.
        let cluster = if is_chain { table.layout.root_cluster } else { 0 };
        let place = Place { spans: vec![table.layout.root.clone()], cluster: 0, parent: 0 };
        let walk = Walk::new(opener, place, cluster);
        let mut way = Self { source, table, walk, label: None, clusters: 0, claims, faults };
        while let Some(mut folder) = way.walk.next()? {
            if folder.path.is_empty() && is_chain {
                folder.place.spans = way.chain_of(cluster, "the root folder")?;
            }
            way.folder(&folder)?;
        }
        let label = way.label.unwrap_or_default();
        let walked = way.walk.finish();
        Ok(Found { walked, label, clusters: way.clusters, claims: way.claims, faults: way.faults })
    }

    /// The spans of a folder that begins in `cluster`.
    fn chain_of(&mut self, cluster: u32, shown: &str) -> Result<Vec<Range<u64>>> {
        let (spans, wrong) = self.table.folder(cluster, &mut self.claims)?;
        if let Some(wrong) = wrong {
            self.walk.note(format!("{shown}: {wrong}; what was read so far is listed"));
        }
        self.clusters += clusters_of(&spans, self.table.layout.cluster_len);
        Ok(spans)
    }

    fn folder(&mut self, folder: &Folder<Place>) -> Result<()> {
        let bytes = self.walk.list(self.source.as_ref(), folder, &folder.place.spans)?;
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
                    let name = self.name(folder, std::mem::take(&mut long), entry);
                    let is_new = met.insert(entry[..11].to_vec());
                    if !is_new {
                        self.faults.note(|| format!("two entries of {} are called {name}", folder.shown()));
                    }
                    self.entry(folder, &name, entry)?;
                }
            }
        }
        Ok(())
    }

    /// The name of an entry: its long one, if the pieces before it are its own.
    fn name(&mut self, folder: &Folder<Place>, long: LongName, entry: &[u8; ENTRY]) -> String {
        let has_long = !long.units.is_empty() || long.is_broken;
        long.take(entry).unwrap_or_else(|| {
            let short = short_name(entry);
            if has_long {
                let told = below(&folder.path, &short);
                self.walk.note(format!("the long name of {told} is damaged: its pieces do not belong to it"));
            }
            short
        })
    }

    fn cluster(&self, entry: &[u8; ENTRY]) -> u32 {
        match self.table.layout.width {
            Width::Fat32 => u32::from(le16(entry, 26)) | u32::from(le16(entry, 20)) << 16,
            _ => le16(entry, 26).into(),
        }
    }

    /// The two entries that every folder but the root begins with.
    fn dots(&mut self, folder: &Folder<Place>, bytes: &[u8]) {
        if folder.path.is_empty() || bytes.is_empty() {
            return;
        }
        let entries = bytes.as_chunks::<ENTRY>().0;
        let wanted = [
            (entries.first(), b".          ", folder.place.cluster),
            (entries.get(1), b"..         ", folder.place.parent),
        ];
        let is_right = |(entry, name, cluster): (Option<&[u8; ENTRY]>, &[u8; 11], u32)| {
            entry.is_some_and(|e| e[..11] == *name && e[11] & FOLDER != 0 && self.cluster(e) == cluster)
        };
        if !wanted.into_iter().all(is_right) {
            self.faults.note(|| format!("the folder {} does not begin with itself and its parent", folder.path));
        }
    }

    fn entry(&mut self, folder: &Folder<Place>, name: &str, entry: &[u8; ENTRY]) -> Result<()> {
        let path = below(&folder.path, name);
        let cluster = self.cluster(entry);
        if entry[..11].iter().any(|b| (*b < 0x20 && *b != 5) || b"\"*+,./:;<=>?[\\]|".contains(b)) {
            self.faults.note(|| format!("{path} has a name that no file can have"));
        }
        let modified = time::dos(le16(entry, 24), le16(entry, 22));
        let len = u64::from(le32(entry, 28));
        if entry[11] & FOLDER != 0 {
            if len != 0 {
                self.faults.note(|| format!("the folder {path} has a length"));
            }
            self.walk.add(Node::new(path.clone(), Kind::Folder, modified))?;
            return self.subfolder(folder, path, cluster);
        }
        if len == 0 && cluster != 0 {
            self.faults.note(|| format!("{path} is empty, and has cluster {cluster}"));
        }
        let (spans, wrong) = self.table.chain(cluster, len, &mut self.claims, self.walk.watch())?;
        self.clusters += clusters_of(&spans, self.table.layout.cluster_len);
        if let Some(Fault::Longer(why)) = &wrong {
            self.faults.note(|| format!("{path}: {why}"));
        }
        let file = match wrong {
            Some(Fault::Broken(why)) => File { spans, ..File::broken(len, why) },
            _ if spans.is_empty() => File::of(Arc::new(decanter_core::source::Bytes(Vec::new()))),
            _ => File::from_spans(self.source, spans)?,
        };
        self.walk.add(Node::new(path, Kind::File(file), modified))
    }

    fn subfolder(&mut self, parent: &Folder<Place>, path: String, cluster: u32) -> Result<()> {
        match self.walk.refuse(parent, cluster) {
            None => {
                let spans = self.chain_of(cluster, &format!("the folder {path}"))?;
                self.walk.later(parent, path, Place { spans, cluster, parent: parent.place.cluster });
            }
            Some(why) => self.walk.note(format!("{path} (cluster {cluster}) {why}: not followed")),
        }
        Ok(())
    }
}

/// Clusters of `len` bytes that spans take.
fn clusters_of(spans: &[Range<u64>], len: u64) -> u64 {
    spans.iter().map(|s| (s.end - s.start).div_ceil(len)).sum()
}

/// Whether an entry is the folder itself, or its parent.
fn is_dot(entry: &[u8; ENTRY]) -> bool {
    entry[11] & FOLDER != 0 && (entry[..11] == *b".          " || entry[..11] == *b"..         ")
}

#[cfg(test)]
mod tests {
    use super::super::layout::Layout;
    use super::*;
    use decanter_core::Keyring;
    use decanter_core::source::Bytes;

    const SECTOR: usize = 512;
    /// Sectors of the table, before it one for the boot sector, behind it one for the root folder.
    const TABLE: usize = 32;

    /// A FAT16 volume whose clusters, from 2 on, are these sectors; every cluster is a chain of its own.
    fn volume(root: &[u8], clusters: &[Vec<u8>]) -> SourceRef {
        let sectors = 1 + TABLE + 1 + clusters.len().max(4100);
        let mut b = vec![0; sectors * SECTOR];
        b[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
        b[11..22].copy_from_slice(&[0, 2, 1, 1, 0, 1, 16, 0, 0, 0, 0xf8]);
        b[19..21].copy_from_slice(&(sectors as u16).to_le_bytes());
        b[22] = TABLE as u8;
        b[510..512].copy_from_slice(&[0x55, 0xaa]);
        b[SECTOR..SECTOR + 4].copy_from_slice(&[0xf8, 0xff, 0xff, 0xff]);
        for index in 0..clusters.len() {
            let at = SECTOR + (index + 2) * 2;
            b[at..at + 2].copy_from_slice(&[0xff, 0xff]);
        }
        let root_at = (1 + TABLE) * SECTOR;
        b[root_at..root_at + root.len()].copy_from_slice(root);
        for (index, own) in clusters.iter().enumerate() {
            let at = root_at + (1 + index) * SECTOR;
            b[at..at + own.len()].copy_from_slice(own);
        }
        Arc::new(Bytes(b))
    }

    fn entry(name: &[u8; 11], attributes: u8, cluster: u16, len: u32) -> Vec<u8> {
        let mut own = vec![0; ENTRY];
        own[..11].copy_from_slice(name);
        own[11] = attributes;
        own[26..28].copy_from_slice(&cluster.to_le_bytes());
        own[28..].copy_from_slice(&len.to_le_bytes());
        own
    }

    fn found(source: &SourceRef) -> Found {
        let layout = Layout::read(source.as_ref()).unwrap().unwrap();
        assert!(layout.width == Width::Fat16);
        let keys = Keyring::default();
        Way::run(source, &mut Table::new(source.clone(), layout), &Opener::new(&crate::REGISTRY, &keys)).unwrap()
    }

    /// The folder in `cluster` with the two entries that it begins with, and these.
    fn folder(cluster: u16, parent: u16, more: &[Vec<u8>]) -> Vec<u8> {
        let dots = [entry(b".          ", FOLDER, cluster, 0), entry(b"..         ", FOLDER, parent, 0)];
        [dots.concat(), more.concat()].concat()
    }

    #[test]
    fn folders_in_folders_end_somewhere() {
        let count = 3000u16;
        let clusters: Vec<Vec<u8>> = (2..2 + count)
            .map(|own| folder(own, if own == 2 { 0 } else { own - 1 }, &[entry(b"DEEPER     ", FOLDER, own + 1, 0)]))
            .collect();
        let found = found(&volume(&entry(b"DEEPER     ", FOLDER, 2, 0), &clusters));
        assert_eq!(found.walked.tree.nodes.len(), 2049);
        assert!(found.walked.notices.iter().any(|n| n.text.contains("lies too deep")));
    }

    #[test]
    fn names_dots_and_labels_are_what_they_are() {
        let root = [
            entry(b"SALTMARSH  ", LABEL, 0, 0),
            entry(b"SEA        ", FOLDER, 2, 0),
            entry(b"\xe5LD     TXT", 0, 9, 7),
            entry(b"EMPTY   TXT", 0, 0, 0),
        ];
        // In the folder a file, and its own entry once more.
        let sea = folder(2, 0, &[entry(b"TIDE    TXT", 0, 3, 5), entry(b"AGAIN      ", FOLDER, 2, 0)]);
        let found = found(&volume(&root.concat(), &[sea, b"kelp!".to_vec()]));
        let paths: Vec<&str> = found.walked.tree.nodes.iter().map(|n| n.path.as_str()).collect();
        assert_eq!(paths, ["SEA", "EMPTY.TXT", "SEA/TIDE.TXT", "SEA/AGAIN"]);
        assert_eq!((found.label.as_str(), found.clusters), ("SALTMARSH", 2));
        let told: Vec<&str> = found.walked.notices.iter().map(|n| n.text.as_str()).collect();
        assert_eq!(told, ["SEA/AGAIN (cluster 2) is the same as another folder: not followed"]);
        let tide = found.walked.tree.find("sea/tide.txt").unwrap().file().unwrap();
        assert_eq!(tide.spans, [35 * SECTOR as u64..35 * SECTOR as u64 + 5]);
    }

    #[test]
    fn a_folder_that_does_not_begin_with_itself_is_told() {
        let wrong = [entry(b".          ", FOLDER, 7, 0), entry(b"..         ", FOLDER, 0, 0)].concat();
        let found = found(&volume(&entry(b"SEA        ", FOLDER, 2, 0), &[wrong]));
        let settled = found.faults.settle("entries", "it does not matter here");
        assert!(settled.note.unwrap().contains("SEA does not begin with itself and its parent"));
    }
}
