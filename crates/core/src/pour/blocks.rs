//! Digests of runs of parts and of the blocks in them, for formats that carry hash trees.

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
        let Some(block) = self.run.block else {
            self.hasher.update(bytes);
            return;
        };
        while !bytes.is_empty() {
            let (now, later) = bytes.split_at(bytes.len().min(block - self.filled));
            self.hasher.update(now);
            self.filled += now.len();
            bytes = later;
            if self.filled == block {
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
        match self.run.block {
            None => self.end_block(),
            Some(block) if self.filled > 0 => {
                self.hasher.update(&vec![0; block - self.filled]);
                self.end_block();
            }
            Some(_) => {}
        }
        self.digests
    }
}
