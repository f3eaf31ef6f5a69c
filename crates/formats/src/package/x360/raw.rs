//! The header of a content package as it stands in it. All numbers are big-endian but where their types say otherwise.

use crate::raw::layouts;
use zerocopy::byteorder::{BE, LE, U16, U32, U64};

layouts! {
    /// Everything from the licences on, up to the names.
    Head: 485 {
        licences: [License; 16],
        digest: [u8; 20],
        len: U32<BE>,
        content_type: U32<BE>,
        layout: U32<BE>,
        content_len: U64<BE>,
        media_id: U32<BE>,
        version: U32<BE>,
        base_version: U32<BE>,
        title_id: U32<BE>,
        platform: u8,
        executable: u8,
        disc: u8,
        discs: u8,
        save_id: U32<BE>,
        console_id: [u8; 5],
        profile_id: [u8; 8],
        volume: [u8; 0x24],
        data_files: U32<BE>,
        data_len: U64<BE>,
        volume_kind: U32<BE>,
        reserved: U32<BE>,
        series: [u8; 16],
        season: [u8; 16],
        season_number: U16<BE>,
        episode: U16<BE>,
        unused: [u8; 0x28],
        device_id: [u8; 20],
    }
    /// Who may use the content.
    License: 16 {
        id: U64<BE>,
        bits: U32<BE>,
        flags: U32<BE>,
    }
    /// The certificate of the console that signed a package, behind the magic.
    Certificate: 40 {
        len: U16<BE>,
        console_id: [u8; 5],
        part_number: [u8; 20],
        kind: u8,
        date: [u8; 8],
        exponent: U32<BE>,
    }
    /// The volume descriptor of STFS.
    StfsVolume: 36 {
        len: u8,
        version: u8,
        flags: u8,
        table_blocks: U16<LE>,
        table_first: [u8; 3],
        top_digest: [u8; 20],
        blocks: U32<BE>,
        free: U32<BE>,
    }
    /// The volume descriptor of SVOD.
    SvodVolume: 36 {
        len: u8,
        cache: u8,
        processor: u8,
        priority: u8,
        top_digest: [u8; 20],
        features: u8,
        blocks: [u8; 3],
        first: [u8; 3],
        unused: [u8; 5],
    }
    /// An entry of a hash table.
    HashEntry: 24 {
        digest: [u8; 20],
        info: U32<BE>,
    }
    /// An entry of the file table.
    FileEntry: 64 {
        name: [u8; 0x28],
        flags: u8,
        blocks: [u8; 3],
        blocks_again: [u8; 3],
        first: [u8; 3],
        parent: U16<BE>,
        len: U32<BE>,
        date: U16<BE>,
        time: U16<BE>,
        date_2: U16<BE>,
        time_2: U16<BE>,
    }
}

/// A number of three bytes, the lowest first.
pub(super) fn le24(bytes: [u8; 3]) -> u32 {
    u32::from_le_bytes([bytes[0], bytes[1], bytes[2], 0])
}

/// The same, written.
pub(super) fn to_le24(number: u32) -> [u8; 3] {
    let [a, b, c, _] = number.to_le_bytes();
    [a, b, c]
}
