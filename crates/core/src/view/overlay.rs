use super::{extent_but, read_by_ranges};
use crate::error::{Error, Result};
use crate::source::{Extent, Source, SourceRef, check_range};
use std::ops::Range;

/// A source with some of its bytes replaced by others, which leaves the source itself as it is.
pub struct Overlay {
    base: SourceRef,
    ranges: Vec<Range<u64>>,
    patches: Vec<SourceRef>,
}

impl Overlay {
    /// `base` with each patch laid over it from the byte offset that stands with it.
    ///
    /// # Errors
    /// [`Error::PastEnd`] when a patch reaches past the end of `base`, [`Error::Usage`] when two of them overlap.
    pub fn new(base: SourceRef, mut patches: Vec<(u64, SourceRef)>) -> Result<Self> {
        patches.retain(|(_, p)| !p.is_empty());
        patches.sort_by_key(|(at, _)| *at);
        let mut ranges: Vec<Range<u64>> = Vec::with_capacity(patches.len());
        for (at, patch) in &patches {
            check_range(base.len(), *at, patch.len())?;
            if ranges.last().is_some_and(|r| r.end > *at) {
                return Err(Error::Usage(format!("two patches overlap at offset {at:#x}")));
            }
            ranges.push(*at..at + patch.len());
        }
        Ok(Self { base, ranges, patches: patches.into_iter().map(|(_, p)| p).collect() })
    }
}

impl Source for Overlay {
    fn len(&self) -> u64 {
        self.base.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        read_by_ranges(&self.ranges, self.len(), offset, buf, |range, offset, now| match range {
            Some(index) => self.patches[index].read_at(offset - self.ranges[index].start, now),
            None => self.base.read_at(offset, now),
        })
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.ranges, &self.base, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.base.prefers_sequential()
    }
}
