use crate::error::{Error, Result};
use crate::source::{Extent, Source, SourceRef, check_range};
use crate::watch::Watch;

/// Sources one after the other: split images, files in several extents.
pub struct Concat {
    parts: Vec<SourceRef>,
    /// Where each part ends.
    ends: Vec<u64>,
}

impl Concat {
    /// `parts`, in this order.
    ///
    /// # Errors
    /// [`Error::Limit`] when the lengths add up to more than 64 bits can hold.
    pub fn new(parts: Vec<SourceRef>) -> Result<Self> {
        let mut end = 0u64;
        let mut ends = Vec::with_capacity(parts.len());
        for part in &parts {
            end = end.checked_add(part.len()).ok_or(Error::Limit {
                what: "the length of joined parts",
                asked: u64::MAX,
                limit: u64::MAX,
            })?;
            ends.push(end);
        }
        Ok(Self { parts, ends })
    }

    /// The part that holds the byte at `offset`, and where that part begins.
    fn part_at(&self, offset: u64) -> (usize, u64) {
        let index = self.ends.partition_point(|&end| end <= offset);
        (index, if index == 0 { 0 } else { self.ends[index - 1] })
    }
}

impl Source for Concat {
    fn len(&self) -> u64 {
        self.ends.last().copied().unwrap_or(0)
    }

    fn is_checked(&self) -> bool {
        !self.parts.is_empty() && self.parts.iter().all(|part| part.is_checked())
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        self.parts.iter().try_for_each(|part| part.settle(watch))
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let (index, start) = self.part_at(offset);
            let here = usize::try_from(self.ends[index] - offset).unwrap_or(usize::MAX).min(buf.len());
            let (now, later) = buf.split_at_mut(here);
            self.parts[index].read_at(offset - start, now)?;
            offset += here as u64;
            buf = later;
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let (index, start) = self.part_at(offset);
        self.parts[index].extent_at(offset - start)
    }

    fn prefers_sequential(&self) -> bool {
        self.parts.iter().any(|p| p.prefers_sequential())
    }
}
