//! The first sector: where tables, root folder and clusters are.

use super::raw::BootSector;
use crate::disk::is_boot_sector;
use crate::raw::read_at;
use decanter_core::Result;
use decanter_core::source::{Source, read_array};
use std::ops::Range;

/// Bytes of a directory entry.
pub(super) const ENTRY: usize = 32;

/// How wide an entry of the table is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Width {
    Fat12,
    Fat16,
    Fat32,
}

/// The layout of a volume.
#[derive(Debug, Clone)]
pub(super) struct Layout {
    pub(super) width: Width,
    pub(super) cluster_len: u64,
    /// Bytes before the first table, and of each table.
    pub(super) table_at: u64,
    pub(super) table_len: u64,
    pub(super) tables: u64,
    /// The root folder of FAT12 and FAT16.
    pub(super) root: Range<u64>,
    pub(super) root_cluster: u32,
    pub(super) data_at: u64,
    pub(super) clusters: u32,
    pub(super) len: u64,
    /// What kind of medium it says it is: the first byte of the table too.
    pub(super) medium: u8,
}

impl Layout {
    /// Reads the first sector; `None` if it is none of a FAT volume.
    pub(super) fn read(source: &dyn Source) -> Result<Option<Self>> {
        if source.len() < 512 {
            return Ok(None);
        }
        let has_mark = is_boot_sector(source)?;
        let b: BootSector = read_at(source, 0)?;
        let sector_len = u64::from(b.sector_len.get());
        let per_cluster = u64::from(b.sectors_a_cluster);
        let (reserved, tables, root_entries) =
            (u64::from(b.reserved.get()), u64::from(b.tables), u64::from(b.root_entries.get()));
        let sectors = match b.small_sectors.get() {
            0 => u64::from(b.large_sectors.get()),
            small => small.into(),
        };
        let table_sectors = match b.small_table.get() {
            0 => u64::from(b.large_table.get()),
            small => small.into(),
        };
        let jump = (b.jump[0] == 0xeb && b.jump[2] == 0x90) || b.jump[0] == 0xe9;
        let plausible = matches!(sector_len, 512 | 1024 | 2048 | 4096)
            && per_cluster.is_power_of_two()
            && reserved > 0
            && (1..=2).contains(&tables)
            && table_sectors > 0
            && sectors > 0
            && (b.medium == 0xf0 || b.medium >= 0xf8);
        if !plausible || has_mark && !jump || !has_mark && !is_unmarked_floppy(source, &b, sectors * sector_len)? {
            return Ok(None);
        }
        let root_sectors = (root_entries * 32).div_ceil(sector_len);
        let data_sector = reserved + tables * table_sectors + root_sectors;
        let Some(data_sectors) = sectors.checked_sub(data_sector) else { return Ok(None) };
        let clusters = (data_sectors / per_cluster).min(0x0fff_fff5) as u32;
        let width = match clusters {
            0..4085 => Width::Fat12,
            4085..65525 => Width::Fat16,
            _ => Width::Fat32,
        };
        let width = if root_entries == 0 { Width::Fat32 } else { width };
        let root_at = (reserved + tables * table_sectors) * sector_len;
        Ok(Some(Self {
            width,
            cluster_len: per_cluster * sector_len,
            table_at: reserved * sector_len,
            table_len: table_sectors * sector_len,
            tables,
            root: root_at..root_at + root_entries * 32,
            root_cluster: b.root_cluster.get() & 0x0fff_ffff,
            data_at: data_sector * sector_len,
            clusters,
            len: sectors * sector_len,
            medium: b.medium,
        }))
    }

    pub(super) fn name(&self) -> &'static str {
        match self.width {
            Width::Fat12 => "FAT12",
            Width::Fat16 => "FAT16",
            Width::Fat32 => "FAT32",
        }
    }

    /// Bytes of the table that mean something.
    pub(super) fn used_table_len(&self) -> u64 {
        let entries = u64::from(self.clusters) + 2;
        let len = match self.width {
            Width::Fat12 => (entries * 3).div_ceil(2),
            Width::Fat16 => entries * 2,
            Width::Fat32 => entries * 4,
        };
        len.min(self.table_len)
    }

    /// Where a cluster begins; `None` if there is no such cluster.
    pub(super) fn place(&self, cluster: u32) -> Option<u64> {
        let index = cluster.checked_sub(2).filter(|i| *i < self.clusters)?;
        Some(self.data_at + u64::from(index) * self.cluster_len)
    }
}

/// The longest floppy disk, in bytes: what is larger ends its first sector with a mark.
const MOST_FLOPPY: u64 = 4 << 20;

/// Whether a first sector without its mark is that of a floppy disk: home computers start from other bytes, or from none. Then
/// all of its length, and what its table begins with, have to be right.
fn is_unmarked_floppy(source: &dyn Source, boot: &BootSector, len: u64) -> Result<bool> {
    let table = u64::from(boot.reserved.get()) * u64::from(boot.sector_len.get());
    if len != source.len() || len > MOST_FLOPPY || table + 3 > len {
        return Ok(false);
    }
    let [medium, more @ ..] = read_array::<3>(source, table)?;
    // Some systems leave the kind of medium in the table as it came.
    Ok(more == [0xff, 0xff] && (medium == boot.medium || medium >= 0xf7))
}
