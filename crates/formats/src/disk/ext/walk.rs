//! The way through all folders, from the root on.

use super::super::{MOST_NODES, Noticed};
use super::folder::is_dot;
use super::inode::{Inode, Map, Volume, flag, kind, number};
use super::layout::writing;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree, below, check_room};
use decanter_core::{Error, Result, watch};
use std::collections::{HashMap, HashSet};
use std::ops::Range;

/// Bytes of a link's target.
const MOST_LINK: u64 = 4096;

/// What was found on the way.
pub(super) struct Walk<'a> {
    volume: &'a Volume,
    pub tree: Tree,
    pub noticed: Noticed,
    /// Runs of blocks with the inode that they belong to.
    owners: Vec<(Range<u64>, u32)>,
    /// The inode of each node of the tree.
    of_node: Vec<u32>,
    /// Inodes of files that were met.
    met: HashSet<u32>,
}

impl<'a> Walk<'a> {
    pub fn new(volume: &'a Volume) -> Self {
        Self {
            volume,
            tree: Tree::default(),
            noticed: Noticed::default(),
            owners: Vec::new(),
            of_node: Vec::new(),
            met: HashSet::new(),
        }
    }

    /// Breaks the files that hold a block which another one claims too.
    pub fn hold_together(&mut self) {
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
        for (node, inode) in self.tree.nodes.iter_mut().zip(&self.of_node) {
            let Some(block) = crossed.get(inode) else { continue };
            let why = format!("block {block} belongs to another file or folder too: one of them is wrong");
            match &mut node.kind {
                Kind::File(file) => *file = File::broken(file.len, why),
                _ => self.noticed.note(format!("{}: {why}", node.path)),
            }
        }
    }

    pub fn run(&mut self, opener: &Opener<'_>) -> Result<()> {
        let mut seen = HashSet::from([number::ROOT]);
        let mut todo = vec![(String::new(), number::ROOT)];
        while let Some((path, number)) = todo.pop() {
            watch::check(opener.watch())?;
            let entries = match self.folder(&path, number) {
                Ok(entries) => entries,
                Err(e) if e.blame() == Blame::Source => {
                    self.noticed.note(format!("{} cannot be read: {e}", shown(&path)));
                    continue;
                }
                Err(e) => return Err(e),
            };
            for (number, name) in entries {
                watch::check(opener.watch())?;
                let path = below(&path, &name);
                self.node(path, number, &mut seen, &mut todo)?;
            }
        }
        Ok(())
    }

    /// The inodes and names in a folder.
    fn folder(&mut self, path: &str, number: u32) -> Result<Vec<(u32, String)>> {
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
            self.noticed.note(format!("the entries of {} are damaged: some of them are lost", shown(path)));
        }
        Ok(all)
    }

    fn node(
        &mut self,
        path: String,
        number: u32,
        seen: &mut HashSet<u32>,
        todo: &mut Vec<(String, u32)>,
    ) -> Result<()> {
        check_room(self.tree.nodes.len(), MOST_NODES)?;
        let inode = match self.volume.inode(number) {
            Ok(inode) => inode,
            Err(e) if e.blame() == Blame::Source => {
                self.noticed.note(format!("{path} cannot be read: {e}"));
                return Ok(());
            }
            Err(e) => return Err(e),
        };
        let kind = match inode.kind() {
            kind::FOLDER => {
                if seen.insert(number) {
                    todo.push((path.clone(), number));
                } else {
                    self.noticed.note(format!("{path} is the same as another folder: not followed"));
                }
                Kind::Folder
            }
            kind::FILE => {
                let (file, map) = self.file(&inode)?;
                if self.met.insert(number) {
                    self.owners.extend(map.taken().map(|run| (run, number)));
                }
                Kind::File(file)
            }
            kind::LINK => match self.link(&inode) {
                Ok(target) => Kind::Link(target),
                Err(e) if e.blame() == Blame::Source => {
                    self.noticed.note(format!("the link {path} cannot be read: {e}"));
                    return Ok(());
                }
                Err(e) => return Err(e),
            },
            // Devices, pipes and sockets mean nothing elsewhere.
            1 | 2 | 6 | 12 => return Ok(()),
            other => {
                self.noticed.note(format!("{path} leads to inode {number}, which is of kind {other}: none"));
                return Ok(());
            }
        };
        self.of_node.push(number);
        self.tree.nodes.push(Node::new(path, kind, Some(inode.modified)));
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

fn shown(path: &str) -> &str {
    if path.is_empty() { "the root folder" } else { path }
}
