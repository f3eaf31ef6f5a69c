//! An object that is read in ranges.

use crate::ahead::{BLOCK, Block, Held};
use decanter_core::source::{Source, check_range};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::mpsc::{Receiver, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// Bytes of one request, so that several run beside each other.
const PIECE: u64 = 16 * BLOCK;

/// Whatever gives ranges of the bytes of one object.
pub(crate) trait Ranges: Send + Sync {
    /// These ranges, each as a whole, in this order.
    ///
    /// # Errors
    /// When one cannot be had, or the object is another one by now.
    fn fetch(&self, ranges: &[Range<u64>]) -> Result<Vec<Vec<u8>>>;
}

/// What came of fetching.
type Fetched = Result<Vec<Vec<u8>>>;

/// Blocks that are on their way before anybody has asked for them.
struct Coming {
    blocks: Range<u64>,
    take: Receiver<Fetched>,
}

/// An object of a known length.
pub(crate) struct Object {
    len: u64,
    ranges: Arc<dyn Ranges>,
    held: Mutex<Held>,
    coming: Mutex<Option<Coming>>,
}

impl Object {
    /// One of which the beginning is known already.
    pub(crate) fn new(len: u64, ranges: Arc<dyn Ranges>, beginning: Vec<u8>) -> Self {
        let mut held = Held::default();
        for (number, block) in (0..).zip(Block::of(beginning)) {
            // A block that is not whole is fetched again, unless the object ends there.
            let block_len = block.bytes().len() as u64;
            if block_len == BLOCK || number * BLOCK + block_len == len {
                held.put(number, block);
            }
        }
        Self { len, ranges, held: Mutex::new(held), coming: Mutex::default() }
    }

    fn held(&self) -> MutexGuard<'_, Held> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The bytes of blocks, in pieces that can be fetched side by side.
    fn pieces(&self, runs: &[Range<u64>]) -> Vec<Range<u64>> {
        let mut pieces = Vec::new();
        for run in runs {
            let (mut at, end) = (run.start * BLOCK, (run.end * BLOCK).min(self.len));
            while at < end {
                let to = (at + PIECE).min(end);
                pieces.push(at..to);
                at = to;
            }
        }
        pieces
    }

    /// Fetches runs of blocks, and copies what is wanted of them.
    fn fetch(&self, runs: &[Range<u64>], wanted: Range<u64>, buf: &mut [u8]) -> Result<()> {
        let pieces = self.pieces(runs);
        let bytes = self.ranges.fetch(&pieces)?;
        for (piece, bytes) in pieces.iter().zip(&bytes) {
            // Into the reader's own memory first: there may be more than is held.
            let (from, to) = (piece.start.max(wanted.start), piece.end.min(wanted.end));
            if from < to {
                let source = &bytes[(from - piece.start) as usize..(to - piece.start) as usize];
                buf[(from - wanted.start) as usize..(to - wanted.start) as usize].copy_from_slice(source);
            }
        }
        self.keep(&pieces, bytes);
        Ok(())
    }

    fn keep(&self, pieces: &[Range<u64>], bytes: Vec<Vec<u8>>) {
        let mut held = self.held();
        for (piece, bytes) in pieces.iter().zip(bytes) {
            for (number, block) in (piece.start / BLOCK..).zip(Block::of(bytes)) {
                held.put(number, block);
            }
        }
    }

    /// Waits for what is on its way, if it is any of these blocks.
    fn await_coming(&self, runs: &[Range<u64>]) -> Result<()> {
        let mut coming = self.coming.lock().unwrap_or_else(PoisonError::into_inner);
        let is_wanted = |blocks: &Range<u64>| runs.iter().any(|run| run.start < blocks.end && blocks.start < run.end);
        let Some(come) = coming.take_if(|coming| is_wanted(&coming.blocks)) else { return Ok(()) };
        // A thread that could not even begin is none that has failed: its blocks are asked for again.
        if let Ok(fetched) = come.take.recv() {
            self.keep(&self.pieces(&[come.blocks]), fetched?);
        }
        Ok(())
    }

    /// Lets the next blocks come while a steady reader is at those it has.
    fn look_ahead(&self) {
        let Some(blocks) = self.held().next(self.len) else { return };
        let mut coming = self.coming.lock().unwrap_or_else(PoisonError::into_inner);
        if coming.is_some() {
            return;
        }
        let (give, take) = sync_channel(1);
        let (ranges, pieces) = (self.ranges.clone(), self.pieces(std::slice::from_ref(&blocks)));
        // Nobody may be waiting any more.
        let fetch = move || drop(give.send(ranges.fetch(&pieces)));
        if std::thread::Builder::new().spawn(fetch).is_ok() {
            *coming = Some(Coming { blocks, take });
        }
    }
}

impl Source for Object {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        if buf.is_empty() {
            return Ok(());
        }
        let wanted = offset..offset + buf.len() as u64;
        let lacking = self.held().lacking(wanted.clone());
        if !lacking.is_empty() {
            self.await_coming(&lacking)?;
        }
        let runs = {
            let mut held = self.held();
            let runs = held.missing(wanted.clone(), self.len);
            let first = wanted.start / BLOCK;
            for number in first..wanted.end.div_ceil(BLOCK) {
                let Some(block) = held.get(number) else { continue };
                let (begin, block) = (number * BLOCK, block.bytes());
                let (from, to) = (begin.max(wanted.start), (begin + block.len() as u64).min(wanted.end));
                let source = block.get((from - begin) as usize..(to - begin) as usize);
                let source =
                    source.ok_or_else(|| Error::PastEnd { offset, asked: wanted.end - offset, len: self.len })?;
                buf[(from - offset) as usize..(to - offset) as usize].copy_from_slice(source);
            }
            runs
        };
        if !runs.is_empty() {
            self.fetch(&runs, wanted, buf)?;
        }
        self.look_ahead();
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    struct Counted(Vec<u8>, Arc<AtomicU64>);

    impl Ranges for Counted {
        fn fetch(&self, ranges: &[Range<u64>]) -> Result<Vec<Vec<u8>>> {
            self.1.fetch_add(ranges.iter().map(|r| r.end - r.start).sum(), Ordering::Relaxed);
            Ok(ranges.iter().map(|r| self.0[r.start as usize..r.end as usize].to_vec()).collect())
        }
    }

    #[test]
    fn every_read_gets_its_bytes_and_little_more_is_fetched() {
        let bytes: Vec<u8> = (0..5_000_003u32).map(|i| (i ^ i >> 7) as u8).collect();
        let count = Arc::new(AtomicU64::new(0));
        let object =
            Object::new(bytes.len() as u64, Arc::new(Counted(bytes.clone(), count.clone())), bytes[..70_000].to_vec());
        let read = |at: usize, len: usize| {
            let mut buf = vec![0; len];
            object.read_at(at as u64, &mut buf).unwrap();
            assert_eq!(buf, bytes[at..at + len], "{at} {len}");
        };
        read(3_000_000, 1 << 20);
        assert!(count.load(Ordering::Relaxed) < (1 << 20) + 2 * BLOCK);
        for (at, len) in [(0, 10), (4_999_990, 13), (0, 5_000_003), (131_071, 2), (5_000_002, 1), (7, 0)] {
            read(at, len);
        }
        // A steady reader finds most of it there.
        for at in (0..4_900_000).step_by(50_000) {
            read(at, 50_000);
        }
        let mut buf = [0; 4];
        assert!(matches!(object.read_at(5_000_000, &mut buf), Err(Error::PastEnd { .. })));
    }
}
