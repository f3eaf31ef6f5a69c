//! Digests of single parts, computed while they pass by.

use super::pipeline::Piece;
use crate::blueprint::{Content, Part};
use crate::digest::{Algorithm, Digest, Hasher};

/// A digest of a part, or of what it was before its beginning was changed.
pub(super) struct Gauge {
    hasher: Hasher,
    /// Bytes of the part that do not count: others were there before.
    skip: u64,
}

impl Gauge {
    pub(super) fn update(&mut self, bytes: &[u8]) {
        let skipped = self.skip.min(bytes.len() as u64);
        self.skip -= skipped;
        self.hasher.update(&bytes[skipped as usize..]);
    }
}

/// The gauges of a part.
fn gauges(part: &Part) -> Vec<Gauge> {
    let mut all: Vec<Gauge> = part.measure.iter().map(|&a| Gauge { hasher: Hasher::new(a), skip: 0 }).collect();
    if let Some(head) = &part.before {
        let mut hasher = Hasher::new(Algorithm::Sha256);
        hasher.update(head);
        all.push(Gauge { hasher, skip: head.len() as u64 });
    }
    all
}

/// The digests of single parts, all computed on one thread.
pub(super) struct PartHashers {
    pub(super) hashers: Vec<Vec<Gauge>>,
    late: Vec<bool>,
}

impl PartHashers {
    pub(super) fn new(parts: &[Part]) -> Self {
        let hashers = parts.iter().map(gauges).collect();
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
            |(all, late): (Vec<Gauge>, bool)| (!late).then(|| all.into_iter().map(|g| g.hasher.finish()).collect());
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
