//! The pass over the tables of inodes.

use super::super::inode::{Inode, Volume, flag, number};
use super::super::layout::{Group, INODES_UNSET, compatible, incompatible, writing};
use super::super::sum;
use super::{attributes, fields};
use crate::disk::faults::Faults;
use crate::num::be32;
use decanter_core::error::Blame;
use decanter_core::source::{read_array, read_vec};

use decanter_core::{Result, Watch, watch};
use std::collections::{BTreeMap, HashMap};
use std::ops::Range;

/// Bytes of a table that are read at once.
const STRETCH: u64 = 1 << 20;

/// What the folders need to know of an inode that is in use.
#[derive(Debug, Clone, Copy)]
pub(super) struct Used {
    pub kind: u16,
    pub links: u16,
    pub flags: u32,
}

/// All inodes.
#[derive(Default)]
pub(super) struct Inodes {
    pub used: BTreeMap<u32, Used>,
    /// Runs of blocks with the inodes that have them.
    pub owners: Vec<(Range<u64>, u32)>,
    pub faults: Faults,
    /// Blocks of attributes: how many inodes have each, and the first of them.
    attributes: HashMap<u64, (u32, u32)>,
}

/// Reads all inodes that are in use, with their blocks.
pub(super) fn read(volume: &Volume, groups: &[Group], watch: &dyn Watch) -> Result<Inodes> {
    let layout = &volume.layout;
    let mut all = Inodes::default();
    // Tables lie side by side, so they are never longer than the volume.
    let mut left = volume.source.len();
    for (group, own) in groups.iter().enumerate() {
        let may_skip = layout.may_skip();
        if may_skip && own.flags & INODES_UNSET != 0 {
            continue;
        }
        let unused = if may_skip { own.unused } else { 0 };
        let count = u64::from(layout.inodes_per_group.saturating_sub(unused));
        let first = group as u64 * u64::from(layout.inodes_per_group) + 1;
        let mut done = 0;
        while done < count {
            watch::check(watch)?;
            let now = (STRETCH / layout.inode_len).min(count - done);
            let at = own.inodes_at.saturating_mul(layout.block_len).saturating_add(done * layout.inode_len);
            let bytes = read_vec(volume.source.as_ref(), at, now * layout.inode_len, "a table of inodes", STRETCH);
            let of = || format!("the table of inodes of group {group}");
            left = match left.checked_sub(now * layout.inode_len) {
                Some(left) => left,
                None => {
                    all.faults.note(|| "the tables of inodes are longer than the volume".into());
                    return Ok(all);
                }
            };
            let Some(bytes) = all.faults.keep(bytes, of)? else { break };
            for (index, bytes) in bytes.chunks(layout.inode_len as usize).enumerate() {
                if bytes[..128].iter().any(|b| *b != 0) {
                    all.take(volume, (first + done + index as u64) as u32, bytes)?;
                }
            }
            done += now;
        }
    }
    let mut blocks: Vec<_> = all.attributes.iter().map(|(block, users)| (*block, *users)).collect();
    blocks.sort_unstable();
    for (block, (users, first)) in blocks {
        watch::check(watch)?;
        let fault = attributes::in_block(volume, block, users);
        if let Some(Some(fault)) = all.faults.keep(fault, || format!("inode {first}"))? {
            all.faults.note(|| format!("inode {first}: {fault}"));
        }
        all.owners.push((block..block + 1, first));
    }
    all.journal(volume)?;
    Ok(all)
}

impl Inodes {
    fn take(&mut self, volume: &Volume, number: u32, bytes: &[u8]) -> Result<()> {
        let parsed = volume.parsed(number, bytes);
        let Some(inode) = self.faults.keep(parsed, || format!("inode {number}"))? else {
            // It may be a file or folder all the same: names lead there, blocks belong to it.
            return Ok(());
        };
        let is_own = number < volume.layout.first_inode;
        if inode.links == 0 && number != number::BAD_BLOCKS {
            if inode.mode != 0 && inode.deleted == 0 && !is_own {
                self.faults.note(|| format!("inode {number} was deleted, and does not say when"));
            }
            return Ok(());
        }
        self.used.insert(number, Used { kind: inode.kind(), links: inode.links, flags: inode.flags });
        let map = if inode.has_blocks() {
            let map = volume.map(&inode);
            self.faults.keep(map, || format!("inode {number}"))?
        } else {
            Some(Default::default())
        };
        if let Some(map) = &map {
            if number == number::RESIZE {
                // Its lists are the room after the descriptors; only the list of those is its own.
                self.owners.extend(map.lists.first().map(|b| (*b..*b + 1, number)));
            } else {
                self.owners.extend(map.taken().map(|run| (run, number)));
            }
        }
        let map = map.filter(|_| number != number::BAD_BLOCKS);
        match fields::faults(volume, &inode, map.as_ref()) {
            Ok(found) => found.into_iter().for_each(|f| self.faults.note(|| format!("inode {number}: {f}"))),
            // The map has been told of already.
            Err(e) if matches!(e.blame(), Blame::Source) => {}
            Err(e) => return Err(e),
        }
        self.attributes(volume, &inode);
        Ok(())
    }

