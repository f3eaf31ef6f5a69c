//! The structures of the file system as they stand on the disc. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// The volume descriptor: one sector.
    Descriptor: 2048 {
        magic: [u8; 20],
        root_sector: U32<LE>,
        root_len: U32<LE>,
        made: U64<LE>,
        unused: [u8; 1992],
        second_magic: [u8; 20],
    }
    /// An entry of a folder's table, before its name. Its children stand at four times these offsets.
    Entry: 14 {
        left: U16<LE>,
        right: U16<LE>,
        sector: U32<LE>,
        len: U32<LE>,
        attributes: u8,
        name_len: u8,
    }
}
