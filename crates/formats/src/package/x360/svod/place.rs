//! Where the blocks of a disc stand in its data files.

/// Blocks under a table.
pub const GROUP: u64 = 204;
/// Tables in a data file.
pub const GROUPS: u64 = 203;
/// Blocks of a whole data file.
pub const FILE_BLOCKS: u64 = GROUP * GROUPS;
/// Bytes of a block and of a table.
pub const BLOCK: u64 = 0x1000;
/// Bytes of a whole data file.
pub const FILE_LEN: u64 = (1 + GROUPS * (GROUP + 1)) * BLOCK;

/// Where a block stands in its data file.
pub fn block(number: u64) -> u64 {
    (1 + number / GROUP + 1 + number) * BLOCK
}

/// Where the table of a group stands in its data file.
pub fn table(group: u64) -> u64 {
    (1 + group * (GROUP + 1)) * BLOCK
}

/// Bytes of a data file with so many blocks.
pub fn len(blocks: u64) -> u64 {
    match blocks.checked_sub(1) {
        Some(last) => block(last) + BLOCK,
        None => BLOCK,
    }
}

/// Blocks in a data file of so many bytes; the last one may be cut short.
pub fn blocks_in(len: u64) -> u64 {
    let tables_and_blocks = len.div_ceil(BLOCK).saturating_sub(1);
    let (groups, rest) = (tables_and_blocks / (GROUP + 1), tables_and_blocks % (GROUP + 1));
    (groups * GROUP + rest.saturating_sub(1)).min(FILE_BLOCKS)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: docs/formats/svod.md.
    #[test]
    fn the_edges_by_hand() {
        assert_eq!((FILE_BLOCKS, FILE_LEN), (0xa1c4, 0x0a29_0000));
        assert_eq!(
            (block(0), block(203), block(204), block(FILE_BLOCKS - 1)),
            (0x2000, 0xcd000, 0xcf000, FILE_LEN - BLOCK)
        );
        assert_eq!((table(0), table(1)), (0x1000, 0xce000));
        assert_eq!(
            (len(0), len(1), len(204), len(205), len(FILE_BLOCKS)),
            (0x1000, 0x3000, 0xce000, 0xd0000, FILE_LEN)
        );
    }

    #[test]
    fn lengths_and_blocks_there_and_back() {
        for blocks in (0..1000).chain([FILE_BLOCKS - 1, FILE_BLOCKS]) {
            assert_eq!(blocks_in(len(blocks)), blocks);
        }
        assert_eq!(blocks_in(len(5) - 100), 5, "a block that is cut short is one");
    }
}
