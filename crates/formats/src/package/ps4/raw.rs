//! The container as it stands in a file. All numbers are big-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{BE, U16, U32, U64};

layouts! {
    /// The header.
    Head: 160 {
        magic: [u8; 4],
        flags: U32<BE>,
        unknown_8: U32<BE>,
        unknown_c: U32<BE>,
        entries: U32<BE>,
        system_entries: U16<BE>,
        entries_again: U16<BE>,
        table_at: U32<BE>,
        system_len: U32<BE>,
        body_at: U64<BE>,
        body_len: U64<BE>,
        reserved: [u8; 16],
        content_id: [u8; 36],
        padding: [u8; 12],
        drm: U32<BE>,
        content_type: U32<BE>,
        content_flags: U32<BE>,
        promote_len: U32<BE>,
        date: U32<BE>,
        version_hash: U32<BE>,
        unknown_88: [U32<BE>; 4],
        theme: U32<BE>,
        drm_version: U32<BE>,
    }
    /// Digests of the body and of parts of it.
    Digests: 128 {
        system: [u8; 32],
        system_again: [u8; 32],
        table: [u8; 32],
        body: [u8; 32],
    }
    /// Where the image is.
    ImagePart: 144 {
        unknown: U32<BE>,
        images: U32<BE>,
        flags: U64<BE>,
        at: U64<BE>,
        len: U64<BE>,
        mount_at: U64<BE>,
        mount_len: U64<BE>,
        package_len: U64<BE>,
        signed_len: U32<BE>,
        cache_len: U32<BE>,
        digest: [u8; 32],
        signed_digest: [u8; 32],
        split: [U64<BE>; 2],
    }
    /// An entry of the table.
    Entry: 32 {
        id: U32<BE>,
        name_at: U32<BE>,
        flags: U32<BE>,
        key: U32<BE>,
        at: U32<BE>,
        len: U32<BE>,
        reserved: [u8; 8],
    }
}
