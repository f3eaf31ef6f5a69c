//! Structures of a PFS image as they stand in it. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// The header, up to the inode of the table of inodes.
    Head: 80 {
        version: U64<LE>,
        magic: U64<LE>,
        id: U64<LE>,
        file_mode: u8,
        clean: u8,
        read_only: u8,
        reserved: u8,
        mode: U16<LE>,
        unknown: U16<LE>,
        block: U32<LE>,
        backups: U32<LE>,
        header_blocks: U64<LE>,
        inodes: U64<LE>,
        blocks: U64<LE>,
        inode_blocks: U64<LE>,
        root: U64<LE>,
    }
    /// What every inode begins with, whatever stands behind it: how many blocks it has, and where they are.
    Inode: 96 {
        mode: U16<LE>,
        links: U16<LE>,
        flags: U32<LE>,
        len: U64<LE>,
        len_again: U64<LE>,
        times: [U64<LE>; 4],
        nanoseconds: [U32<LE>; 4],
        user: U32<LE>,
        group: U32<LE>,
        unknown: [U64<LE>; 2],
    }
    /// An entry of a folder, in front of its name.
    Entry: 16 {
        inode: U32<LE>,
        kind: U32<LE>,
        name_len: U32<LE>,
        len: U32<LE>,
    }
    /// An entry of the table of paths.
    Path: 8 {
        hash: U32<LE>,
        inode: U32<LE>,
    }
}
