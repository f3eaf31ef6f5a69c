use super::extent_but;
use crate::error::{Error, Result};
use crate::source::{Extent, Source, SourceRef, check_range};
use std::ops::Range;

/// An image of which something was never read: what stands there is not handed on as if it were the disc's.
pub struct Gaps {
    inner: SourceRef,
    ranges: Vec<Range<u64>>,
    sector: u64,
}

impl Gaps {
    /// `inner` without `ranges` (byte ranges, sorted, disjoint); sectors of `sector` bytes are what is told of them.
    ///
    /// # Errors
    /// [`Error::Usage`] for sectors without bytes.
    pub fn new(inner: SourceRef, ranges: Vec<Range<u64>>, sector: u64) -> Result<Self> {
        if sector == 0 {
            return Err(Error::Usage("sectors need at least one byte".into()));
        }
        Ok(Self { inner, ranges, sector })
    }
}

impl Source for Gaps {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let end = offset + buf.len() as u64;
        let next = self.ranges.partition_point(|r| r.end <= offset);
        match self.ranges.get(next).filter(|r| r.start < end && !buf.is_empty()) {
            Some(gap) => {
                let sector = gap.start.max(offset) / self.sector;
                Err(Error::Unreadable { why: format!("sector {sector} was not read when this was dumped") })
            }
            None => self.inner.read_at(offset, buf),
        }
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.ranges, &self.inner, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn what_was_not_read_is_an_error_and_nothing_else_is() {
        let gaps = Gaps::new(Arc::new(Bytes(vec![7; 100])), vec![20..30, 50..60], 10).unwrap();
        for from in 0..100u64 {
            for to in from..=100 {
                let hit = from < to && ((from < 30 && to > 20) || (from < 60 && to > 50));
                assert_eq!(gaps.read_at(from, &mut vec![0; (to - from) as usize]).is_err(), hit, "{from}..{to}");
            }
        }
        let told = gaps.read_at(25, &mut [0; 40]).unwrap_err().to_string();
        assert!(told.contains("sector 2 was not read"), "{told}");
        assert_eq!(gaps.extent_at(0).unwrap().len, 20);
    }
}
