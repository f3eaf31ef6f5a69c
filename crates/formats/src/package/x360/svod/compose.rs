//! A disc as data files with their tables: every block is hashed on all processors, then the files are laid out.

use super::place::{self, BLOCK, FILE_BLOCKS, GROUP, GROUPS};
use crate::package::x360::compose::{self, Described, Making};
use crate::package::x360::raw::{SvodVolume, to_le24};
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Hasher, of_bytes};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::threads::{Shares, on_all};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::IntoBytes;

/// Groups that a thread takes at once.
const AT_ONCE: u64 = 4;
/// Blocks that the descriptor can count.
const MOST_BLOCKS: u64 = 0xff_ffff;
/// What packages have in these fields.
const CACHE: u8 = 5;

/// A disc that is laid out.
pub struct Laid {
    /// The package itself.
    pub header: Vec<u8>,
    /// Its data files, in their order.
    pub files: Vec<Blueprint>,
    /// Bytes of all data files.
    pub bytes: u64,
}

/// Lays a disc out: a partition from its first sector on.
///
/// # Errors
/// [`Error::Unsupported`] for a disc that is too long; what reading fails with.
pub fn compose(disc: &SourceRef, making: &Making, watch: &dyn Watch) -> Result<Laid> {
    let padding = disc.len().next_multiple_of(BLOCK) - disc.len();
    let disc: SourceRef = match padding {
        0 => disc.clone(),
        len => Arc::new(Concat::new(vec![disc.clone(), Arc::new(Fill { byte: 0, len })])?),
    };
    let blocks = disc.len() / BLOCK;
    if blocks > MOST_BLOCKS {
        return Err(Error::unsupported(crate::package::x360::ID_DISC, format!("a disc of {blocks} blocks")));
    }
    let tables = tables(&disc, blocks, watch)?;
    let count = blocks.div_ceil(FILE_BLOCKS).max(1);
    let mut masters = masters(&tables, count);
    let top: [u8; 20] = sha1(&masters[0]);
    let tables: SourceRef = Arc::new(Bytes(tables));
    let (mut files, mut bytes) = (Vec::new(), 0);
    for file in 0..count {
        let first = file * FILE_BLOCKS;
        let own = blocks.saturating_sub(first).min(FILE_BLOCKS);
        let mut blueprint = Blueprint::of(Arc::new(Bytes(std::mem::take(&mut masters[file as usize]))));
        for group in 0..own.div_ceil(GROUP) {
            let number = file * GROUPS + group;
            blueprint.source(Arc::new(Slice::new(tables.clone(), number * BLOCK, BLOCK)?));
            let from = first + group * GROUP;
            let len = GROUP.min(first + own - from);
            blueprint.source(Arc::new(Slice::new(disc.clone(), from * BLOCK, len * BLOCK)?));
        }
        debug_assert_eq!(blueprint.len(), place::len(own));
        bytes += blueprint.len();
        files.push(blueprint);
    }
    let descriptor = SvodVolume {
        len: 0x24,
        cache: CACHE,
        processor: CACHE,
        priority: 0x11,
        top_digest: top,
        features: 0,
        blocks: to_le24(blocks as u32),
        first: [0; 3],
        unused: [0; 5],
    };
    let mut volume =
        Described { descriptor: [0; 0x24], kind: 1, content_len: bytes, data_files: count as u32, data_len: bytes };
    volume.descriptor.copy_from_slice(descriptor.as_bytes());
    Ok(Laid { header: compose::header(making, &volume)?, files, bytes })
}

fn sha1(bytes: &[u8]) -> [u8; 20] {
    let mut out = [0; 20];
    out.copy_from_slice(&of_bytes(Algorithm::Sha1, bytes).bytes);
    out
}

/// The tables of all groups, one after the other.
fn tables(disc: &SourceRef, blocks: u64, watch: &dyn Watch) -> Result<Vec<u8>> {
    let groups = blocks.div_ceil(GROUP);
    let all = Mutex::new(vec![0; (groups * BLOCK) as usize]);
    let shares = Shares::new(groups, AT_ONCE);
    on_all(|| {
        let mut bytes = Vec::new();
        for group in (&shares).flatten() {
            watch::check(watch)?;
            let first = group * GROUP;
            bytes.resize((GROUP.min(blocks - first) * BLOCK) as usize, 0);
            disc.read_at(first * BLOCK, &mut bytes)?;
            let mut table = Vec::with_capacity(BLOCK as usize);
            for block in bytes.chunks(BLOCK as usize) {
                let mut hasher = Hasher::new(Algorithm::Sha1);
                hasher.update(block);
                table.extend(hasher.finish().bytes);
            }
            let mut all = all.lock().unwrap_or_else(PoisonError::into_inner);
            let at = (group * BLOCK) as usize;
            all[at..at + table.len()].copy_from_slice(&table);
            watch.advance(bytes.len() as u64);
        }
        Ok(())
    })?;
    Ok(all.into_inner().unwrap_or_else(PoisonError::into_inner))
}

/// The master tables, from the last one up: each has the digest of the one behind it.
fn masters(tables: &[u8], count: u64) -> Vec<Vec<u8>> {
    let mut masters: Vec<Vec<u8>> = tables
        .chunks((GROUPS * BLOCK) as usize)
        .map(|own| own.chunks(BLOCK as usize).flat_map(sha1).collect())
        .collect();
    masters.resize(count as usize, Vec::new());
    let mut next: Option<[u8; 20]> = None;
    for master in masters.iter_mut().rev() {
        master.extend(next.iter().flatten());
        master.resize(BLOCK as usize, 0);
        next = Some(sha1(master));
    }
    masters
}
