//! The way through the folders of a volume: what comes next, what was met before, how much there may be, what is told.
//!
//! Folders that lead back to themselves, lists without an end and names upon names are what a hostile volume is made of;
//! every walk is bounded here, once.

use crate::noticed::Noticed;
use decanter_core::error::Blame;
use decanter_core::format::Opener;
use decanter_core::source::{Source, read_vec};
use decanter_core::tree::{Node, Tree};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Notice, Result};
use std::collections::HashSet;
use std::fmt;
use std::hash::Hash;
use std::ops::Range;

/// Files and folders on one volume.
const MOST_NODES: usize = 1 << 21;
/// Bytes that all paths together may have: folders in folders could make more than any memory holds.
const MOST_PATHS: u64 = 256 << 20;
/// Bytes of the lists of names of one volume.
const MOST_LISTS: u64 = 256 << 20;
/// Folders in folders.
const MOST_DEPTH: usize = 2048;

/// Room for files and folders.
#[derive(Debug, Default)]
pub(crate) struct Room {
    nodes: usize,
    paths: u64,
}

impl Room {
    /// Takes room for one more of this path.
    ///
    /// # Errors
    /// [`Error::Limit`].
    pub(crate) fn take(&mut self, path: &str) -> Result<()> {
        self.nodes += 1;
        self.paths += path.len() as u64;
        if self.nodes > MOST_NODES {
            let (asked, limit) = (self.nodes as u64, MOST_NODES as u64);
            return Err(Error::Limit { what: "files and folders", asked, limit });
        }
        if self.paths > MOST_PATHS {
            return Err(Error::Limit { what: "the paths of all files", asked: self.paths, limit: MOST_PATHS });
        }
        Ok(())
    }
}

/// A folder on the way: where its list of names is, `P`, and where it stands in the tree.
pub(crate) struct Folder<P> {
    pub(crate) path: String,
    pub(crate) place: P,
    depth: usize,
}

impl<P> Folder<P> {
    /// Its path as people read it.
    pub(crate) fn shown(&self) -> &str {
        if self.path.is_empty() { "the root folder" } else { &self.path }
    }
}

/// Why a folder is not entered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Refused {
    /// It was entered before: there is a loop, or two names for one.
    Met,
    /// It lies deeper than any real one.
    TooDeep,
}

impl fmt::Display for Refused {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Met => "is the same as another folder",
            Self::TooDeep => "lies too deep",
        })
    }
}

/// The way through a volume's folders. `P` is where a folder's names are, `K` what tells one folder from another.
pub(crate) struct Walk<'a, P, K> {
    watch: &'a dyn Watch,
    todo: Vec<Folder<P>>,
    met: HashSet<K>,
    room: Room,
    lists: u64,
    /// What was found so far, in that order.
    pub(crate) nodes: Vec<Node>,
    /// Byte ranges of the volume that describe it and are no file's.
    pub(crate) structure: Vec<Range<u64>>,
    pub(crate) noticed: Noticed,
}

impl<'a, P, K: Eq + Hash> Walk<'a, P, K> {
    /// One that begins with the root folder.
    pub(crate) fn new(opener: &Opener<'a>, root: P, key: K) -> Self {
        Self {
            watch: opener.watch(),
            todo: vec![Folder { path: String::new(), place: root, depth: 0 }],
            met: HashSet::from([key]),
            room: Room::default(),
            lists: 0,
            nodes: Vec::new(),
            structure: Vec::new(),
            noticed: Noticed::default(),
        }
    }

