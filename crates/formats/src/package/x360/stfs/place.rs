//! Where tables and blocks of a volume stand.

/// Entries of a table.
pub const ENTRIES: u64 = 170;
/// Blocks under a table of level 1.
pub const LEVEL_1: u64 = ENTRIES * ENTRIES;
/// Blocks that a volume can have.
pub const MOST_BLOCKS: u64 = LEVEL_1 * ENTRIES;

/// Where things stand, in blocks from the beginning of the volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Places {
    /// How often each table stands: once or twice.
    pub copies: u64,
}

impl Places {
    /// The levels that tables have above `blocks` blocks: the highest, from 0 on.
    pub fn top(blocks: u64) -> u32 {
        u32::from(blocks > ENTRIES) + u32::from(blocks > LEVEL_1)
    }

    fn step_0(self) -> u64 {
        ENTRIES + self.copies
    }

    fn step_1(self) -> u64 {
        LEVEL_1 + self.copies * (ENTRIES + 1)
    }

    /// Where a block of data stands.
    pub fn block(self, number: u64) -> u64 {
        let mut at = number + self.copies * (number / ENTRIES + 1);
        if number >= ENTRIES {
            at += self.copies * (number / LEVEL_1 + 1);
        }
        if number >= LEVEL_1 {
            at += self.copies;
        }
        at
    }

    /// Where the first copy of a table stands.
    pub fn table(self, level: u32, number: u64) -> u64 {
        match (level, number) {
            (0, 0) => 0,
            (0, _) => {
                let above = number / ENTRIES;
                let of_level_2 = if above > 0 { self.copies } else { 0 };
                number * self.step_0() + self.copies * (above + 1) + of_level_2
            }
            (1, 0) => self.step_0(),
            (1, _) => number * self.step_1() + self.copies,
            _ => self.step_1(),
        }
    }

    /// Blocks that a volume takes, with its tables.
    pub fn end(self, blocks: u64) -> u64 {
        let top = Self::top(blocks);
        let behind_blocks = blocks.checked_sub(1).map_or(0, |last| self.block(last) + 1);
        // A table may stand behind the last block that it is about.
        let behind_tables = (0..=top).map(|level| self.table(level, 0) + self.copies).max().unwrap_or(0);
        behind_blocks.max(behind_tables)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: docs/formats/stfs.md.
    #[test]
    fn the_edges_by_hand() {
        let one = Places { copies: 1 };
        let blocks = [0, 0xa9, 0xaa, 0x153, 0x154, 0x70e3, 0x70e4].map(|b| one.block(b));
        assert_eq!(blocks, [1, 0xaa, 0xad, 0x156, 0x158, 0x718e, 0x7192]);
        assert_eq!([0, 1, 2, 169, 170].map(|g| one.table(0, g)), [0, 0xac, 0x157, 0x70e4, 0x7191]);
        assert_eq!([0, 1, 2].map(|n| one.table(1, n)), [0xab, 0x7190, 0xe31f]);
        assert_eq!(one.table(2, 0), 0x718f);
        let two = Places { copies: 2 };
        let blocks = [0, 0xa9, 0xaa, 0x153, 0x154, 0x70e3, 0x70e4].map(|b| two.block(b));
        assert_eq!(blocks, [2, 0xab, 0xb0, 0x159, 0x15c, 0x7239, 0x7240]);
        assert_eq!([0, 1, 169, 170].map(|g| two.table(0, g)), [0, 0xae, 0x718e, 0x723e]);
        assert_eq!([0, 1].map(|n| two.table(1, n)), [0xac, 0x723c]);
        assert_eq!(two.table(2, 0), 0x723a);
    }

    #[test]
    fn nothing_stands_where_something_else_does() {
        for copies in [1, 2] {
            let places = Places { copies };
            let blocks = 3 * LEVEL_1 + 400;
            let mut taken = std::collections::HashSet::new();
            assert!((0..blocks).all(|b| taken.insert(places.block(b))));
            for (level, each) in [(0, ENTRIES), (1, LEVEL_1), (2, MOST_BLOCKS)] {
                for number in 0..blocks.div_ceil(each) {
                    let at = places.table(level, number);
                    assert!((at..at + copies).all(|at| taken.insert(at)), "level {level}, table {number}");
                }
            }
            let end = places.end(blocks);
            assert_eq!(taken.len() as u64, end, "and nothing is left between them");
        }
    }
}
