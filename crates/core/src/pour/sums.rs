//! Digests of single parts, computed while they pass by.

use super::pipeline::Piece;
use crate::blueprint::{Content, Part};
use crate::digest::{Algorithm, Digest, Hasher};

/// The digests of single parts, all computed on one thread.
pub(super) struct PartHashers {
    pub(super) hashers: Vec<Vec<Hasher>>,
    late: Vec<bool>,
}

impl PartHashers {
    pub(super) fn new(parts: &[Part]) -> Self {
        let hashers = parts.iter().map(|p| p.measure.iter().map(|&a| Hasher::new(a)).collect()).collect();
        let late = parts.iter().map(|p| matches!(p.content, Content::Late { .. })).collect();
        Self { hashers, late }
    }

    pub(super) fn take(&mut self, piece: &Piece) {
        for hasher in &mut self.hashers[piece.part] {
            piece.each_slice(|bytes| hasher.update(bytes));
        }
    }

    /// The digests of the parts that are complete; those of late parts are still to come.
    pub(super) fn finish(self) -> Vec<Option<Vec<Digest>>> {
        let finish =
            |(hashers, late): (Vec<Hasher>, bool)| (!late).then(|| hashers.into_iter().map(Hasher::finish).collect());
        self.hashers.into_iter().zip(self.late).map(finish).collect()
    }
}

/// The CRC-32 of every part by itself.
pub(super) struct PartSums(Vec<crc32fast::Hasher>);

impl PartSums {
    pub(super) fn new(parts: usize) -> Self {
        Self(vec![crc32fast::Hasher::new(); parts])
    }

    pub(super) fn take(&mut self, piece: &Piece) {
        let sum = &mut self.0[piece.part];
        piece.each_slice(|bytes| sum.update(bytes));
    }

    /// Takes a late part in place of the zeros that passed by for it.
    pub(super) fn set(&mut self, number: usize, bytes: &[u8]) {
        let mut sum = crc32fast::Hasher::new();
        sum.update(bytes);
        self.0[number] = sum;
    }

    /// That of all parts together.
    pub(super) fn finish(self) -> Digest {
        let mut whole = crc32fast::Hasher::new();
        self.0.iter().for_each(|sum| whole.combine(sum));
        Digest { algorithm: Algorithm::Crc32, bytes: whole.finalize().to_be_bytes().to_vec() }
    }
}
