//! Which blocks of an object are held, and which are worth fetching before they are asked for.

use std::collections::{HashMap, VecDeque};
use std::ops::Range;
use std::sync::Arc;

/// Bytes of a block: what is fetched for a single byte.
pub(crate) const BLOCK: u64 = 64 << 10;
/// Blocks that are held of one object: 16 MiB.
const MOST_BLOCKS: usize = 256;
/// Blocks that are fetched ahead of a reader that goes on and on: 6 MiB.
const MOST_AHEAD: u64 = 96;
/// Bytes of reads that went on from each other before blocks are fetched while the reader is still at those it has: who only
/// looks into a file reads less.
const STEADY: u64 = 4 << 20;

/// A block, as a part of what was fetched with it: blocks that come together go together.
#[derive(Debug, Clone)]
pub(crate) struct Block {
    piece: Arc<Vec<u8>>,
    bytes: Range<usize>,
}

impl Block {
    /// The blocks of a piece that begins with one, the last of them as long as it is.
    pub(crate) fn of(piece: Vec<u8>) -> impl Iterator<Item = Self> {
        let (len, piece) = (piece.len(), Arc::new(piece));
        let start = |number: usize| number * BLOCK as usize;
        (0..len.div_ceil(BLOCK as usize))
            .map(move |number| Self { piece: piece.clone(), bytes: start(number)..start(number + 1).min(len) })
    }

    pub(crate) fn bytes(&self) -> &[u8] {
        &self.piece[self.bytes.clone()]
    }
}

/// The blocks of one object that are held.
#[derive(Default)]
pub(crate) struct Held {
    blocks: HashMap<u64, Block>,
    /// In the order in which they came.
    order: VecDeque<u64>,
    /// Where the last read ended, and how many before it went on from each other.
    last_end: u64,
    streak: u32,
    /// Their bytes.
    steady: u64,
}

impl Held {
    /// The block of this number.
    pub(crate) fn get(&self, number: u64) -> Option<Block> {
        self.blocks.get(&number).cloned()
    }

    /// Takes a block in; the oldest makes room.
    pub(crate) fn put(&mut self, number: u64, block: Block) {
        if self.blocks.insert(number, block).is_none() {
            self.order.push_back(number);
        }
        while self.order.len() > MOST_BLOCKS {
            if let Some(oldest) = self.order.pop_front() {
                self.blocks.remove(&oldest);
            }
        }
    }

    /// Whether a block is held.
    pub(crate) fn has(&self, number: u64) -> bool {
        self.blocks.contains_key(&number)
    }

    /// What is worth fetching while a reader is at what it has: the next blocks behind those, of an object of `len` bytes.
    pub(crate) fn next(&self, len: u64) -> Option<Range<u64>> {
        if self.steady < STEADY {
            return None;
        }
        // Never more than it has read already.
        let ahead = (self.steady / BLOCK).min(MOST_AHEAD);
        let (at, blocks) = (self.last_end.div_ceil(BLOCK), len.div_ceil(BLOCK));
        let first = (at..blocks).find(|number| !self.has(*number))?;
        (first - at <= MOST_AHEAD / 2).then(|| first..(first + ahead).min(blocks))
    }

    /// What of a read of these bytes is not held: runs of blocks.
    pub(crate) fn lacking(&self, bytes: Range<u64>) -> Vec<Range<u64>> {
        self.runs(bytes.start / BLOCK..bytes.end.div_ceil(BLOCK))
    }

    fn runs(&self, blocks: Range<u64>) -> Vec<Range<u64>> {
        let mut runs: Vec<Range<u64>> = Vec::new();
        for number in blocks.filter(|number| !self.has(*number)) {
            match runs.last_mut() {
                Some(run) if run.end == number => run.end += 1,
                _ => runs.push(number..number + 1),
            }
        }
        runs
    }

    /// What has to be fetched for a read of these bytes of an object of `len` bytes: runs of blocks that are not held. A
    /// reader that goes on where it ended gets more than it asks for, twice as much each time.
    pub(crate) fn missing(&mut self, bytes: Range<u64>, len: u64) -> Vec<Range<u64>> {
        let first = bytes.start / BLOCK;
        let mut end = bytes.end.div_ceil(BLOCK);
        let goes_on = bytes.start == self.last_end && bytes.start > 0;
        self.streak = if goes_on { (self.streak + 1).min(16) } else { 0 };
        self.steady = if goes_on { self.steady + (bytes.end - bytes.start) } else { 0 };
        self.last_end = bytes.end;
        let blocks = len.div_ceil(BLOCK);
        // Only a read that has to wait anyway looks ahead.
        if self.streak > 0 && (first..end).any(|number| !self.has(number)) {
            end = (end + (1u64 << self.streak).min(MOST_AHEAD)).min(blocks);
        }
        self.runs(first..end.min(blocks))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_single_read_fetches_what_it_asks_for_and_a_stream_more() {
        let mut held = Held::default();
        let len = 1000 * BLOCK;
        assert_eq!(held.missing(500 * BLOCK + 7..508 * BLOCK, len), [500..508]);
        let mut at = 508 * BLOCK;
        let mut calls = 0;
        while at < 700 * BLOCK {
            let runs = held.missing(at..at + BLOCK, len);
            calls += usize::from(!runs.is_empty());
            runs.into_iter().flatten().for_each(|number| held.put(number, Block::of(vec![0; 1]).next().unwrap()));
            at += BLOCK;
        }
        assert!(calls < 12, "{calls} round trips for 192 blocks");
        assert!(held.blocks.len() <= MOST_BLOCKS);
        assert_eq!(held.missing(999 * BLOCK..len, len), [999..1000], "never past the end");
    }
}
