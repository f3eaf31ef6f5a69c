//! What the first sectors, the map and the entries say, held against each other.

use super::layout::Layout;
use crate::disk::faults::Faults;
use decanter_core::seal::Settled;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Result, Watch, watch};

/// Sectors of what is read first, and of its copy.
const SECTORS: u64 = 12;
/// Bytes that change while a volume is in use: flags, and how full it is.
const CHANGING: [usize; 3] = [106, 107, 112];

/// What the way through the folders has shown.
pub(super) struct Met {
    /// Files that share clusters.
    pub(super) shared: Vec<String>,
    /// Clusters that files and folders have.
    pub(super) owned: u64,
    /// Clusters that the map says are taken.
    pub(super) taken: Option<u64>,
    pub(super) entries: Faults,
}

/// Whether all of it agrees.
pub(super) fn inspect(source: &SourceRef, layout: &Layout, met: &Met, seen_by: &dyn Watch) -> Result<Vec<Settled>> {
    watch::check(seen_by)?;
    let mut boot = Faults::default();
    for (copy, name) in [(0, "the first sectors"), (SECTORS, "their copy")] {
        let len = SECTORS * layout.sector_len;
        let read = read_vec(source.as_ref(), copy * layout.sector_len, len, "the first sectors", 1 << 17);
        let Some(bytes) = boot.keep(read, || name.into())? else { continue };
        let (sectors, sums) = bytes.split_at(((SECTORS - 1) * layout.sector_len) as usize);
        let sum = checksum(sectors).to_le_bytes();
        if !sums.chunks_exact(4).all(|stored| stored == sum) {
            boot.note(|| format!("{name} have another checksum"));
        }
    }
    let mut map = Faults::default();
    match met.taken {
        None => map.note(|| "there is no whole map of clusters".into()),
        // The table of capitals is taken, and nobody's.
        Some(taken) if taken < met.owned => {
            map.note(|| format!("files and folders have {} clusters, of which the map knows {taken}", met.owned));
        }
        Some(_) => {}
    }
    Ok(vec![
        Settled::of("clusters of the files", &met.shared, "at least one of the two files is wrong"),
        met.entries.clone().settle("entries of folders", "files are missing, cut, or under a wrong name"),
        boot.settle("first sectors", "one of the two is damaged; the first is used").by_digests(),
        map.settle("map of clusters", "what is written next may go over files that are there"),
    ])
}

/// The checksum of the first sectors.
fn checksum(bytes: &[u8]) -> u32 {
    let counted = bytes.iter().enumerate().filter(|(at, _)| !CHANGING.contains(at));
    counted.fold(0u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte)))
}
