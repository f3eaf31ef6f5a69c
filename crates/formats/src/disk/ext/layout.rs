//! The superblock and the descriptors of the groups: where everything of a volume is.

use super::sum;
use crate::num::{le16, le32, le64};
use decanter_core::Result;
use decanter_core::source::{Source, read_array, read_vec};

/// Where the superblock stands.
pub(super) const SUPER: u64 = 1024;
/// Its bytes.
pub(super) const SUPER_LEN: usize = 1024;

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
        if source.len() < SUPER + SUPER_LEN as u64 {
            return Ok(None);
        }
        let s: [u8; SUPER_LEN] = read_array(source, SUPER)?;
        if le16(&s, 56) != 0xef53 || le32(&s, 24) > 6 || le32(&s, 76) > 1 {
            return Ok(None);
        }
        let is_new = le32(&s, 76) > 0;
        let feature = |at| if is_new { le32(&s, at) } else { 0 };
        let (compatible, incompatible, writing) = (feature(92), feature(96), feature(100));
        let is_wide = incompatible & incompatible::WIDE != 0;
        let high = |at: usize| if is_wide { u64::from(le32(&s, at)) << 32 } else { 0 };
        let mut uuid = [0; 16];
        uuid.copy_from_slice(&s[104..120]);
        let seed = if incompatible & incompatible::SEED != 0 { le32(&s, 0x270) } else { sum::crc32c(!0, &uuid) };
        let steps = le32(&s, 28).checked_sub(le32(&s, 24)).filter(|n| *n <= 20 && writing & writing::CLUSTERS != 0);
        let layout = Self {
            block_len: 1024 << le32(&s, 24),
            blocks: u64::from(le32(&s, 4)) | high(0x150),
            free_blocks: u64::from(le32(&s, 12)) | high(0x158),
            first_block: le32(&s, 20).into(),
            blocks_per_group: le32(&s, 32).into(),
            cluster: 1 << steps.unwrap_or(0),
            inodes: le32(&s, 0),
            inodes_per_group: le32(&s, 40),
            inode_len: if is_new { le16(&s, 88).into() } else { 128 },
            group_len: if is_wide { u64::from(le16(&s, 254)).max(32) } else { 32 },
            compatible,
            incompatible,
            writing,
            state: le16(&s, 58),
            first_inode: if is_new { le32(&s, 84) } else { 11 },
            reserved: if compatible & compatible::RESIZE != 0 { le16(&s, 206).into() } else { 0 },
            journal_elsewhere: le32(&s, 0xe4) != 0 || s[0xd0..0xe0].iter().any(|b| *b != 0),
            journal: if compatible & compatible::JOURNAL != 0 { le32(&s, 0xe0) } else { 0 },
            first_meta_group: le32(&s, 0x104).into(),
            guard: (incompatible & incompatible::GUARD != 0).then(|| le64(&s, 0x168)),
            backups: [le32(&s, 0x24c), le32(&s, 0x250)],
            seed,
            uuid,
            hidden: [
                if writing & writing::PROJECTS != 0 { le32(&s, 0x26c) } else { 0 },
                if compatible & compatible::ORPHANS != 0 { le32(&s, 0x280) } else { 0 },
            ],
            is_signed: le32(&s, 0x160) & 2 == 0,
            hash_seed: [0xec, 0xf0, 0xf4, 0xf8].map(|at| le32(&s, at)),
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
        read_vec(source, at, layout.group_len, "a group descriptor", 1024).map(Self::new)
    }

    fn new(bytes: Vec<u8>) -> Self {
        let is_wide = bytes.len() >= 64;
        let pair = |low: usize, high: usize| {
            u64::from(le32(&bytes, low)) | if is_wide { u64::from(le32(&bytes, high)) << 32 } else { 0 }
        };
        let short = |low: usize, high: usize| {
            u32::from(le16(&bytes, low)) | if is_wide { u32::from(le16(&bytes, high)) << 16 } else { 0 }
        };
        Self {
            block_map: pair(0, 32),
            inode_map: pair(4, 36),
            inodes_at: pair(8, 40),
            free_blocks: short(12, 44),
            free_inodes: short(14, 46),
            folders: short(16, 48),
            flags: le16(&bytes, 18),
            unused: short(28, 50),
            bytes,
        }
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