    /// The journal is where it should be, and begins as one.
    fn journal(&mut self, volume: &Volume) -> Result<()> {
        const MARK: u32 = 0xc03b_3998;
        let layout = &volume.layout;
        let has_one = layout.compatible & compatible::JOURNAL != 0;
        if layout.journal_elsewhere {
            // Where the volume was shut down there is nothing in it.
            if !has_one || layout.journal != 0 {
                self.faults.note(|| "it says that its journal is here, and on another device".into());
            }
        } else if has_one && (layout.journal != number::JOURNAL || !self.used.contains_key(&number::JOURNAL)) {
            self.faults.note(|| format!("there is no journal in inode {}, where it should be", layout.journal));
        } else if has_one {
            let read = volume
                .inode(number::JOURNAL)
                .and_then(|inode| volume.content(&inode))
                .and_then(|(content, _)| read_array::<8>(content.as_ref(), 0));
            let head = self.faults.keep(read, || "the journal".into())?;
            if head.is_some_and(|h| be32(&h, 0) != MARK || !matches!(be32(&h, 4), 3 | 4)) {
                self.faults.note(|| "the journal does not begin as one".into());
            }
        }
        Ok(())
    }

    fn attributes(&mut self, volume: &Volume, inode: &Inode) {
        if let Some(fault) = attributes::in_inode(inode) {
            self.faults.note(|| format!("inode {}: {fault}", inode.number));
        }
        if inode.attributes == 0 {
            return;
        }
        if inode.attributes <= volume.layout.first_block || inode.attributes >= volume.layout.blocks {
            self.faults.note(|| format!("inode {}: its attributes are past the end of the volume", inode.number));
            return;
        }
        self.attributes.entry(inode.attributes).or_insert((0, inode.number)).0 += 1;
    }
}

/// Holds the maps of inodes against the inodes that are in use.
pub(super) fn compare(
    volume: &Volume,
    groups: &[Group],
    used: &BTreeMap<u32, Used>,
    faults: &mut Faults,
    watch: &dyn Watch,
) -> Result<()> {
    let layout = &volume.layout;
    for (group, own) in groups.iter().enumerate() {
        watch::check(watch)?;
        let per = layout.inodes_per_group;
        let first = (group as u64 * u64::from(per) + 1) as u32;
        let here = || used.range(first..first.saturating_add(per));
        let kept = layout.first_inode.saturating_sub(first).min(per);
        // The first few are never free, in use or not.
        let taken = kept + here().filter(|(n, _)| **n >= first + kept).count() as u32;
        let folders = here().filter(|(_, u)| u.kind == super::super::inode::kind::FOLDER).count() as u32;
        if own.free_inodes != per.saturating_sub(taken) {
            faults.note(|| {
                format!("group {group} says {} free inodes, and has {}", own.free_inodes, per.saturating_sub(taken))
            });
        }
        if own.folders != folders {
            faults.note(|| format!("group {group} says {} folders, and has {folders}", own.folders));
        }
        if layout.may_skip() && own.flags & INODES_UNSET != 0 {
            continue;
        }
        let map = volume.block(own.inode_map, "a map of inodes");
        let Some(map) = faults.keep(map, || format!("the map of inodes of group {group}"))? else { continue };
        let Some(bits) = map.get(..(per as usize).div_ceil(8)) else { continue };
        if layout.writes(writing::SUMS) && !own.has_sum((26, 58), sum::crc32c(layout.seed, bits)) {
            faults.note(|| format!("the checksum of the map of inodes of group {group} does not hold"));
        }
        let is_padded = (u64::from(per)..layout.block_len * 8).all(|bit| map[bit as usize / 8] >> (bit % 8) & 1 != 0);
        if !is_padded {
            faults.note(|| format!("the end of the map of inodes of group {group} is not filled up"));
        }
        for index in 0..per {
            let is_set = map[index as usize / 8] >> (index % 8) & 1 != 0;
            let is_used = index < kept || used.contains_key(&(first + index));
            if is_set != is_used {
                let (number, said) = (first + index, if is_set { "taken" } else { "free" });
                let is = if is_used { "in use" } else { "not" };
                faults.note(|| format!("inode {number} is {said} in its map, and is {is}"));
            }
        }
    }
    Ok(())
}

/// Whether no name leads to an inode, and none should.
pub(super) fn is_hidden(volume: &Volume, number: u32, used: Used) -> bool {
    let layout = &volume.layout;
    let is_value = used.flags & flag::VALUE != 0 && layout.has(incompatible::VALUES);
    number < layout.first_inode || layout.hidden.contains(&number) || is_value
}
