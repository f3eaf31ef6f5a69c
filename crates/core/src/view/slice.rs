use crate::error::Result;
use crate::source::{Extent, Source, SourceRef, check_range};
use crate::watch::Watch;

/// A part of another source.
pub struct Slice {
    inner: SourceRef,
    start: u64,
    len: u64,
}

impl Slice {
    /// The `len` bytes of `inner` from byte `start`.
    ///
    /// # Errors
    /// [`crate::Error::PastEnd`] when they are not all there.
    pub fn new(inner: SourceRef, start: u64, len: u64) -> Result<Self> {
        check_range(inner.len(), start, len)?;
        Ok(Self { inner, start, len })
    }
}

impl Source for Slice {
    fn len(&self) -> u64 {
        self.len
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        self.inner.settle(watch)
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.inner.read_at(self.start + offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(self.inner.extent_at(self.start + offset)?.at_most(self.len - offset))
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}
