//! The superblock and the descriptors of the groups: where everything of a volume is.

use super::{ID, raw, sum};
use crate::num::le16;
use crate::raw::read_at;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};
use zerocopy::FromBytes;
use zerocopy::byteorder::{LE, U16, U32};

/// Where the superblock stands.
pub(super) const SUPER: u64 = 1024;

/// Features that older programs may pass over.
pub(super) mod compatible {
    pub const JOURNAL: u32 = 0x4;
    pub const RESIZE: u32 = 0x10;
    pub const HASHED: u32 = 0x20;
    pub const SPARSE_2: u32 = 0x200;
    pub const ORPHANS: u32 = 0x1000;
}

/// Features without which nothing can be read right.
pub(super) mod incompatible {
    pub const KINDS: u32 = 0x2;
    pub const RECOVER: u32 = 0x4;
    pub const META_GROUPS: u32 = 0x10;
    pub const EXTENTS: u32 = 0x40;
    pub const WIDE: u32 = 0x80;
    pub const GUARD: u32 = 0x100;
    pub const FLEXIBLE: u32 = 0x200;
    pub const VALUES: u32 = 0x400;
    pub const SEED: u32 = 0x2000;
    pub const LARGE_FOLDERS: u32 = 0x4000;
    pub const INLINE: u32 = 0x8000;
    pub const ENCRYPTED: u32 = 0x1_0000;
    pub const FOLDED: u32 = 0x2_0000;
    /// Those with which volumes are read here.
    pub const KNOWN: u32 = KINDS
        | RECOVER
        | META_GROUPS
        | EXTENTS
        | WIDE
        | GUARD
        | FLEXIBLE
        | VALUES
        | SEED
        | LARGE_FOLDERS
        | INLINE
        | ENCRYPTED
        | FOLDED;
}

/// Features that matter to who writes.
pub(super) mod writing {
    pub const SPARSE: u32 = 0x1;
    pub const HUGE_FILES: u32 = 0x8;
    pub const GROUP_SUMS: u32 = 0x10;
    pub const MANY_FOLDERS: u32 = 0x20;
    pub const CLUSTERS: u32 = 0x200;
    pub const SUMS: u32 = 0x400;
    pub const PROJECTS: u32 = 0x2000;
    pub const SHARED: u32 = 0x4000;
}

/// The layout of a volume.
#[derive(Debug, Clone)]
pub(super) struct Layout {
    pub block_len: u64,
    pub blocks: u64,
    pub free_blocks: u64,
    /// The block that the first group begins with: 1 where blocks are as long as what stands before the superblock.
    pub first_block: u64,
    pub blocks_per_group: u64,
    /// Blocks that are taken or free together.
    pub cluster: u64,
    pub inodes: u32,
    pub inodes_per_group: u32,
    pub inode_len: u64,
    /// Bytes of a group descriptor.
    pub group_len: u64,
    pub compatible: u32,
    pub incompatible: u32,
    pub writing: u32,
    /// 1: was shut down; 2: errors were found by a system that used it.
    pub state: u16,
    /// The first inode that is not the file system's own.
    pub first_inode: u32,
    /// Blocks kept after the descriptors, so that they can become more.
    pub reserved: u64,
    /// The inode of its journal; 0: none.
    pub journal: u32,
    /// Whether its journal is on another device.
    pub journal_elsewhere: bool,
    pub first_meta_group: u64,
    /// The block by which one machine sees that another one uses the volume.
    pub guard: Option<u64>,
    backups: [u32; 2],
    /// What all checksums begin with.
    pub seed: u32,
    pub uuid: [u8; 16],
    /// Inodes with contents that no folder has: quotas of projects, orphans.
    pub hidden: [u32; 2],
    /// Whether hashes of names take bytes as signed.
    pub is_signed: bool,
    /// What hashes of names begin with.
    pub hash_seed: [u32; 4],
}

