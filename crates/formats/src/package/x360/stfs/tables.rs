//! The hash tables of a volume: which copy counts, and whether it is the one that the table above it means.

use super::place::{ENTRIES, Places};
use crate::package::x360::header::BLOCK;
use crate::package::x360::raw::HashEntry;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::FromBytes;

/// Bytes of a digest.
pub(super) const SHA1: usize = 20;
/// Tables of the lowest level that are kept; those above are few.
const MOST_KEPT: usize = 64;
/// That the second copy of a table counts.
const SECOND: u32 = 1 << 30;
/// The end of a chain.
pub(super) const END: u32 = 0xff_ffff;

/// Whether a table is the one that is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum State {
    /// The copy that counts is.
    Holds,
    /// The other copy is.
    Other,
    /// None is: what stands in it proves nothing.
    Fails,
}

/// A table.
pub(super) struct Table {
    bytes: Box<[u8]>,
    pub(super) state: State,
    /// Where the copy that was taken stands in the source.
    pub(super) at: u64,
}

impl Table {
    pub(super) fn entry(&self, index: u64) -> HashEntry {
        let at = (index % ENTRIES) as usize * size_of::<HashEntry>();
        HashEntry::read_from_prefix(&self.bytes[at..])
            .map_or(HashEntry { digest: [0; SHA1], info: 0.into() }, |(e, _)| e)
    }
}

impl HashEntry {
    /// The next block of a chain.
    pub(super) fn next(&self) -> u32 {
        self.info.get() & END
    }

    /// Whether the block is in use.
    pub(super) fn is_used(&self) -> bool {
        self.info.get() >> 31 == 1
    }
}

/// The tables of a volume.
pub(super) struct Tables {
    source: SourceRef,
    /// Where the volume begins.
    base: u64,
    pub(super) places: Places,
    pub(super) blocks: u64,
    top_digest: [u8; SHA1],
    top_is_second: bool,
    kept: Mutex<HashMap<(u32, u64), Arc<Table>>>,
}

impl Tables {
    pub(super) fn new(source: SourceRef, base: u64, places: Places, blocks: u64, top: ([u8; SHA1], bool)) -> Self {
        let (top_digest, top_is_second) = top;
        Self { source, base, places, blocks, top_digest, top_is_second, kept: Mutex::default() }
    }

    /// Tables of a level.
    pub(super) fn count(&self, level: u32) -> u64 {
        self.blocks.div_ceil(ENTRIES.pow(level + 1))
    }

    /// Where a block stands in the source.
    pub(super) fn block_at(&self, number: u64) -> u64 {
        self.base + self.places.block(number) * BLOCK
    }

    /// A table.
    ///
    /// # Errors
    /// What reading fails with: a source that ends before it.
    pub(super) fn table(&self, level: u32, number: u64) -> Result<Arc<Table>> {
        if let Some(known) = self.kept.lock().unwrap_or_else(PoisonError::into_inner).get(&(level, number)) {
            return Ok(known.clone());
        }
        let (digest, is_second) = match level == Places::top(self.blocks) {
            true => (self.top_digest, self.top_is_second),
            false => {
                let entry = self.table(level + 1, number / ENTRIES)?.entry(number);
                (entry.digest, entry.info.get() & SECOND != 0)
            }
        };
        let first = self.base + self.places.table(level, number) * BLOCK;
        let is_second = is_second && self.places.copies == 2;
        let copy = |is_second: bool| -> Result<(u64, Vec<u8>, bool)> {
            let at = first + if is_second { BLOCK } else { 0 };
            let mut bytes = vec![0; BLOCK as usize];
            self.source.read_at(at, &mut bytes)?;
            let holds = of_bytes(Algorithm::Sha1, &bytes).bytes == digest;
            Ok((at, bytes, holds))
        };
        let (at, bytes, holds) = copy(is_second)?;
        let mut table = Table { bytes: bytes.into(), state: if holds { State::Holds } else { State::Fails }, at };
        if !holds && self.places.copies == 2 {
            match copy(!is_second) {
                Ok((at, bytes, true)) => table = Table { bytes: bytes.into(), state: State::Other, at },
                Ok(_) | Err(Error::PastEnd { .. }) => {}
                Err(e) => return Err(e),
            }
        }
        let table = Arc::new(table);
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST_KEPT {
            kept.retain(|(level, _), _| *level > 0);
        }
        kept.insert((level, number), table.clone());
        Ok(table)
    }

    /// What the table of a block says of it.
    ///
    /// # Errors
    /// As [`Tables::table`].
    pub(super) fn entry(&self, block: u64) -> Result<HashEntry> {
        Ok(self.table(0, block / ENTRIES)?.entry(block))
    }
}

/// The digests of blocks, one after the other, out of their tables.
pub(super) struct Digests {
    pub(super) tables: Arc<Tables>,
    /// Runs of blocks: the first block of each, how many, and how many there were before.
    pub(super) runs: Arc<[(u64, u64, u64)]>,
}

impl Source for Digests {
    fn len(&self) -> u64 {
        self.runs.last().map_or(0, |(_, count, before)| (count + before) * SHA1 as u64)
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let (mut index, mut from) = (offset / SHA1 as u64, (offset % SHA1 as u64) as usize);
        let mut buf = buf;
        while !buf.is_empty() {
            let run = self.runs.partition_point(|(_, count, before)| before + count <= index);
            let (first, _, before) = self.runs[run];
            let block = first + index - before;
            let table = self.tables.table(0, block / ENTRIES)?;
            if table.state == State::Fails {
                let why = format!("the table of block {block:#x} does not hold: nothing proves that block");
                return Err(Error::Unreadable { why });
            }
            let entry = table.entry(block);
            let len = buf.len().min(SHA1 - from);
            let (now, later) = buf.split_at_mut(len);
            now.copy_from_slice(&entry.digest[from..from + len]);
            (buf, from) = (later, 0);
            index += 1;
        }
        Ok(())
    }
}
