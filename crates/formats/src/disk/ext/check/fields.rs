//! What an inode says of itself.

use super::super::inode::{Inode, Map, Volume, flag, kind, number};
use super::super::layout::{compatible, incompatible, writing};
use crate::num::le32;
use decanter_core::Result;
use decanter_core::source::read_vec;

/// What does not fit together in an inode that is in use; `map` is `None` where it leads to no blocks.
pub(super) fn faults(volume: &Volume, inode: &Inode, map: Option<&Map>) -> Result<Vec<String>> {
    let layout = &volume.layout;
    let mut found = Vec::new();
    let mut wrong = |is_wrong: bool, what: &str| {
        if is_wrong {
            found.push(what.to_owned());
        }
    };
    let is_own = inode.number < layout.first_inode && inode.number != number::ROOT;
    wrong(!is_own && !matches!(inode.kind(), 1 | 2 | 4 | 6 | 8 | 10 | 12), "its kind is none");
    wrong(inode.deleted != 0 && !is_own, "it is in use, and has the time of its deletion");
    wrong(inode.has(flag::EXTENTS) && !layout.has(incompatible::EXTENTS), "it has extents, on a volume without them");
    wrong(
        inode.has(flag::INLINE) && !layout.has(incompatible::INLINE),
        "it has content in it, on a volume without that",
    );
    wrong(inode.has(flag::EXTENTS) && inode.has(flag::INLINE), "it has both extents and content in it");
    wrong(inode.has(flag::HUGE) && !layout.writes(writing::HUGE_FILES), "it is a huge file, on a volume without them");
    let may_fold = inode.kind() == kind::FOLDER && layout.has(incompatible::FOLDED);
    wrong(inode.has(flag::FOLDED) && !may_fold, "it makes no difference between cases, which it cannot");
    let may_hash = inode.kind() == kind::FOLDER && layout.compatible & compatible::HASHED != 0;
    wrong(inode.has(flag::HASHED) && !may_hash, "it has a tree of names, which it cannot");
    let extra = inode.extra();
    wrong(
        extra != 0 && (extra < 4 || !extra.is_multiple_of(4) || 128 + extra > inode.bytes.len()),
        "the length of its further fields is none that there can be",
    );
    wrong(le32(&inode.bytes, 112) != 0, "it names a fragment");
    if matches!(inode.kind(), 1 | 2 | 6 | 12) && !is_own {
        wrong(
            inode.has(flag::EXTENTS | flag::INLINE | flag::HASHED),
            "a device, pipe or socket has the marks of content",
        );
        let numbers = &inode.body()[16..];
        wrong(numbers.iter().any(|b| *b != 0), "a device, pipe or socket has blocks");
        wrong(inode.len != 0, "a device, pipe or socket has a length");
    }
    if let Some(map) = map {
        sizes(volume, inode, map, &mut wrong);
    }
    if inode.kind() == kind::LINK {
        let bytes = match inode.is_short_link() {
            true => inode.body()[..inode.len as usize].to_vec(),
            false => {
                let (content, _) = volume.content(inode)?;
                read_vec(content.as_ref(), 0, content.len(), "a link", 65536)?
            }
        };
        let is_longer = inode.is_short_link() && inode.body().get(inode.len as usize).is_some_and(|b| *b != 0);
        let is_plain = !inode.has(flag::ENCRYPTED);
        wrong(inode.len == 0 || inode.len >= layout.block_len, "a link has a length that no link has");
        wrong(is_plain && (bytes.contains(&0) || is_longer), "a link's target is longer or shorter than it says");
    }
    Ok(found)
}

/// Length and number of blocks against what it has.
fn sizes(volume: &Volume, inode: &Inode, map: &Map, wrong: &mut impl FnMut(bool, &str)) {
    let layout = &volume.layout;
    let end = |is_counted: fn(&super::super::inode::Run) -> bool| {
        let ends = map.runs.iter().filter(|r| is_counted(r)).map(|r| r.first + (r.blocks.end - r.blocks.start));
        ends.max().unwrap_or(0)
    };
    if inode.kind() == kind::FOLDER && !inode.has(flag::INLINE) {
        let is_whole = inode.len.is_multiple_of(layout.block_len) && inode.len / layout.block_len == end(|_| true);
        wrong(!is_whole, "the length of a folder is not that of its blocks");
        let covered: u64 = map.runs.iter().map(|r| r.blocks.end - r.blocks.start).sum();
        wrong(covered != end(|_| true), "a folder has a hole");
    } else if inode.kind() == kind::FILE && !inode.has(flag::VALUE) {
        let last = end(|r| r.is_written).saturating_sub(1);
        wrong(inode.len < last.saturating_mul(layout.block_len), "it has blocks beyond its end");
    }
    let runs = map.taken().chain((inode.attributes != 0).then(|| inode.attributes..inode.attributes + 1));
    let mut count = 0;
    if layout.cluster == 1 {
        count = runs.map(|r| r.end - r.start).sum();
    } else {
        // Several runs may lie in one cluster.
        let mut clusters: Vec<(u64, u64)> =
            runs.map(|r| (r.start / layout.cluster, (r.end - 1) / layout.cluster + 1)).collect();
        clusters.sort_unstable();
        let mut done = 0;
        for (start, end) in clusters {
            count += end.saturating_sub(start.max(done));
            done = done.max(end);
        }
    }
    let unit = if inode.has(flag::HUGE) { 1 } else { layout.block_len / 512 };
    // The lists of the room for descriptors are counted by blocks, whatever else is counted by clusters.
    let is_room = inode.number == number::RESIZE && layout.cluster > 1;
    wrong(!is_room && count * layout.cluster * unit != inode.taken, "it takes another number of blocks than it says");
}
