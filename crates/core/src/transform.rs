//! What a cipher does to the bytes of a source, wherever they stand.

use std::ops::Range;
use std::sync::Arc;

/// Turns bytes as stored into plaintext, or back, in place.
pub trait Transform: Send + Sync {
    /// Whether any byte of `range` is changed.
    fn touches(&self, range: Range<u64>) -> bool;
    /// Changes `bytes`, which stand at byte `offset` of the source. Both ends lie on sector edges, or at
    /// the end of the source.
    fn apply(&self, offset: u64, bytes: &mut [u8]);
}

/// One transform after the other, as where parts of a source are under different ciphers.
pub struct Chained(pub Vec<Arc<dyn Transform>>);

impl Transform for Chained {
    fn touches(&self, range: Range<u64>) -> bool {
        self.0.iter().any(|t| t.touches(range.clone()))
    }

    fn apply(&self, offset: u64, bytes: &mut [u8]) {
        for transform in &self.0 {
            transform.apply(offset, bytes);
        }
    }
}
