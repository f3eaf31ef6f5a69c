//! What a cipher does to the bytes of a source, wherever they stand.

use std::ops::Range;

/// Turns bytes as stored into plaintext, or back, in place.
pub trait Transform: Send + Sync {
    /// Whether any byte of `range` is changed.
    fn touches(&self, range: Range<u64>) -> bool;
    /// Changes `bytes`, which stand at byte `offset` of the source. Both ends lie on sector edges, or at
    /// the end of the source.
    fn apply(&self, offset: u64, bytes: &mut [u8]);
}
