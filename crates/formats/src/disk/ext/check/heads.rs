//! The superblock and the descriptors of the groups.

use super::super::inode::Volume;
use super::super::layout::{Group, SUPER, incompatible, writing};
use super::super::{raw, sum};
use crate::disk::faults::Faults;
use crate::raw::read_at;
use decanter_core::{Error, Result, Watch, watch};
use zerocopy::IntoBytes;

/// Bytes of all descriptors together that are held.
const MOST: u64 = 256 << 20;

/// Reads all descriptors. The sums of free blocks and inodes in the superblock are not asked: systems bring them up to date
/// when they like.
pub(super) fn read(volume: &Volume, faults: &mut Faults, watch: &dyn Watch) -> Result<Vec<Group>> {
    let (layout, source) = (&volume.layout, volume.source.as_ref());
    let own: raw::Super = read_at(source, SUPER)?;
    let bytes = own.as_bytes();
    let summed = &bytes[..bytes.len() - 4];
    if layout.writes(writing::SUMS) && sum::crc32c(!0, summed) != own.sum.get() {
        faults.note(|| "the checksum of the superblock does not hold".into());
    }
    let (groups, bits) = (layout.groups(), layout.block_len * 8);
    // A volume that was cut short has the groups that begin in what is there.
    let here = groups.min(source.len() / layout.block_len / layout.blocks_per_group + 1);
    let asked = here.saturating_mul(layout.group_len);
    let limit = MOST;
    if asked > limit {
        return Err(Error::Limit { what: "bytes of group descriptors", asked, limit });
    }
    let mut wrong = |is_wrong: bool, what: &str| {
        if is_wrong {
            faults.note(|| format!("the superblock: {what}"));
        }
    };
    let per_group = u64::from(layout.inodes_per_group);
    wrong(u64::from(layout.inodes) != groups.saturating_mul(per_group), "inodes and groups do not agree");
    wrong(per_group > bits, "a group has more inodes than its map has room for");
    wrong(layout.blocks_per_group > bits * layout.cluster, "a group has more blocks than its map has room for");
    let is_small = layout.block_len == 1024 && layout.cluster == 1;
    wrong(layout.first_block != u64::from(is_small), "the first block is none that there can be");
    wrong(layout.first_inode < 11 || layout.first_inode > layout.inodes, "the first inode is none that there can be");
    let kept = u64::from(own.reserved_blocks.get());
    wrong(kept > layout.blocks, "more blocks are kept than there are");
    wrong(layout.reserved > layout.block_len / 4, "it keeps more room for descriptors than a block can list");
    let inode_len = own.inode_len.get();
    wrong(inode_len != 0 && !inode_len.is_power_of_two(), "the size of inodes is none that there can be");
    for group in [layout.first_meta_group].into_iter().filter(|_| layout.has(incompatible::META_GROUPS)) {
        wrong(group > layout.descriptor_blocks(), "the first meta group is none that there can be");
    }
    let mut all = Vec::new();
    for group in 0..here {
        watch::check(watch)?;
        let read = Group::read(source, layout, group);
        // What was said of the others holds without this one too, but not where anything is.
        let Some(own) = faults.keep(read, || format!("the descriptor of group {group}"))? else { break };
        check(volume, group, &own, faults);
        all.push(own);
    }
    Ok(all)
}

fn check(volume: &Volume, group: u64, own: &Group, faults: &mut Faults) {
    let layout = &volume.layout;
    if layout.may_skip() && own.sum != own.expected_sum(layout, group) {
        faults.note(|| format!("the checksum of group {group}'s descriptor does not hold"));
    }
    let table = (u64::from(layout.inodes_per_group) * layout.inode_len).div_ceil(layout.block_len);
    let room = if layout.has(incompatible::FLEXIBLE) {
        layout.first_block + 1..layout.blocks
    } else {
        layout.start(group)..layout.start(group) + layout.group_blocks(group)
    };
    for (what, start, len) in [
        ("map of blocks", own.block_map, 1),
        ("map of inodes", own.inode_map, 1),
        ("table of inodes", own.inodes_at, table),
    ] {
        if start < room.start || start.saturating_add(len) > room.end {
            faults.note(|| format!("the {what} of group {group} is not in its place (block {start})"));
        }
    }
    if own.unused > layout.inodes_per_group {
        faults.note(|| format!("group {group} has fewer inodes than it says were never used"));
    }
}