impl Layout {
    /// Reads the superblock; `None` if it is none.
    pub fn read(source: &dyn Source) -> Result<Option<Self>> {
        if source.len() < SUPER + size_of::<raw::Super>() as u64 {
            return Ok(None);
        }
        let own: raw::Super = read_at(source, SUPER)?;
        let (block_shift, revision) = (own.block_shift.get(), own.revision.get());
        if own.magic.get() != 0xef53 || block_shift > 6 || revision > 1 {
            return Ok(None);
        }
        let is_new = revision > 0;
        let feature = |bits: U32<LE>| if is_new { bits.get() } else { 0 };
        let (compatible, incompatible, writing) =
            (feature(own.compatible), feature(own.incompatible), feature(own.writing));
        let is_wide = incompatible & incompatible::WIDE != 0;
        let high = |half: U32<LE>| if is_wide { u64::from(half.get()) << 32 } else { 0 };
        let has_seed = incompatible & incompatible::SEED != 0;
        let seed = if has_seed { own.sum_seed.get() } else { sum::crc32c(!0, &own.uuid) };
        let has_clusters = writing & writing::CLUSTERS != 0;
        let steps = own.cluster_shift.get().checked_sub(block_shift).filter(|n| *n <= 20 && has_clusters);
        let is_elsewhere = own.journal_device.get() != 0 || own.journal_uuid != [0; 16];
        let layout = Self {
            block_len: 1024 << block_shift,
            blocks: u64::from(own.blocks.get()) | high(own.blocks_high),
            free_blocks: u64::from(own.free_blocks.get()) | high(own.free_blocks_high),
            first_block: own.first_block.get().into(),
            blocks_per_group: own.blocks_per_group.get().into(),
            cluster: 1 << steps.unwrap_or(0),
            inodes: own.inodes.get(),
            inodes_per_group: own.inodes_per_group.get(),
            inode_len: if is_new { own.inode_len.get().into() } else { 128 },
            group_len: if is_wide { u64::from(own.descriptor_len.get()).max(32) } else { 32 },
            compatible,
            incompatible,
            writing,
            state: own.state.get(),
            first_inode: if is_new { own.first_inode.get() } else { 11 },
            reserved: if compatible & compatible::RESIZE != 0 { own.reserved_descriptors.get().into() } else { 0 },
            journal_elsewhere: is_elsewhere,
            journal: if compatible & compatible::JOURNAL != 0 { own.journal.get() } else { 0 },
            first_meta_group: own.first_meta_group.get().into(),
            guard: (incompatible & incompatible::GUARD != 0).then(|| own.guard.get()),
            backups: own.backup_groups.map(U32::get),
            seed,
            uuid: own.uuid,
            hidden: [
                if writing & writing::PROJECTS != 0 { own.project_quota.get() } else { 0 },
                if compatible & compatible::ORPHANS != 0 { own.orphans.get() } else { 0 },
            ],
            is_signed: own.flags.get() & 2 == 0,
            hash_seed: own.hash_seed.map(U32::get),
        };
        let plausible = layout.inodes_per_group > 0
            && layout.blocks_per_group > 0
            && (128..=layout.block_len).contains(&layout.inode_len)
            && layout.blocks > 0
            && layout.group_len <= 1024;
        Ok(plausible.then_some(layout))
    }

    pub fn has(&self, feature: u32) -> bool {
        self.incompatible & feature != 0
    }

    /// Whether a feature is set that matters to who writes.
    pub fn writes(&self, feature: u32) -> bool {
        self.writing & feature != 0
    }

    /// Whether it says that it was shut down and needs nothing from its journal.
    pub fn is_clean(&self) -> bool {
        self.state & 1 != 0 && !self.has(incompatible::RECOVER)
    }

    /// Whether descriptors carry a checksum of either kind, and groups may be left as they were before formatting.
    pub fn may_skip(&self) -> bool {
        self.writes(writing::SUMS | writing::GROUP_SUMS)
    }

    pub fn groups(&self) -> u64 {
        self.blocks.saturating_sub(self.first_block).div_ceil(self.blocks_per_group)
    }

