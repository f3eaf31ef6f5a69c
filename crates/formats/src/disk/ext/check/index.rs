//! The tree over the entries of a large folder, by which a system finds a name without reading all of it.

use super::super::folder::List;
use super::super::inode::{Inode, Volume, flag};
use super::super::layout::{compatible, incompatible, writing};
use super::super::sum;
use super::hash;
use crate::num::{le16, le32};
use std::collections::HashSet;

/// Where the list of nodes begins, in the first block and in others.
const ROOT_AT: usize = 32;
const NODE_AT: usize = 8;
/// Steps that a tree may have between its root and the entries.
const MOST_STEPS: u8 = 3;

struct Tree<'a> {
    volume: &'a Volume,
    folder: &'a Inode,
    lists: &'a [List],
    version: u8,
    nodes: HashSet<u64>,
    leaves: HashSet<u64>,
    faults: Vec<String>,
}

/// Checks the tree; returns the blocks that are nodes of it, which have no entries, and what is wrong.
pub(super) fn check(volume: &Volume, folder: &Inode, lists: &[List]) -> (HashSet<u64>, Vec<String>) {
    let mut tree = Tree {
        volume,
        folder,
        lists,
        version: 0,
        nodes: HashSet::from([0]),
        leaves: HashSet::new(),
        faults: Vec::new(),
    };
    let root = match lists.first() {
        Some(list) if list.bytes.len() > ROOT_AT + 8 => &list.bytes,
        _ => return (HashSet::new(), vec!["its tree of names has no root".into()]),
    };
    let (version, info_len, steps, unused) = (root[28], root[29], root[30], root[31]);
    let most = if volume.layout.has(incompatible::LARGE_FOLDERS) { MOST_STEPS } else { MOST_STEPS - 1 };
    let is_known = version <= 2 || version == 6;
    if volume.layout.compatible & compatible::HASHED == 0
        || le32(root, 24) != 0
        || !is_known
        || info_len != 8
        || steps >= most
        || unused & 1 != 0
    {
        return (tree.nodes, vec!["the root of its tree of names is damaged".into()]);
    }
    tree.version = version;
    tree.node(root, ROOT_AT, steps, (0, u32::MAX), true);
    for list in lists {
        if !tree.nodes.contains(&list.block) && !tree.leaves.contains(&list.block) {
            tree.faults.push(format!("its tree of names does not lead to block {}", list.block));
        }
    }
    (tree.nodes, tree.faults)
}

impl Tree<'_> {
    /// A node whose names have hashes between the two of `range`; the last of the range belongs to the next node too if it
    /// is odd.
    fn node(&mut self, bytes: &[u8], at: usize, steps: u8, range: (u32, u32), is_root: bool) {
        let (limit, count) = (usize::from(le16(bytes, at)), usize::from(le16(bytes, at + 2)));
        let has_sum = self.volume.layout.writes(writing::SUMS);
        let room = (bytes.len() - at) / 8 - usize::from(has_sum);
        if limit != room || count > limit || count == 0 {
            self.faults.push("a node of its tree of names is damaged".into());
            return;
        }
        if has_sum {
            let tail = at + limit * 8;
            let begun = sum::crc32c(sum::crc32c(self.folder.seed, &bytes[..at + count * 8]), &bytes[tail..tail + 4]);
            if sum::crc32c(begun, &[0; 4]) != le32(bytes, tail + 4) {
                self.faults.push("the checksum of a node of its tree of names does not hold".into());
            }
        }
        let is_hidden = le32(bytes, 0) == 0 && usize::from(le16(bytes, 4)) == bytes.len() % 65536;
        if !is_root && !is_hidden {
            self.faults.push("a node of its tree of names begins with an entry".into());
        }
        let entry = |index: usize| {
            let hash = if index == 0 { range.0 } else { le32(bytes, at + index * 8) };
            (hash, u64::from(le32(bytes, at + index * 8 + 4) & 0x0fff_ffff))
        };
        for index in 0..count {
            let (from, block) = entry(index);
            let to = if index + 1 < count { entry(index + 1).0 } else { range.1 };
            if from > to || from < range.0 {
                self.faults.push("its tree of names is out of order".into());
                return;
            }
            self.follow(block, steps, (from, to));
        }
    }

    fn follow(&mut self, block: u64, steps: u8, range: (u32, u32)) {
        let Some(list) = self.lists.get(block as usize) else {
            self.faults.push(format!("its tree of names leads to block {block}, which it does not have"));
            return;
        };
        let is_new = if steps > 0 { self.nodes.insert(block) } else { self.leaves.insert(block) };
        if !is_new || self.nodes.contains(&block) && self.leaves.contains(&block) || block == 0 {
            self.faults.push(format!("its tree of names leads to block {block} twice"));
            return;
        }
        if steps > 0 {
            self.node(&list.bytes, NODE_AT, steps - 1, range, false);
            return;
        }
        if self.folder.has(flag::ENCRYPTED | flag::FOLDED) {
            return;
        }
        let layout = &self.volume.layout;
        for entry in list.entries().0 {
            let hash = hash::of(self.version, layout.is_signed, layout.hash_seed, &entry.name);
            // An odd end says that names of the same hash go on in the next block.
            if hash.is_some_and(|h| h < range.0 & !1 || h > range.1 || h == range.1 && range.1 & 1 == 0) {
                let name = String::from_utf8_lossy(&entry.name).into_owned();
                self.faults.push(format!("its tree of names does not lead to {name:?}, which is in block {block}"));
            }
        }
    }
}
