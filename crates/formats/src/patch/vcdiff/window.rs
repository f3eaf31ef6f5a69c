//! The windows of a VCDIFF patch.

use super::code::{ID, Table};
use decanter_core::Error;
use decanter_core::source::SourceRef;
use std::ops::Range;

/// What views share with the patch.
pub(super) struct Shared {
    pub(super) patch: SourceRef,
    pub(super) windows: Vec<Window>,
    pub(super) table: Table,
}

/// Where the copies of a window come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Segment {
    None,
    Before(Range<u64>),
    After(Range<u64>),
}

impl Segment {
    pub(super) fn len(&self) -> u64 {
        match self {
            Self::None => 0,
            Self::Before(range) | Self::After(range) => range.end - range.start,
        }
    }
}

#[derive(Debug)]
pub(super) struct Window {
    pub(super) segment: Segment,
    /// What it makes, in the file after.
    pub(super) makes: Range<u64>,
    /// Where its parts stand in the patch.
    pub(super) data: Range<u64>,
    pub(super) instructions: Range<u64>,
    pub(super) addresses: Range<u64>,
    pub(super) adler32: Option<u32>,
}

impl Window {
    pub(super) fn wrong(&self, what: &'static str) -> Error {
        Error::malformed(ID, what, self.instructions.start)
    }
}
