use super::{extent_but, in_ranges};
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

    fn patch_at(&self, offset: u64) -> (&SourceRef, u64) {
        let index = self.ranges.partition_point(|r| r.end <= offset);
        (&self.patches[index], offset - self.ranges[index].start)
    }
}

impl Source for Overlay {
    fn len(&self) -> u64 {
        self.base.len()
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let (patched, end) = in_ranges(&self.ranges, offset, self.len());
            let here = usize::try_from(end - offset).unwrap_or(usize::MAX).min(buf.len());
            let (now, later) = buf.split_at_mut(here);
            if patched {
                let (patch, at) = self.patch_at(offset);
                patch.read_at(at, now)?;
            } else {
                self.base.read_at(offset, now)?;
            }
            offset += here as u64;
            buf = later;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.ranges, &self.base, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.base.prefers_sequential()
    }
}