    /// The block that a group begins with.
    pub fn start(&self, group: u64) -> u64 {
        self.first_block.saturating_add(group.saturating_mul(self.blocks_per_group))
    }

    /// Blocks of a group: all alike but the last.
    pub fn group_blocks(&self, group: u64) -> u64 {
        self.blocks.saturating_sub(self.start(group)).min(self.blocks_per_group)
    }

    /// Blocks before the superblock in its group: one where small blocks come in clusters, and block 0 begins the volume.
    fn shift(&self, group: u64) -> u64 {
        u64::from(group == 0 && self.first_block == 0 && self.block_len == SUPER)
    }

    fn per_block(&self) -> u64 {
        (self.block_len / self.group_len).max(1)
    }

    /// Blocks that all descriptors take.
    pub fn descriptor_blocks(&self) -> u64 {
        self.groups().div_ceil(self.per_block())
    }

    /// Whether a group begins with a copy of the superblock.
    pub fn has_super(&self, group: u64) -> bool {
        let is_power =
            |of: u64| std::iter::successors(Some(of), |n| n.checked_mul(of)).take_while(|n| *n <= group).last();
        if group == 0 {
            return true;
        }
        if self.compatible & compatible::SPARSE_2 != 0 {
            return self.backups.iter().any(|b| u64::from(*b) == group);
        }
        !self.writes(writing::SPARSE) || group == 1 || [3, 5, 7].iter().any(|of| is_power(*of) == Some(group))
    }

    /// Where a descriptor stands, in bytes.
    pub fn descriptor_at(&self, group: u64) -> u64 {
        let (meta, within) = (group / self.per_block(), group % self.per_block() * self.group_len);
        let block = if self.has(incompatible::META_GROUPS) && meta >= self.first_meta_group {
            let first = meta * self.per_block();
            self.start(first) + self.shift(first) + u64::from(self.has_super(first))
        } else {
            self.first_block + self.shift(0) + 1 + meta
        };
        block.saturating_mul(self.block_len).saturating_add(within)
    }

    /// The blocks at the beginning of a group that hold the superblock, descriptors and room for more of these.
    pub fn heads(&self, group: u64) -> u64 {
        let own = u64::from(self.has_super(group));
        let shift = self.shift(group);
        let (meta, per) = (group / self.per_block(), self.per_block());
        if self.has(incompatible::META_GROUPS) && meta >= self.first_meta_group {
            let nth = group % per;
            return shift + own + u64::from(nth == 0 || nth == 1 || nth == per - 1);
        }
        let all = if self.has(incompatible::META_GROUPS) {
            self.first_meta_group.min(self.descriptor_blocks())
        } else {
            self.descriptor_blocks()
        };
        shift + own * (1 + all + self.reserved)
    }
}

/// A group's descriptor.
#[derive(Debug, Clone)]
pub(super) struct Group {
    pub block_map: u64,
    pub inode_map: u64,
    pub inodes_at: u64,
    pub free_blocks: u32,
    pub free_inodes: u32,
    pub folders: u32,
    pub flags: u16,
    /// Inodes at the end of its table that were never used.
    pub unused: u32,
    /// Its checksum.
    pub sum: u16,
    pub bytes: Vec<u8>,
}

/// Flags of a group: its maps were never written, and say what formatting would have made them say.
pub(super) const INODES_UNSET: u16 = 1;
pub(super) const BLOCKS_UNSET: u16 = 2;

