//! Who has which block, and whether the maps of blocks say the same.

use super::super::inode::Volume;
use super::super::layout::{BLOCKS_UNSET, Group, writing};
use super::super::sum;
use crate::disk::faults::Faults;
use decanter_core::{Result, Watch, watch};
use std::ops::Range;

/// The owner of what is the file system's own.
const OWN: u32 = 0;

/// Holds the maps against the owners of blocks, and the owners against each other.
pub(super) fn compare(
    volume: &Volume,
    groups: &[Group],
    mut owners: Vec<(Range<u64>, u32)>,
    watch: &dyn Watch,
) -> Result<Faults> {
    let layout = &volume.layout;
    let mut faults = Faults::default();
    let table = (u64::from(layout.inodes_per_group) * layout.inode_len).div_ceil(layout.block_len);
    for (group, own) in (0..).zip(groups) {
        let start = layout.start(group);
        owners.push((start..start + layout.heads(group).min(layout.group_blocks(group)), OWN));
        owners.extend(
            [(own.block_map, 1), (own.inode_map, 1), (own.inodes_at, table)]
                .map(|(at, len)| (at..at.saturating_add(len), OWN)),
        );
    }
    owners.extend(layout.guard.map(|block| (block..block.saturating_add(1), OWN)));
    owners.retain(|(run, _)| !run.is_empty());
    owners.sort_unstable_by_key(|(run, owner)| (run.start, run.end, *owner));
    crossed(volume, &owners, &mut faults, watch)?;
    let taken = merged(&owners, layout.cluster);
    maps(volume, groups, &taken, &mut faults, watch)?;
    Ok(faults)
}

/// Runs that overlap.
fn crossed(volume: &Volume, owners: &[(Range<u64>, u32)], faults: &mut Faults, watch: &dyn Watch) -> Result<()> {
    if volume.layout.writes(writing::SHARED) {
        return Ok(());
    }
    let cluster = volume.layout.cluster;
    let (mut end, mut last) = (0, OWN);
    let named = |owner: u32| if owner == OWN { "the file system itself".into() } else { format!("inode {owner}") };
    for (index, (run, owner)) in owners.iter().enumerate() {
        if index.is_multiple_of(65536) {
            watch::check(watch)?;
        }
        // Where blocks come in clusters, several runs of one owner lie in one.
        let is_own = cluster > 1 && *owner == last;
        if run.start / cluster < end && !is_own {
            faults.note(|| format!("block {} belongs to {} and to {}", run.start, named(last), named(*owner)));
        }
        let run_end = (run.end - 1) / cluster + 1;
        if run_end > end {
            (end, last) = (run_end, *owner);
        }
    }
    Ok(())
}

/// Clusters that are taken: runs in order that do not touch.
fn merged(owners: &[(Range<u64>, u32)], cluster: u64) -> Vec<Range<u64>> {
    let mut taken: Vec<Range<u64>> = Vec::new();
    for (run, _) in owners {
        let run = run.start / cluster..(run.end - 1) / cluster + 1;
        match taken.last_mut().filter(|last| run.start <= last.end) {
            Some(last) => last.end = last.end.max(run.end),
            None => taken.push(run),
        }
    }
    taken
}

/// The map of every group against what is taken.
fn maps(volume: &Volume, groups: &[Group], taken: &[Range<u64>], faults: &mut Faults, watch: &dyn Watch) -> Result<()> {
    let layout = &volume.layout;
    let mut next = 0;
    for (group, own) in (0..).zip(groups) {
        watch::check(watch)?;
        let first = layout.start(group) / layout.cluster;
        let count = layout.group_blocks(group).div_ceil(layout.cluster);
        let mut bits = vec![0u8; layout.block_len as usize];
        // What is no block of the group counts as taken.
        for bit in count as usize..bits.len() * 8 {
            bits[bit / 8] |= 1 << (bit % 8);
        }
        let (mut used, mut index) = (0, next);
        while let Some(run) = taken.get(index).filter(|r| r.start < first + count) {
            // A group has no more clusters than its map has bits; one that says so is told of by its superblock.
            let end = first + count.min(bits.len() as u64 * 8);
            for cluster in run.start.max(first)..run.end.min(end) {
                let bit = (cluster - first) as usize;
                bits[bit / 8] |= 1 << (bit % 8);
                used += 1;
            }
            if run.end > first + count {
                break;
            }
            index += 1;
        }
        next = index;
        let free = count.saturating_sub(used);
        if u64::from(own.free_blocks) != free {
            faults.note(|| format!("group {group} says {} free blocks, and has {free}", own.free_blocks));
        }
        if layout.may_skip() && own.flags & BLOCKS_UNSET != 0 {
            continue;
        }
        let map = volume.block(own.block_map, "a map of blocks");
        let Some(map) = faults.keep(map, || format!("the map of blocks of group {group}"))? else { continue };
        let summed = (layout.blocks_per_group / layout.cluster).div_ceil(8) as usize;
        let sum = map.get(..summed).map(|bits| sum::crc32c(layout.seed, bits));
        if layout.writes(writing::SUMS) && sum.is_some_and(|sum| !own.has_sum((24, 56), sum)) {
            faults.note(|| format!("the checksum of the map of blocks of group {group} does not hold"));
        }
        if map == bits {
            continue;
        }
        for bit in 0..bits.len() * 8 {
            let at = |bytes: &[u8]| bytes.get(bit / 8).is_some_and(|b| b >> (bit % 8) & 1 != 0);
            if at(&map) != at(&bits) {
                let block = (first + bit as u64) * layout.cluster;
                if bit as u64 >= count {
                    faults.note(|| format!("the end of the map of blocks of group {group} is not filled up"));
                    break;
                }
                let (said, is) = if at(&map) { ("taken", "belongs to nothing") } else { ("free", "is in use") };
                faults.note(|| format!("block {block} is {said} in its map, and {is}"));
            }
        }
    }
    Ok(())
}
