//! The image inside, read at random; every segment that is read is held against its SHA-1.

use super::ID;
use super::header::{ENTRY, Header, IN_GROUP, SEGMENT, segment_at, table_at};
use super::lock::{Lock, SHA1};
use crate::noticed::first_of;
use crate::package::ps3::cbc_decrypt;
use decanter_core::digest::{Algorithm, hex, of_bytes};
use decanter_core::error::Blame;
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::threads::{self, Shares};
use decanter_core::view::{Blocks, Cached};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// Segments that are kept for small reads.
const MOST_KEPT: usize = 32;
/// Segments that are read at once when all are checked.
const AT_ONCE: u64 = 64;

/// The digests of a group, one after the other.
type Table = Box<[u8]>;

/// The segments of an image.
pub struct Segments {
    source: SourceRef,
    len: u64,
    lock: Lock,
    tables: Vec<OnceLock<Table>>,
    /// A bit for every segment that held.
    held: Vec<AtomicU64>,
}

impl Segments {
    /// Those of an image whose lock is known.
    pub fn new(source: SourceRef, header: &Header, lock: Lock) -> Self {
        let count = header.segments();
        let tables = (0..count.div_ceil(IN_GROUP)).map(|_| OnceLock::new()).collect();
        let held = (0..count.div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        Self { source, len: header.image_len, lock, tables, held }
    }

    fn count(&self) -> u64 {
        self.len.div_ceil(SEGMENT)
    }

    /// The SHA-1 of a segment.
    fn digest(&self, number: u64) -> Result<&[u8]> {
        let slot = &self.tables[(number / IN_GROUP) as usize];
        let table = match slot.get() {
            Some(table) => table,
            None => {
                let table = self.table(number / IN_GROUP)?;
                slot.get_or_init(|| table)
            }
        };
        let at = (number % IN_GROUP) as usize * SHA1;
        Ok(&table[at..at + SHA1])
    }

    fn table(&self, group: u64) -> Result<Table> {
        let mut bytes = read_vec(self.source.as_ref(), table_at(group), SEGMENT, "a table of digests", SEGMENT)?;
        if let Some(meta) = &self.lock.meta {
            cbc_decrypt(meta, &self.lock.iv, &mut bytes)?;
        }
        Ok(bytes.chunks_exact(ENTRY).flat_map(|entry| entry[..SHA1].iter().copied()).collect())
    }

    /// Opens the segments from `first` on, which `bytes` has as they are stored, in place.
    fn open(&self, first: u64, bytes: &mut [u8]) -> Result<()> {
        for (number, segment) in (first..).zip(bytes.chunks_exact_mut(SEGMENT as usize)) {
            let expected = self.digest(number)?;
            let mut found = Vec::new();
            if !self.lock.of_plaintext {
                found = of_bytes(Algorithm::Sha1, segment).bytes;
            }
            if let Some(data) = &self.lock.data {
                cbc_decrypt(data, &self.lock.iv, segment)?;
            }
            if self.lock.of_plaintext {
                found = of_bytes(Algorithm::Sha1, segment).bytes;
            }
            if found != expected {
                let what = format!("{ID}: segment {number}, at {:#x},", segment_at(number));
                let (expected, found) = (format!("SHA-1 {}", hex(expected)), hex(&found));
                return Err(Error::Checksum { what, expected, found });
            }
            self.held[(number / 64) as usize].fetch_or(1 << (number % 64), Ordering::Relaxed);
        }
        Ok(())
    }

    /// Reads whole segments, which stand in one row in the file as far as their group goes.
    fn read(&self, mut first: u64, mut buf: &mut [u8]) -> Result<()> {
        while !buf.is_empty() {
            let here = (IN_GROUP - first % IN_GROUP).min(buf.len() as u64 / SEGMENT);
            let (now, later) = buf.split_at_mut((here * SEGMENT) as usize);
            self.source.read_at(segment_at(first), now)?;
            self.open(first, now)?;
            first += here;
            buf = later;
        }
        Ok(())
    }

    fn has_held(&self, number: u64) -> bool {
        self.held[(number / 64) as usize].load(Ordering::Relaxed) & 1 << (number % 64) != 0
    }

    /// Checks every segment that was not read yet, on all processors: the damaged ones, in words.
    ///
    /// # Errors
    /// What the file is not to blame for: reading failed, the user stopped.
    pub fn damaged(&self, watch: &dyn Watch) -> Result<Vec<String>> {
        let (shares, found) = (Shares::new(self.count(), AT_ONCE), Mutex::new(Vec::new()));
        let work = || self.try_segments(&shares, &found, watch);
        threads::on_all(work)?;
        Ok(first_of(found.into_inner().unwrap_or_else(PoisonError::into_inner), "segment"))
    }

    fn try_segments(&self, shares: &Shares, found: &Mutex<Vec<(u64, String)>>, watch: &dyn Watch) -> Result<()> {
        let mut buf = vec![0; (AT_ONCE * SEGMENT) as usize];
        for share in shares {
            watch::check(watch)?;
            if share.clone().all(|n| self.has_held(n)) {
                continue;
            }
            let whole = &mut buf[..((share.end - share.start) * SEGMENT) as usize];
            if self.read(share.start, whole).is_ok() {
                continue;
            }
            for number in share {
                match self.read(number, &mut buf[..SEGMENT as usize]) {
                    Ok(()) => {}
                    Err(e) if e.blame() == Blame::Source => {
                        found.lock().unwrap_or_else(PoisonError::into_inner).push((number, e.to_string()));
                    }
                    Err(e) => return Err(e),
                }
            }
        }
        Ok(())
    }
}

/// The image inside.
pub struct View {
    segments: Arc<Segments>,
    kept: Cached<Kept>,
}

/// Segments one by one, for reads of a part of one.
struct Kept(Arc<Segments>);

impl Blocks for Kept {
    fn len(&self) -> u64 {
        self.0.len
    }

    fn count(&self) -> usize {
        self.0.count() as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / SEGMENT) as usize, offset / SEGMENT * SEGMENT)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; SEGMENT as usize];
        self.0.read(index as u64, &mut bytes)?;
        bytes.truncate((self.0.len - index as u64 * SEGMENT).min(SEGMENT) as usize);
        Ok(bytes)
    }
}

impl View {
    /// The image of these segments.
    pub fn new(segments: Arc<Segments>) -> Self {
        Self { kept: Cached::new(Kept(segments.clone()), MOST_KEPT), segments }
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.segments.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let into = offset % SEGMENT;
            let whole = buf.len() as u64 / SEGMENT * SEGMENT;
            // Whole segments go straight to where they belong; of others the part that is asked for.
            let is_whole = into == 0 && whole > 0;
            let len = if is_whole { whole } else { (buf.len() as u64).min(SEGMENT - into) };
            let (now, later) = buf.split_at_mut(len as usize);
            match is_whole {
                true => self.segments.read(offset / SEGMENT, now)?,
                false => self.kept.read_at(offset, now)?,
            }
            offset += len;
            buf = later;
        }
        Ok(())
    }
}
