//! The first sector: where the table and the clusters are.

use crate::raw::{layouts, read_at};
use decanter_core::Result;
use decanter_core::source::Source;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// The first sector.
    BootSector: 512 {
        jump: [u8; 3],
        name: [u8; 8],
        zeros: [u8; 53],
        partition_at: U64<LE>,
        sectors: U64<LE>,
        table_at: U32<LE>,
        table_sectors: U32<LE>,
        heap_at: U32<LE>,
        clusters: U32<LE>,
        root: U32<LE>,
        serial: U32<LE>,
        revision: U16<LE>,
        flags: U16<LE>,
        sector_shift: u8,
        cluster_shift: u8,
        tables: u8,
        drive: u8,
        percent: u8,
        rest: [u8; 397],
        mark: [u8; 2],
    }
}

/// The first cluster there is.
pub(super) const FIRST: u32 = 2;
/// The largest cluster, in bytes as a power of two.
const MOST_CLUSTER: u8 = 25;

/// The layout of a volume.
#[derive(Debug, Clone)]
pub(super) struct Layout {
    pub(super) sector_len: u64,
    pub(super) cluster_len: u64,
    /// Where the table in use begins, in bytes.
    pub(super) table_at: u64,
    /// Where cluster 2 begins, in bytes.
    pub(super) heap_at: u64,
    pub(super) clusters: u32,
    /// The first cluster of the root folder.
    pub(super) root: u32,
    pub(super) len: u64,
    /// Whether it was not shut down.
    pub(super) is_dirty: bool,
}

impl Layout {
    /// Reads the first sector; `None` if it is none of such a volume.
    pub(super) fn read(source: &dyn Source) -> Result<Option<Self>> {
        if source.len() < 512 {
            return Ok(None);
        }
        let b: BootSector = read_at(source, 0)?;
        let is_one = b.name == *b"EXFAT   "
            && b.mark == [0x55, 0xaa]
            && b.zeros.iter().all(|byte| *byte == 0)
            && (9..=12).contains(&b.sector_shift)
            && b.sector_shift.saturating_add(b.cluster_shift) <= MOST_CLUSTER
            && (1..=2).contains(&b.tables);
        if !is_one {
            return Ok(None);
        }
        let sector_len = 1u64 << b.sector_shift;
        let flags = b.flags.get();
        let second = u64::from(b.tables == 2 && flags & 1 != 0);
        let (table, table_sectors) = (u64::from(b.table_at.get()), u64::from(b.table_sectors.get()));
        let clusters = b.clusters.get();
        let layout = Self {
            sector_len,
            cluster_len: sector_len << b.cluster_shift,
            table_at: (table + second * table_sectors) * sector_len,
            heap_at: u64::from(b.heap_at.get()) * sector_len,
            clusters,
            root: b.root.get(),
            len: b.sectors.get().saturating_mul(sector_len),
            is_dirty: flags & 2 != 0,
        };
        let entries = (u64::from(clusters) + u64::from(FIRST)) * 4;
        let fits = table_sectors * sector_len >= entries && layout.heap_at >= layout.table_at + entries;
        Ok((fits && clusters > 0 && table > 0).then_some(layout))
    }

    /// Where a cluster begins; `None` if there is no such cluster.
    pub(super) fn place(&self, cluster: u32) -> Option<u64> {
        let index = cluster.checked_sub(FIRST).filter(|index| *index < self.clusters)?;
        Some(self.heap_at + u64::from(index) * self.cluster_len)
    }
}