impl Group {
    /// The descriptor of `group`.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn read(source: &dyn Source, layout: &Layout, group: u64) -> Result<Self> {
        let at = layout.descriptor_at(group);
        let bytes = read_vec(source, at, layout.group_len, "a group descriptor", 1024)?;
        let cut = || Error::malformed(ID, "a group descriptor is cut short", at);
        Self::new(bytes).ok_or_else(cut)
    }

    fn new(bytes: Vec<u8>) -> Option<Self> {
        let (low, rest) = raw::Low::ref_from_prefix(&bytes).ok()?;
        // Narrow ones end here.
        let high = raw::High::ref_from_prefix(rest).ok().map(|(high, _)| high);
        let word =
            |low: U32<LE>, high: Option<U32<LE>>| u64::from(low.get()) | u64::from(high.map_or(0, U32::get)) << 32;
        let short =
            |low: U16<LE>, high: Option<U16<LE>>| u32::from(low.get()) | u32::from(high.map_or(0, U16::get)) << 16;
        Some(Self {
            block_map: word(low.block_map, high.map(|h| h.block_map)),
            inode_map: word(low.inode_map, high.map(|h| h.inode_map)),
            inodes_at: word(low.inodes_at, high.map(|h| h.inodes_at)),
            free_blocks: short(low.free_blocks, high.map(|h| h.free_blocks)),
            free_inodes: short(low.free_inodes, high.map(|h| h.free_inodes)),
            folders: short(low.folders, high.map(|h| h.folders)),
            flags: low.flags.get(),
            sum: low.sum.get(),
            unused: short(low.unused, high.map(|h| h.unused)),
            bytes,
        })
    }

    /// The checksum that it should have.
    pub fn expected_sum(&self, layout: &Layout, group: u64) -> u16 {
        let number = (group as u32).to_le_bytes();
        let mut bytes = self.bytes.clone();
        if layout.writes(writing::SUMS) {
            bytes[30..32].fill(0);
            return sum::crc32c(sum::crc32c(layout.seed, &number), &bytes) as u16;
        }
        let begun = sum::crc16(sum::crc16(sum::crc16(!0, &layout.uuid), &number), &bytes[..30]);
        if layout.has(incompatible::WIDE) && bytes.len() > 32 { sum::crc16(begun, &bytes[32..]) } else { begun }
    }

    /// Whether a checksum of one of its maps is the one it has; `at` is where its halves stand.
    pub fn has_sum(&self, (low, high): (usize, usize), sum: u32) -> bool {
        let is_low = le16(&self.bytes, low) == sum as u16;
        is_low && (self.bytes.len() < high + 2 || le16(&self.bytes, high) == (sum >> 16) as u16)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    fn put<const N: usize>(bytes: &mut [u8], at: usize, value: [u8; N]) {
        bytes[at..at + N].copy_from_slice(&value);
    }

    /// A superblock of revision 1 at its offset in a volume: 4 KiB blocks, 3 groups of 0x8000 blocks, the last with 100.
    /// Offsets along docs/formats/ext.md.
    fn volume() -> Vec<u8> {
        let mut bytes = vec![0; 2048];
        let s = &mut bytes[1024..];
        for (at, value) in [
            (0, 3000),
            (4, 0x1_0064),
            (12, 77),
            (24, 2),
            (28, 2),
            (32, 0x8000),
            (40, 1000),
            (76, 1),
            (84, 11),
            (92, 0x34),
            (96, 0x42),
            (100, 0x1),
            (0xe0, 8),
            (0xec, 0x0102_0304),
            (0xf8, 0x0506_0708),
            (0x160, 1),
        ] {
            put(s, at, u32::to_le_bytes(value));
        }
        for (at, value) in [(56, 0xef53), (58, 1), (88, 256), (206, 15), (254, 64)] {
            put(s, at, u16::to_le_bytes(value));
        }
        put(s, 104, [0x5a; 16]);
        bytes
    }

    fn layout(bytes: Vec<u8>) -> Option<Layout> {
        Layout::read(&Bytes(bytes)).unwrap()
    }

    #[test]
    fn the_superblock_says_where_everything_is() {
        let own = layout(volume()).unwrap();
        assert_eq!((own.block_len, own.blocks, own.free_blocks, own.groups()), (4096, 0x1_0064, 77, 3));
        assert_eq!((own.inodes, own.inodes_per_group, own.inode_len, own.first_inode), (3000, 1000, 256, 11));
        assert_eq!(
            (own.group_len, own.reserved, own.journal),
            (32, 15, 8),
            "descriptors are narrow without the feature"
        );
        assert_eq!((own.is_signed, own.is_clean(), own.journal_elsewhere), (true, true, false));
        assert_eq!(own.hash_seed, [0x0102_0304, 0, 0, 0x0506_0708]);
        assert_eq!((own.start(2), own.group_blocks(2), own.group_blocks(1)), (0x1_0000, 100, 0x8000));
        assert_eq!(own.descriptor_at(2), 4096 + 64, "behind the block of the superblock");
    }

    #[test]
    fn wide_volumes_have_high_halves() {
        let mut bytes = volume();
        put(&mut bytes, 1024 + 96, (0x42u32 | incompatible::WIDE).to_le_bytes());
        put(&mut bytes, 1024 + 0x150, 1u32.to_le_bytes());
        put(&mut bytes, 1024 + 0x158, 2u32.to_le_bytes());
        let own = layout(bytes).unwrap();
        assert_eq!((own.blocks, own.free_blocks, own.group_len), (0x1_0001_0064, 0x2_0000_004d, 64));
    }

    #[test]
    fn what_older_volumes_lack_is_not_read() {
        let mut bytes = volume();
        put(&mut bytes, 1024 + 76, 0u32.to_le_bytes());
        let own = layout(bytes).unwrap();
        assert_eq!((own.inode_len, own.first_inode, own.compatible, own.incompatible), (128, 11, 0, 0));
        assert_eq!((own.journal, own.reserved), (0, 0));
    }

    #[test]
    fn what_cannot_be_is_no_superblock() {
        let with = |at: usize, value: u8| {
            let mut bytes = volume();
            bytes[1024 + at] = value;
            layout(bytes)
        };
        assert!(with(0, 0).is_some());
        for (at, value, what) in [(56, 0, "magic"), (24, 7, "block"), (76, 2, "revision"), (89, 32, "inode of 8 KiB")] {
            assert!(with(at, value).is_none(), "{what}");
        }
        assert!(layout(volume()[..2047].to_vec()).is_none(), "cut short");
    }

    #[test]
    fn copies_of_the_superblock_stand_where_the_features_say() {
        let own = layout(volume()).unwrap();
        let with: Vec<u64> = (0..60).filter(|group| own.has_super(*group)).collect();
        assert_eq!(with, [0, 1, 3, 5, 7, 9, 25, 27, 49], "powers of 3, 5 and 7");
        let all = Layout { writing: 0, ..own };
        assert!((0..60).all(|group| all.has_super(group)));
        let two = Layout { compatible: compatible::SPARSE_2, backups: [1, 44], ..own };
        assert_eq!((0..60).filter(|group| two.has_super(*group)).collect::<Vec<_>>(), [0, 1, 44]);
        // One block of descriptors, and room for 15 more.
        assert_eq!((own.heads(0), own.heads(1), own.heads(2)), (17, 17, 0));
    }

    #[test]
    fn a_descriptor_is_put_together_of_two_halves() {
        let mut bytes: Vec<u8> = (0..64).collect();
        let own = Group::new(bytes.clone()).unwrap();
        assert_eq!(
            (own.block_map, own.inode_map, own.inodes_at),
            (0x2322_2120_0302_0100, 0x2726_2524_0706_0504, 0x2b2a_2928_0b0a_0908)
        );
        assert_eq!((own.free_blocks, own.free_inodes, own.folders), (0x2d2c_0d0c, 0x2f2e_0f0e, 0x3130_1110));
        assert_eq!((own.flags, own.unused, own.sum), (0x1312, 0x3332_1d1c, 0x1f1e));
        assert!(own.has_sum((24, 56), 0x3938_1918) && !own.has_sum((24, 56), 0x3938_1919));
        bytes.truncate(32);
        let narrow = Group::new(bytes.clone()).unwrap();
        assert_eq!((narrow.block_map, narrow.unused), (0x0302_0100, 0x1d1c));
        assert!(narrow.has_sum((24, 56), 0xffff_1918), "only the low half is there");
        bytes.truncate(31);
        assert!(Group::new(bytes).is_none());
    }
}