    /// The next folder whose names are to be read.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub(crate) fn next(&mut self) -> Result<Option<Folder<P>>> {
        watch::check(self.watch)?;
        Ok(self.todo.pop())
    }

    /// Whoever may stop the walk.
    pub(crate) fn watch(&self) -> &'a dyn Watch {
        self.watch
    }

    /// Asks for `len` bytes of lists of names.
    ///
    /// # Errors
    /// [`Error::Limit`].
    pub(crate) fn spend(&mut self, len: u64) -> Result<()> {
        self.lists = self.lists.saturating_add(len);
        if self.lists > MOST_LISTS {
            return Err(Error::Limit { what: "lists of names", asked: self.lists, limit: MOST_LISTS });
        }
        Ok(())
    }

    /// The list of names of a folder that stands in these spans of a volume; what cannot be read is noted, and ends it.
    ///
    /// # Errors
    /// [`Error::Limit`]; what the volume is not to blame for.
    pub(crate) fn list(&mut self, volume: &dyn Source, folder: &Folder<P>, spans: &[Range<u64>]) -> Result<Vec<u8>> {
        let mut list = Vec::new();
        for span in spans {
            let len = span.end - span.start;
            self.spend(len)?;
            let read = read_vec(volume, span.start, len, "a folder", MOST_LISTS);
            let at = || format!("{} at offset {:#x}", folder.shown(), span.start);
            let Some(more) = self.keep(read, at)? else { break };
            list.extend(more);
        }
        self.structure.extend(spans.iter().cloned());
        Ok(list)
    }

    /// Adds a file, folder or link.
    ///
    /// # Errors
    /// [`Error::Limit`].
    pub(crate) fn add(&mut self, node: Node) -> Result<()> {
        self.room.take(&node.path)?;
        self.nodes.push(node);
        Ok(())
    }

    /// Lets the folder at `path` in `parent` be entered later, unless it may not.
    pub(crate) fn enter(&mut self, parent: &Folder<P>, path: String, place: P, key: K) -> Option<Refused> {
        let refused = self.refuse(parent, key);
        if refused.is_none() {
            self.later(parent, path, place);
        }
        refused
    }

    /// Why a folder in `parent` may not be entered, if so; it counts as met from now on.
    pub(crate) fn refuse(&mut self, parent: &Folder<P>, key: K) -> Option<Refused> {
        match self.met.insert(key) {
            false => Some(Refused::Met),
            true if parent.depth >= MOST_DEPTH => Some(Refused::TooDeep),
            true => None,
        }
    }

    /// Lets a folder that was not refused be entered later.
    pub(crate) fn later(&mut self, parent: &Folder<P>, path: String, place: P) {
        self.todo.push(Folder { path, place, depth: parent.depth + 1 });
    }

    /// Notes damage.
    pub(crate) fn note(&mut self, text: impl Into<String>) {
        self.noticed.note(text);
    }

    /// What was read; what the volume is to blame for is noted instead: "`of` cannot be read".
    ///
    /// # Errors
    /// What something else is to blame for: the machine, a key, the user who stopped.
    pub(crate) fn keep<T>(&mut self, result: Result<T>, of: impl FnOnce() -> String) -> Result<Option<T>> {
        match result {
            Ok(value) => Ok(Some(value)),
            Err(e) if e.blame() == Blame::Source => {
                self.noticed.note(format!("{} cannot be read: {e}", of()));
                Ok(None)
            }
            Err(e) => Err(e),
        }
    }

    /// What was found, in that order: parents before what is in them.
    pub(crate) fn finish(self) -> Walked<K> {
        let tree = Tree { nodes: self.nodes };
        Walked { tree, structure: self.structure, notices: self.noticed.into_notices(), met: self.met }
    }
}

/// What a walk came to.
pub(crate) struct Walked<K> {
    pub(crate) tree: Tree,
    pub(crate) structure: Vec<Range<u64>>,
    pub(crate) notices: Vec<Notice>,
    /// The folders that were entered.
    pub(crate) met: HashSet<K>,
}

impl<K> Walked<K> {
    /// The same with each folder's content right behind it, siblings by their names.
    pub(crate) fn sorted(mut self) -> Self {
        self.tree.nodes.sort_by(|a, b| a.path.split('/').cmp(b.path.split('/')));
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::tree::Kind;
    use decanter_core::{Keyring, Registry};

    static NONE: Registry = Registry::new(&[]);

    /// Walks folders that each hold so many others, by their numbers.
    fn walk(holds: &dyn Fn(u32) -> Vec<u32>) -> Result<Walked<u32>> {
        let keys = Keyring::default();
        let opener = Opener::new(&NONE, &keys);
        let mut walk = Walk::new(&opener, 0, 0);
        while let Some(folder) = walk.next()? {
            for child in holds(folder.place) {
                let path = decanter_core::tree::below(&folder.path, &child.to_string());
                walk.add(Node::new(path.clone(), Kind::Folder, None))?;
                if let Some(why) = walk.enter(&folder, path.clone(), child, child) {
                    walk.note(format!("{path}: {why:?}"));
                }
            }
        }
        Ok(walk.finish().sorted())
    }

    #[test]
    fn every_folder_is_entered_once() {
        let found = walk(&|n| match n {
            0 => vec![2, 1],
            2 => vec![0, 1],
            _ => Vec::new(),
        })
        .unwrap();
        let paths: Vec<&str> = found.tree.nodes.iter().map(|n| n.path.as_str()).collect();
        assert_eq!(paths, ["1", "2", "2/0", "2/1"], "parents first, siblings by name");
        let told: Vec<&str> = found.notices.iter().map(|n| n.text.as_str()).collect();
        assert_eq!(told, ["2/0: Met", "2/1: Met"]);
    }

    #[test]
    fn what_has_no_end_ends() {
        let deep = walk(&|n| vec![n + 1]).unwrap();
        assert_eq!(deep.tree.nodes.len(), MOST_DEPTH + 1);
        assert!(deep.notices[0].text.ends_with("TooDeep"));
        let mut room = Room::default();
        let long = "n".repeat(1 << 20);
        let taken = (0..1000).take_while(|_| room.take(&long).is_ok()).count();
        assert_eq!(taken as u64, MOST_PATHS >> 20);
        let mut room = Room { nodes: MOST_NODES - 1, paths: 0 };
        assert!(room.take("a").is_ok() && matches!(room.take("b"), Err(Error::Limit { .. })));
    }

    #[test]
    fn only_what_the_volume_is_to_blame_for_is_noted() {
        let keys = Keyring::default();
        let opener = Opener::new(&NONE, &keys);
        let mut walk: Walk<'_, (), u32> = Walk::new(&opener, (), 0);
        let torn: Result<()> = Err(Error::Unreadable { why: "torn".into() });
        assert!(walk.keep(torn, || "a folder".into()).unwrap().is_none());
        assert!(walk.keep::<()>(Err(Error::Cancelled), || "a folder".into()).is_err());
        assert!(walk.spend(MOST_LISTS).is_ok() && walk.spend(1).is_err());
        assert!(walk.finish().notices[0].text.starts_with("a folder cannot be read"));
    }
}
