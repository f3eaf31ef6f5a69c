//! The structures of a cabinet as they stand in it. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32};

layouts! {
    /// The header, before its reserved area and the names of neighbours.
    Head: 36 {
        magic: [u8; 4],
        reserved_1: U32<LE>,
        len: U32<LE>,
        reserved_2: U32<LE>,
        files_at: U32<LE>,
        reserved_3: U32<LE>,
        minor: u8,
        major: u8,
        folders: U16<LE>,
        files: U16<LE>,
        flags: U16<LE>,
        set: U16<LE>,
        number: U16<LE>,
    }
    /// Bytes of the reserved areas, where the flags say that there are some.
    Reserve: 4 {
        header: U16<LE>,
        folder: u8,
        block: u8,
    }
    /// A folder: files that are packed together, before its reserved area.
    Folder: 8 {
        data_at: U32<LE>,
        blocks: U16<LE>,
        method: U16<LE>,
    }
    /// A file, before its name.
    File: 16 {
        len: U32<LE>,
        at: U32<LE>,
        folder: U16<LE>,
        date: U16<LE>,
        time: U16<LE>,
        attributes: U16<LE>,
    }
    /// A data block, before its reserved area.
    Block: 8 {
        sum: U32<LE>,
        packed: U16<LE>,
        unpacked: U16<LE>,
    }
}
