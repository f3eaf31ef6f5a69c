//! Digests of blocks, for formats that carry hash trees.

use super::pipeline::Piece;
use crate::blueprint::BlockRun;
use crate::digest::{Algorithm, Hasher};

/// Hashes the blocks of one run of parts as they pass by.
pub(super) struct BlockHasher {
    run: BlockRun,
    hasher: Hasher,
    filled: usize,
    digests: Vec<u8>,
}

impl BlockHasher {
    pub(super) fn new(run: &BlockRun) -> Self {
        Self { run: run.clone(), hasher: Hasher::new(Algorithm::Sha256), filled: 0, digests: Vec::new() }
    }

    /// Takes in a piece, if it belongs to the run.
    pub(super) fn take(&mut self, piece: &Piece) {
        if (self.run.first..=self.run.last).contains(&piece.part) {
            piece.each_slice(|bytes| self.update(bytes));
        }
    }

    /// Takes in more bytes of the run.
    pub(super) fn update(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(self.run.block - self.filled));
            self.hasher.update(now);
            self.filled += now.len();
            bytes = later;
            if self.filled == self.run.block {
                self.end_block();
            }
        }
    }

    fn end_block(&mut self) {
        let hasher = std::mem::replace(&mut self.hasher, Hasher::new(Algorithm::Sha256));
        self.digests.extend_from_slice(&hasher.finish().bytes);
        self.filled = 0;
    }

    /// All digests; what is left of the last block is zeros.
    pub(super) fn finish(mut self) -> Vec<u8> {
        if self.filled > 0 {
            let rest = vec![0; self.run.block - self.filled];
            self.hasher.update(&rest);
            self.end_block();
        }
        self.digests
    }
}
