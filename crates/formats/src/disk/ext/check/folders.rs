//! The pass over all folders: their entries, where they hang, and how many names lead to every inode.

use super::super::folder::{Entry, List, is_dot};
use super::super::inode::{Inode, Volume, flag, kind, number};
use super::super::layout::{incompatible, writing};
use super::index;
use super::inodes::{Used, is_hidden};
use crate::disk::faults::Faults;
use decanter_core::{Result, Watch, watch};
use std::collections::{BTreeMap, HashMap, HashSet};

/// From so many names on, a folder says that it has one.
const MOST_NAMES: u32 = 65_000;

/// What was found in the folders.
struct Folders<'a> {
    volume: &'a Volume,
    used: &'a BTreeMap<u32, Used>,
    faults: Faults,
    /// How many names lead to an inode, those that every folder has among them.
    names: HashMap<u32, u32>,
    /// The folder that a folder stands in, and the one that it says it stands in.
    parents: HashMap<u32, u32>,
    said: HashMap<u32, u32>,
}

/// Checks all folders, reached by a name or not.
pub(super) fn read(volume: &Volume, used: &BTreeMap<u32, Used>, watch: &dyn Watch) -> Result<Faults> {
    let (faults, names, parents, said) = Default::default();
    let mut all = Folders { volume, used, faults, names, parents, said };
    for (number, _) in used.iter().filter(|(_, u)| u.kind == kind::FOLDER) {
        watch::check(watch)?;
        let folder = volume.inode(*number);
        let of = || format!("folder inode {number}");
        let Some(folder) = all.faults.keep(folder, of)? else { continue };
        let lists = volume.lists(&folder);
        let Some(lists) = all.faults.keep(lists, of)? else { continue };
        all.folder(&folder, &lists);
    }
    if used.get(&number::ROOT).is_none_or(|u| u.kind != kind::FOLDER) {
        all.faults.note(|| "there is no root folder".into());
    }
    all.hanging();
    all.links();
    Ok(all.faults)
}

