//! All sectors of a CD image in one read: every check that its sectors carry, and digests of its files.

use decanter_core::digest::{Algorithm, Digest, Hasher};
use decanter_core::pour::pipeline::{self, Consumer, Piece, Plan};
use decanter_core::track::{Track, TrackKind};
use decanter_core::tree::Tree;
use decanter_core::{Result, SECTOR, Watch};
use decanter_formats::optical::cd::sector::{self, Faults, RAW};
use std::sync::Mutex;

/// Faulty sectors that are kept; what is more is counted.
const MOST_KEPT: usize = 100_000;
/// Sectors that one thread checks before the other has its turn.
const TURN: u64 = 256;

/// A sector in which something is wrong.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Fault {
    /// Place in the track, from 0.
    pub(crate) index: u64,
    /// Address on the disc.
    pub(crate) sector: u64,
    pub(crate) faults: Faults,
}

/// What was found in one track.
pub(crate) struct TrackReport {
    pub(crate) sectors: u64,
    pub(crate) faults: Vec<Fault>,
    pub(crate) fault_count: u64,
    pub(crate) digests: Vec<Digest>,
}

/// The sector number that the header of the first sector should have, which is its address on the disc.
fn expected(track: &Track, index: u64) -> Option<u64> {
    match track.sector_len {
        len if len < RAW as u64 => None,
        _ => Some(track.first_sector + index),
    }
}

/// Reads a track whole. Sound and bare data have no checks: of them only digests are taken.
pub(crate) fn scan(track: &Track, algorithms: &[Algorithm], watch: &dyn Watch) -> Result<TrackReport> {
    let len = track.sector_len;
    let sectors = track.source.len() / len;
    let has_checks = track.kind != TrackKind::Audio && len != SECTOR;
    let mut hashers: Vec<Hasher> = algorithms.iter().map(|&a| Hasher::new(a)).collect();
    let found: Mutex<(Vec<Fault>, u64)> = Mutex::new((Vec::new(), 0));
    let lanes = if has_checks { decanter_core::threads::available().clamp(1, 4) as u64 } else { 0 };
    let mut consumers: Vec<Consumer<'_>> = Vec::new();
    for hasher in &mut hashers {
        consumers.push(Box::new(move |p: &Piece| p.each_slice(|bytes| hasher.update(bytes))));
    }
    for lane in 0..lanes {
        let mut cutter = Cutter { len: len as usize, index: 0, rest: Vec::new() };
        let found = &found;
        consumers.push(Box::new(move |p: &Piece| {
            p.each_slice(|bytes| {
                cutter.feed(bytes, |index, stored| {
                    if index / TURN % lanes != lane {
                        return;
                    }
                    let faults = check(stored, expected(track, index));
                    if faults.any() {
                        let mut found = found.lock().unwrap_or_else(|e| e.into_inner());
                        found.1 += 1;
                        if found.0.len() < MOST_KEPT {
                            found.0.push(Fault { index, sector: track.first_sector + index, faults });
                        }
                    }
                });
            });
        }));
    }
    let plan = Plan::over(track.source.clone(), 0..track.source.len());
    pipeline::read_into(plan, consumers, watch)?;
    let (mut faults, fault_count) = found.into_inner().unwrap_or_else(|e| e.into_inner());
    faults.sort_unstable_by_key(|f| f.index);
    Ok(TrackReport { sectors, faults, fault_count, digests: hashers.into_iter().map(Hasher::finish).collect() })
}

/// The faults of a sector as stored: 2,336 bytes lack sync and header, which are made up for it.
fn check(stored: &[u8], number: Option<u64>) -> Faults {
    if stored.len() >= RAW {
        return sector::check(&stored[..RAW], number);
    }
    let mut raw = [0; RAW];
    raw[..12].copy_from_slice(&sector::SYNC);
    raw[15] = 2;
    raw[16..].copy_from_slice(stored);
    sector::check(&raw, None)
}

/// Cuts a stream of bytes into sectors.
struct Cutter {
    len: usize,
    index: u64,
    rest: Vec<u8>,
}

impl Cutter {
    fn feed(&mut self, mut bytes: &[u8], mut take: impl FnMut(u64, &[u8])) {
        if !self.rest.is_empty() {
            let need = (self.len - self.rest.len()).min(bytes.len());
            self.rest.extend_from_slice(&bytes[..need]);
            bytes = &bytes[need..];
            if self.rest.len() < self.len {
                return;
            }
            take(self.index, &self.rest);
            self.index += 1;
            self.rest.clear();
        }
        let mut chunks = bytes.chunks_exact(self.len);
        for sector in &mut chunks {
            take(self.index, sector);
            self.index += 1;
        }
        self.rest.extend_from_slice(chunks.remainder());
    }
}

/// The file that a sector of the first data track belongs to. `index` counts from the beginning of its volume.
pub(crate) fn file_at(tree: &Tree, index: u64) -> Option<&str> {
    let (at, end) = (index * SECTOR, (index + 1) * SECTOR);
    let hit = tree.files().find(|(_, f)| f.spans.iter().any(|s| s.start < end && at < s.end));
    hit.map(|(node, _)| node.path.as_str())
}
