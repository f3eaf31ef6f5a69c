//! The first sector of a volume as it stands on the disk. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32};

layouts! {
    /// What all FAT volumes have in their first sector, and the fields of FAT32 behind it.
    BootSector: 512 {
        jump: [u8; 3],
        maker: [u8; 8],
        sector_len: U16<LE>,
        sectors_a_cluster: u8,
        reserved: U16<LE>,
        tables: u8,
        root_entries: U16<LE>,
        small_sectors: U16<LE>,
        medium: u8,
        small_table: U16<LE>,
        sectors_a_track: U16<LE>,
        heads: U16<LE>,
        hidden: U32<LE>,
        large_sectors: U32<LE>,
        large_table: U32<LE>,
        mirroring: U16<LE>,
        version: U16<LE>,
        root_cluster: U32<LE>,
        rest: [u8; 462],
        mark: [u8; 2],
    }
}
