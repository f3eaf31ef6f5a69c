//! The header of a PFSC as it stands in it. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U32, U64};

layouts! {
    /// What stands before the table.
    Head: 48 {
        magic: [u8; 4],
        reserved: U32<LE>,
        kind: U32<LE>,
        block: U32<LE>,
        block_again: U64<LE>,
        table_at: U64<LE>,
        data_at: U64<LE>,
        len: U64<LE>,
    }
}
