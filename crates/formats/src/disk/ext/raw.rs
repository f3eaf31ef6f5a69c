//! How the superblock and the first half of a group's descriptor stand in a volume (docs/formats/ext.md).

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// The superblock. Fields from `first_inode` on have a meaning from revision 1 on.
    Super: 1024 {
        inodes: U32<LE>,
        blocks: U32<LE>,
        reserved_blocks: U32<LE>,
        free_blocks: U32<LE>,
        free_inodes: U32<LE>,
        first_block: U32<LE>,
        block_shift: U32<LE>,
        cluster_shift: U32<LE>,
        blocks_per_group: U32<LE>,
        clusters_per_group: U32<LE>,
        inodes_per_group: U32<LE>,
        mounted: U32<LE>,
        written: U32<LE>,
        mounts: U16<LE>,
        most_mounts: U16<LE>,
        magic: U16<LE>,
        state: U16<LE>,
        on_errors: U16<LE>,
        minor_revision: U16<LE>,
        checked: U32<LE>,
        check_interval: U32<LE>,
        system: U32<LE>,
        revision: U32<LE>,
        reserved_user: U16<LE>,
        reserved_group: U16<LE>,
        first_inode: U32<LE>,
        inode_len: U16<LE>,
        own_group: U16<LE>,
        compatible: U32<LE>,
        incompatible: U32<LE>,
        writing: U32<LE>,
        uuid: [u8; 16],
        label: [u8; 16],
        mounted_at: [u8; 64],
        algorithms: U32<LE>,
        blocks_ahead: u8,
        folder_blocks_ahead: u8,
        reserved_descriptors: U16<LE>,
        journal_uuid: [u8; 16],
        journal: U32<LE>,
        journal_device: U32<LE>,
        last_orphan: U32<LE>,
        hash_seed: [U32<LE>; 4],
        hash_version: u8,
        journal_copy_kind: u8,
        descriptor_len: U16<LE>,
        mount_options: U32<LE>,
        first_meta_group: U32<LE>,
        made: U32<LE>,
        journal_copy: [U32<LE>; 17],
        blocks_high: U32<LE>,
        reserved_blocks_high: U32<LE>,
        free_blocks_high: U32<LE>,
        least_extra: U16<LE>,
        wanted_extra: U16<LE>,
        flags: U32<LE>,
        stride: U16<LE>,
        guard_interval: U16<LE>,
        guard: U64<LE>,
        stripe_width: U32<LE>,
        flexible_shift: u8,
        sum_kind: u8,
        unused: [u8; 2],
        kib_written: U64<LE>,
        snapshot: [u8; 20],
        errors: [u8; 108],
        mount_texts: [u8; 64],
        user_quota: U32<LE>,
        group_quota: U32<LE>,
        overhead: U32<LE>,
        backup_groups: [U32<LE>; 2],
        ciphers: [u8; 4],
        cipher_salt: [u8; 16],
        lost_and_found: U32<LE>,
        project_quota: U32<LE>,
        sum_seed: U32<LE>,
        times_high: [u8; 8],
        name_encoding: U16<LE>,
        name_encoding_flags: U16<LE>,
        orphans: U32<LE>,
        reserved: [u8; 376],
        sum: U32<LE>,
    }

    /// Half of a descriptor: the low halves of its numbers stand in the first 32 bytes, the high ones in the next, in the
    /// same order but for the flags and the sum.
    Low: 32 {
        block_map: U32<LE>,
        inode_map: U32<LE>,
        inodes_at: U32<LE>,
        free_blocks: U16<LE>,
        free_inodes: U16<LE>,
        folders: U16<LE>,
        flags: U16<LE>,
        excluded: U32<LE>,
        block_map_sum: U16<LE>,
        inode_map_sum: U16<LE>,
        unused: U16<LE>,
        sum: U16<LE>,
    }

    /// The other half, where volumes are wide.
    High: 32 {
        block_map: U32<LE>,
        inode_map: U32<LE>,
        inodes_at: U32<LE>,
        free_blocks: U16<LE>,
        free_inodes: U16<LE>,
        folders: U16<LE>,
        unused: U16<LE>,
        excluded: U32<LE>,
        block_map_sum: U16<LE>,
        inode_map_sum: U16<LE>,
        reserved: U32<LE>,
    }
}

/// Places that are told in messages and in docs/formats/ext.md.
const _: () = {
    assert!(std::mem::offset_of!(Super, magic) == 56);
    assert!(std::mem::offset_of!(Super, uuid) == 104);
    assert!(std::mem::offset_of!(Super, journal) == 0xe0);
    assert!(std::mem::offset_of!(Super, descriptor_len) == 254);
    assert!(std::mem::offset_of!(Super, first_meta_group) == 0x104);
    assert!(std::mem::offset_of!(Super, blocks_high) == 0x150);
    assert!(std::mem::offset_of!(Super, flags) == 0x160);
    assert!(std::mem::offset_of!(Super, guard) == 0x168);
    assert!(std::mem::offset_of!(Super, backup_groups) == 0x24c);
    assert!(std::mem::offset_of!(Super, project_quota) == 0x26c);
    assert!(std::mem::offset_of!(Super, sum_seed) == 0x270);
    assert!(std::mem::offset_of!(Super, orphans) == 0x280);
    assert!(std::mem::offset_of!(Super, sum) == 0x3fc);
};
