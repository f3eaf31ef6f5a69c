//! Layouts of a package as they stand in it; docs/formats/pkg.md. All numbers are big-endian.

use crate::raw::layouts;
use zerocopy::byteorder::big_endian::{U16, U32, U64};

layouts! {
    /// Beginning of a package.
    Head: 0xc0 {
        magic: [u8; 4],
        revision: U16,
        platform: U16,
        metadata_at: U32,
        packets: U32,
        metadata_len: U32,
        items: U32,
        total_len: U64,
        data_at: U64,
        data_len: U64,
        content_id: [u8; 0x30],
        digest: [u8; 16],
        counter: [u8; 16],
        digests: Digests,
    }
    /// Digests of what stands before them.
    Digests: 0x40 {
        mac: [u8; 16],
        signature: [u8; 0x28],
        hash: [u8; 8],
    }
    /// Beginning of a metadata packet.
    Packet: 8 {
        id: U32,
        len: U32,
    }
    /// An item in the table.
    Entry: 0x20 {
        name_at: U32,
        name_len: U32,
        data_at: U64,
        data_len: U64,
        flags: U32,
        reserved: U32,
    }
}
