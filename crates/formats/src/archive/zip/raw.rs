//! Records of an archive as they stand in it (APPNOTE 4.3.7 to 4.3.16). All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// Before the data of an entry, and before its name and extra field (4.3.7).
    Local: 30 {
        signature: [u8; 4],
        needs: U16<LE>,
        flags: U16<LE>,
        method: U16<LE>,
        time: U16<LE>,
        date: U16<LE>,
        crc: U32<LE>,
        packed_len: U32<LE>,
        len: U32<LE>,
        name_len: U16<LE>,
        extra_len: U16<LE>,
    }
    /// An entry in the central directory, before its texts (4.3.12).
    Central: 46 {
        signature: [u8; 4],
        version: u8,
        made_by: u8,
        needs: U16<LE>,
        flags: U16<LE>,
        method: U16<LE>,
        time: U16<LE>,
        date: U16<LE>,
        crc: U32<LE>,
        packed_len: U32<LE>,
        len: U32<LE>,
        name_len: U16<LE>,
        extra_len: U16<LE>,
        comment_len: U16<LE>,
        disk: U16<LE>,
        internal: U16<LE>,
        attributes: U32<LE>,
        header_at: U32<LE>,
    }
    /// The end, before its comment (4.3.16).
    End: 22 {
        signature: [u8; 4],
        disk: U16<LE>,
        directory_disk: U16<LE>,
        own_entries: U16<LE>,
        entries: U16<LE>,
        directory_len: U32<LE>,
        directory_at: U32<LE>,
        comment_len: U16<LE>,
    }
    /// Where the end of zip64 is (4.3.15).
    Locator64: 20 {
        signature: [u8; 4],
        disk: U32<LE>,
        end_at: U64<LE>,
        disks: U32<LE>,
    }
    /// The end of zip64 (4.3.14).
    End64: 56 {
        signature: [u8; 4],
        rest_len: U64<LE>,
        made_by: U16<LE>,
        needs: U16<LE>,
        disk: U32<LE>,
        directory_disk: U32<LE>,
        own_entries: U64<LE>,
        entries: U64<LE>,
        directory_len: U64<LE>,
        directory_at: U64<LE>,
    }
}