impl Folders<'_> {
    fn folder(&mut self, folder: &Inode, lists: &[List]) {
        let number = folder.number;
        let mut met = HashSet::new();
        if folder.has(flag::INLINE) {
            // "." is not stored there, and ".." is a number alone.
            *self.names.entry(number).or_default() += 1;
            self.parent(number, crate::num::le32(folder.body(), 0));
        }
        let nodes = if folder.has(flag::HASHED) && !folder.has(flag::INLINE) {
            let (nodes, faults) = index::check(self.volume, folder, lists);
            faults.into_iter().for_each(|f| self.faults.note(|| format!("folder inode {number}: {f}")));
            nodes
        } else {
            HashSet::new()
        };
        for (nth, list) in lists.iter().enumerate() {
            let (mut entries, is_whole) = list.entries();
            if !is_whole {
                self.faults.note(|| format!("folder inode {number}: the entries of block {} are damaged", list.block));
            }
            if self.volume.has_sums(folder) && !nodes.contains(&list.block) && !list.has_sum(folder.seed) {
                self.faults
                    .note(|| format!("folder inode {number}: the checksum of block {} does not hold", list.block));
            }
            if nth == 0 && !list.is_inline {
                self.dots(number, list, &entries);
                entries.retain(|e| !(e.at < 24 && is_dot(&e.name)));
            }
            for entry in entries {
                self.entry(folder, &entry, &mut met);
            }
        }
        if lists.is_empty() && !folder.has(flag::INLINE) {
            self.faults.note(|| format!("folder inode {number} has no blocks"));
        }
    }

    /// The two names that every folder begins with.
    fn dots(&mut self, number: u32, list: &List, entries: &[Entry]) {
        let is_own = entries.first().is_some_and(|e| e.at == 0 && e.name == b"." && e.inode == number);
        let up = entries.get(1).filter(|e| e.at == 12 && e.name == b"..");
        if !is_own || up.is_none() || list.bytes.len() < 24 {
            self.faults.note(|| format!("folder inode {number} does not begin with itself and its parent"));
        }
        for dot in entries.iter().filter(|e| e.at < 24 && is_dot(&e.name)) {
            if self.volume.layout.has(incompatible::KINDS) && !matches!(dot.kind, 0 | 2) {
                self.faults.note(|| format!("folder inode {number}: an entry for a folder is of kind {}", dot.kind));
            }
            if dot.name == b"." {
                *self.names.entry(dot.inode).or_default() += 1;
            } else {
                self.parent(number, dot.inode);
            }
        }
    }

    /// A folder says where it stands.
    fn parent(&mut self, number: u32, parent: u32) {
        *self.names.entry(parent).or_default() += 1;
        self.said.insert(number, parent);
    }

    fn entry(&mut self, folder: &Inode, entry: &Entry, met: &mut HashSet<Vec<u8>>) {
        let number = folder.number;
        let shown = || String::from_utf8_lossy(&entry.name).into_owned();
        let is_plain = !folder.has(flag::ENCRYPTED);
        if entry.name.is_empty()
            || is_plain && (is_dot(&entry.name) || entry.name.iter().any(|b| matches!(b, 0 | b'/')))
        {
            self.faults.note(|| format!("folder inode {number} has an entry whose name is none: {:?}", shown()));
        }
        if !met.insert(entry.name.clone()) {
            self.faults.note(|| format!("folder inode {number} has two entries called {:?}", shown()));
        }
        let is_reserved = entry.inode < self.volume.layout.first_inode;
        let Some(used) = self.used.get(&entry.inode).filter(|_| !is_reserved) else {
            self.faults.note(|| {
                format!("folder inode {number}: {:?} leads to inode {}, which is not in use", shown(), entry.inode)
            });
            return;
        };
        let kind = match used.kind {
            8 => 1,
            4 => 2,
            2 => 3,
            6 => 4,
            1 => 5,
            12 => 6,
            10 => 7,
            _ => 0,
        };
        let said = if self.volume.layout.has(incompatible::KINDS) { kind } else { 0 };
        // Folders older than the feature say nothing.
        if entry.kind != said && entry.kind != 0 {
            self.faults.note(|| {
                format!("folder inode {number}: {:?} says that its kind is {}, and it is {kind}", shown(), entry.kind)
            });
        }
        *self.names.entry(entry.inode).or_default() += 1;
        if used.kind == kind::FOLDER && self.parents.insert(entry.inode, number).is_some() {
            self.faults.note(|| format!("folder inode {} stands in two folders", entry.inode));
        }
    }

    /// Every folder hangs, by way of others, from the root; and says so.
    fn hanging(&mut self) {
        let mut known = HashSet::from([number::ROOT]);
        for number in self.used.iter().filter(|(_, u)| u.kind == kind::FOLDER).map(|(n, _)| *n) {
            let (mut path, mut at) = (vec![number], number);
            let mut on_path = HashSet::from([number]);
            let hangs = loop {
                if known.contains(&at) {
                    break true;
                }
                match self.parents.get(&at) {
                    Some(parent) if known.contains(parent) || on_path.insert(*parent) => at = *parent,
                    _ => break false,
                }
                path.push(at);
            };
            if hangs {
                known.extend(path);
            } else if !self.parents.contains_key(&number) || number == at {
                self.faults.note(|| format!("folder inode {number} hangs from no other folder"));
            }
            let wanted = if number == number::ROOT { Some(&number::ROOT) } else { self.parents.get(&number) };
            if let (Some(said), Some(wanted)) = (self.said.get(&number), wanted)
                && said != wanted
            {
                self.faults
                    .note(|| format!("folder inode {number} stands in inode {wanted}, and says that it is {said}"));
            }
        }
    }

    /// As many names lead to every inode as it says.
    fn links(&mut self) {
        for (number, used) in self.used {
            if *number != number::ROOT && is_hidden(self.volume, *number, *used) {
                continue;
            }
            let names = self.names.get(number).copied().unwrap_or(0);
            let own = if used.kind == kind::FOLDER { 1 } else { 0 };
            if names <= own {
                self.faults.note(|| format!("no name leads to inode {number}"));
                continue;
            }
            let may_be_one = used.kind == kind::FOLDER && self.volume.layout.writes(writing::MANY_FOLDERS);
            let is_one = may_be_one && names > MOST_NAMES && used.links == 1;
            if u32::from(used.links) != names && !is_one {
                let links = used.links;
                self.faults.note(|| format!("inode {number} says that {links} names lead to it, and {names} do"));
            }
        }
    }
}
