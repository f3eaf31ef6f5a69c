//! How many blocks things take.

use super::{FileSystem, RESERVED};
use crate::disk::amiga::block::{BLOCK, MAP_PAGES, OLD_DATA, PER_MAP, TABLE};
use decanter_core::tree::Tree;

/// Pages that a block named by the root names.
pub(super) const PER_EXTENSION: usize = 127;

/// Bytes of content in a data block.
pub(super) fn data_len(file_system: FileSystem) -> u64 {
    if file_system.is_fast { BLOCK as u64 } else { OLD_DATA as u64 }
}

/// Blocks that a tree takes on such a volume, without what the volume takes itself.
pub fn needed_blocks(tree: &Tree, file_system: FileSystem) -> u64 {
    let of = |len: u64| {
        let data = len.div_ceil(data_len(file_system));
        1 + data + lists(data)
    };
    tree.nodes.iter().map(|n| n.file().map_or(1, |f| of(f.len))).sum()
}

/// Blocks that list the data blocks of a file beyond those that its header lists.
pub(super) fn lists(data: u64) -> u64 {
    data.div_ceil(TABLE as u64).saturating_sub(1)
}

/// Pages of the map of free blocks.
pub(super) fn pages(blocks: u64) -> u64 {
    blocks.saturating_sub(RESERVED).div_ceil(PER_MAP)
}

/// Blocks that name the pages which the root has no room for.
pub(super) fn extensions(pages: u64) -> u64 {
    pages.saturating_sub(MAP_PAGES as u64).div_ceil(PER_EXTENSION as u64)
}

/// Blocks that a volume of so many needs for itself.
pub(super) fn own_blocks(blocks: u64) -> u64 {
    let pages = pages(blocks);
    RESERVED + 1 + pages + extensions(pages)
}

/// The smallest number of blocks that has room for `needed` of them.
pub fn least_blocks(needed: u64) -> u64 {
    let mut blocks = needed + 16;
    while blocks - own_blocks(blocks) < needed {
        blocks += 8;
    }
    blocks
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use decanter_core::tree::{File, Kind, Node};
    use std::sync::Arc;

    #[test]
    fn blocks_counted_by_hand() {
        // A floppy: two for starting, the root, one page.
        assert_eq!((pages(1760), extensions(1), own_blocks(1760)), (1, 0, 4));
        // The root names 25 pages of 4,064 blocks; the 26th needs a block that names it.
        assert_eq!((pages(2 + 25 * 4064), pages(3 + 25 * 4064)), (25, 26));
        assert_eq!((extensions(25), extensions(26), extensions(25 + 127), extensions(25 + 128)), (0, 1, 1, 2));
        assert_eq!((lists(0), lists(72), lists(73), lists(145)), (0, 0, 1, 2));
        assert_eq!(least_blocks(1756), 1772);
    }

    #[test]
    fn a_tree_takes_headers_lists_and_data() {
        let file = |len: usize| Kind::File(File::of(Arc::new(Bytes(vec![0; len]))));
        let nodes = vec![
            Node::new("sea".into(), Kind::Folder, None),
            Node::new("sea/a".into(), file(513), None),
            Node::new("empty".into(), file(0), None),
            Node::new("long".into(), file(73 * 512), None),
        ];
        let needed =
            |is_fast| needed_blocks(&Tree { nodes: nodes.clone() }, FileSystem { is_fast, is_international: true });
        assert_eq!(needed(true), 1 + (1 + 2) + 1 + (1 + 73 + 1));
        // 73 * 512 bytes are 77 blocks of 488.
        assert_eq!(needed(false), 1 + (1 + 2) + 1 + (1 + 77 + 1));
    }
}
