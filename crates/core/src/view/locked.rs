use super::{extent_but, in_ranges};
use crate::error::{KeyTrouble, Result};
use crate::source::{Extent, Source, SourceRef, check_range};
use std::ops::Range;
use std::sync::Arc;

/// A source whose encrypted ranges cannot be read because the key is missing: everything else can.
pub struct Locked {
    inner: SourceRef,
    ranges: Arc<[Range<u64>]>,
    trouble: KeyTrouble,
}

impl Locked {
    /// `inner` with `ranges` (byte ranges, sorted, disjoint) out of reach because of `trouble`.
    pub fn new(inner: SourceRef, ranges: Arc<[Range<u64>]>, trouble: KeyTrouble) -> Self {
        Self { inner, ranges, trouble }
    }
}

impl Source for Locked {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let (locked, end) = in_ranges(&self.ranges, offset, self.len());
        if !buf.is_empty() && (locked || end < offset + buf.len() as u64) {
            return Err(self.trouble.clone().into());
        }
        self.inner.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.ranges, &self.inner, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}
