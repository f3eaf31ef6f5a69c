//! Views: sources made of other sources. All are lazy; reading a little costs a little.

mod blockwise;
mod cached;
mod chained;
mod checked;
mod cipher;
mod concat;
mod fill;
mod forward;
mod gaps;
mod hashed;
mod held;
mod lanes;
mod locked;
mod overlay;
mod slice;
mod spaced;
mod stream;
mod xts;

pub use blockwise::{Blockwise, Change};
pub use cached::{Blocks, Cached};
pub use chained::ChainedCbc;
pub use checked::Checked;
pub use cipher::{Ciphered, Direction, SectorCbc};
pub use concat::Concat;
pub use fill::Fill;
pub use forward::{Begin, Forward};
pub use gaps::Gaps;
pub use hashed::{BlockName, Hashed};
pub use held::{Held, MOST_HELD, held};
pub use lanes::{Lane, Woven};
pub use locked::Locked;
pub use overlay::Overlay;
pub use slice::Slice;
pub use spaced::Spaced;
pub use stream::{CtrRanges, Keystream, Streamed};
pub use xts::{Tweaked, Xts, XtsRanges};

use crate::error::Result;
use crate::source::{Extent, Place, SourceRef, check_range};
use std::ops::Range;

/// The part of a sorted list of disjoint ranges that decides about the byte at `offset`: whether it lies
/// in one of them, and the offset at which that answer ends.
pub(crate) fn in_ranges(ranges: &[Range<u64>], offset: u64, len: u64) -> (bool, u64) {
    let next = ranges.partition_point(|r| r.end <= offset);
    match ranges.get(next) {
        Some(r) if r.start <= offset => (true, r.end.min(len)),
        Some(r) => (false, r.start.min(len)),
        None => (false, len),
    }
}

/// Reads `buf` from byte `offset` of a source of `len` bytes, stretch by stretch: `read` is told whether a stretch lies in one
/// of `ranges`, and in which.
///
/// # Errors
/// [`crate::Error::PastEnd`], and what `read` fails with.
pub(crate) fn read_by_ranges(
    ranges: &[Range<u64>],
    len: u64,
    mut offset: u64,
    mut buf: &mut [u8],
    read: impl Fn(Option<usize>, u64, &mut [u8]) -> Result<()>,
) -> Result<()> {
    check_range(len, offset, buf.len() as u64)?;
    while !buf.is_empty() {
        let (is_in, end) = in_ranges(ranges, offset, len);
        let here = usize::try_from(end - offset).unwrap_or(usize::MAX).min(buf.len());
        let (now, later) = buf.split_at_mut(here);
        read(is_in.then(|| ranges.partition_point(|r| r.end <= offset)), offset, now)?;
        offset += here as u64;
        buf = later;
    }
    Ok(())
}

/// The extent at `offset` of a view that changes the bytes in `ranges` and hands on all others.
pub(crate) fn extent_but(ranges: &[Range<u64>], inner: &SourceRef, offset: u64) -> Result<Extent> {
    let (is_changed, end) = in_ranges(ranges, offset, inner.len());
    match is_changed {
        true => Ok(Extent { place: Place::Computed, len: end - offset }),
        false => Ok(inner.extent_at(offset)?.at_most(end - offset)),
    }
}
