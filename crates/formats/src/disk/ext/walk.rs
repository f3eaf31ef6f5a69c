//! The way through all folders, from the root on.

use super::folder::is_dot;
use super::inode::{Inode, Map, Volume, flag, kind, number};
use super::layout::writing;
use crate::walk::{Folder, Walk, Walked};
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, below};
use decanter_core::{Error, Result, watch};
use std::collections::{HashMap, HashSet};
use std::ops::Range;

/// Bytes of a link's target.
const MOST_LINK: u64 = 4096;

/// The way through all folders of an ext volume.
pub(super) struct Way<'a> {
    volume: &'a Volume,
    walk: Walk<'a, u32, u32>,
    /// Runs of blocks with the inode that they belong to.
    owners: Vec<(Range<u64>, u32)>,
    /// The inode of each node.
    of_node: Vec<u32>,
    /// Inodes of files that were met.
    met: HashSet<u32>,
}

impl<'a> Way<'a> {
    /// Goes through all folders.
    ///
    /// # Errors
    /// What reading fails with, where the volume is not to blame; [`Error::Limit`].
    pub(super) fn run(volume: &'a Volume, opener: &Opener<'a>) -> Result<Walked<u32>> {
        let walk = Walk::new(opener, number::ROOT, number::ROOT);
        let mut way = Self { volume, walk, owners: Vec::new(), of_node: Vec::new(), met: HashSet::new() };
        while let Some(folder) = way.walk.next()? {
            let entries = way.folder(&folder);
            let Some(entries) = way.walk.keep(entries, || folder.shown().to_owned())? else { continue };
            for (number, name) in entries {
                watch::check(opener.watch())?;
                way.node(&folder, below(&folder.path, &name), number)?;
            }
        }
        Ok(way.hold_together())
    }

    /// Breaks the files that hold a block which another one claims too.
    fn hold_together(mut self) -> Walked<u32> {
        self.owners.sort_by_key(|(run, owner)| (run.start, *owner));
        let (mut end, mut last) = (0, 0);
        let mut crossed: HashMap<u32, u64> = HashMap::new();
        for (run, owner) in self.owners.iter().filter(|_| !self.volume.layout.writes(writing::SHARED)) {
            if run.start < end {
                crossed.extend([(*owner, run.start), (last, run.start)]);
            }
            if run.end > end {
                (end, last) = (run.end, *owner);
            }
        }
        for (node, inode) in self.walk.nodes.iter_mut().zip(&self.of_node) {
            let Some(block) = crossed.get(inode) else { continue };
            let why = format!("block {block} belongs to another file or folder too: one of them is wrong");
            match &mut node.kind {
                Kind::File(file) => *file = File::broken(file.len, why),
                _ => self.walk.noticed.note(format!("{}: {why}", node.path)),
            }
        }
        self.walk.finish()
    }

    /// The inodes and names in a folder.
    fn folder(&mut self, folder: &Folder<u32>) -> Result<Vec<(u32, String)>> {
        let number = folder.place;
        let inode = self.volume.inode(number)?;
        if inode.kind() != kind::FOLDER {
            return Err(Error::Unreadable { why: format!("inode {number} is no folder") });
        }
        if !inode.has(flag::INLINE) {
            self.owners.extend(self.volume.map(&inode)?.taken().map(|run| (run, number)));
        }
        let (mut all, mut is_whole) = (Vec::new(), true);
        for list in self.volume.lists(&inode)? {
            let (found, whole) = list.entries();
            let named = found.into_iter().filter(|e| !is_dot(&e.name) && !e.name.is_empty());
            all.extend(named.map(|e| (e.inode, String::from_utf8_lossy(&e.name).replace('/', "_"))));
            is_whole &= whole;
        }
        if !is_whole {
            self.walk.note(format!("the entries of {} are damaged: some of them are lost", folder.shown()));
        }
        Ok(all)
    }

    fn node(&mut self, parent: &Folder<u32>, path: String, number: u32) -> Result<()> {
        let inode = self.volume.inode(number);
        let Some(inode) = self.walk.keep(inode, || path.clone())? else { return Ok(()) };
        let kind = match inode.kind() {
            kind::FOLDER => Kind::Folder,
            kind::FILE => {
                let (file, map) = self.file(&inode)?;
                if self.met.insert(number) {
                    self.owners.extend(map.taken().map(|run| (run, number)));
                }
                Kind::File(file)
            }
            kind::LINK => {
                let target = self.link(&inode);
                let Some(target) = self.walk.keep(target, || format!("the link {path}"))? else { return Ok(()) };
                Kind::Link(target)
            }
            // Devices, pipes and sockets mean nothing elsewhere.
            1 | 2 | 6 | 12 => return Ok(()),
            other => {
                self.walk.note(format!("{path} leads to inode {number}, which is of kind {other}: none"));
                return Ok(());
            }
        };
        let is_folder = matches!(kind, Kind::Folder);
        self.walk.add(Node::new(path.clone(), kind, Some(inode.modified)))?;
        self.of_node.push(number);
        if is_folder && let Some(why) = self.walk.enter(parent, path.clone(), number, number) {
            self.walk.note(format!("{path} {why}: not followed"));
        }
        Ok(())
    }

    fn file(&self, inode: &Inode) -> Result<(File, Map)> {
        if inode.has(flag::ENCRYPTED) {
            let why = "encrypted by its file system: only the machine that wrote it has the key";
            return Ok((File::broken(inode.len, why), Map::default()));
        }
        match self.volume.content(inode) {
            Ok((source, map)) => {
                let spans = self.volume.spans(&map, inode.len);
                Ok((File { spans, ..File::of(source) }, map))
            }
            Err(e) if e.blame() == Blame::Source => Ok((File::broken(inode.len, e.to_string()), Map::default())),
            Err(e) => Err(e),
        }
    }

    fn link(&self, inode: &Inode) -> Result<String> {
        let bytes = if inode.is_short_link() {
            inode.body()[..inode.len as usize].to_vec()
        } else {
            let (content, _): (SourceRef, _) = self.volume.content(inode)?;
            read_vec(content.as_ref(), 0, content.len(), "a link", MOST_LINK)?
        };
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }
}
