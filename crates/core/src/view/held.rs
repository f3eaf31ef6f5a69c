use crate::Result;
use crate::source::{Source, SourceRef, check_range};
use crate::watch::Watch;
use std::sync::OnceLock;

/// The largest source that is worth holding in memory: that of the largest cartridges.
pub const MOST_HELD: u64 = 64 << 20;

/// A source that is read whole on first use and kept in memory, for those that are slow to read anywhere but in order.
pub struct Held {
    inner: SourceRef,
    bytes: OnceLock<Vec<u8>>,
}

impl Held {
    /// `inner`, held from its first use on.
    pub fn new(inner: SourceRef) -> Self {
        Self { inner, bytes: OnceLock::new() }
    }

    fn bytes(&self) -> Result<&[u8]> {
        if let Some(bytes) = self.bytes.get() {
            return Ok(bytes);
        }
        let mut bytes = vec![0; self.inner.len() as usize];
        self.inner.read_at(0, &mut bytes)?;
        Ok(self.bytes.get_or_init(|| bytes))
    }
}

/// `source` held in memory if it is small and slow to jump about in; else as it is.
pub fn held(source: &SourceRef) -> SourceRef {
    if source.prefers_sequential() && source.len() <= MOST_HELD {
        std::sync::Arc::new(Held::new(source.clone()))
    } else {
        source.clone()
    }
}

impl Source for Held {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn is_checked(&self) -> bool {
        self.inner.is_checked()
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        self.inner.settle(watch)
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let start = offset as usize;
        buf.copy_from_slice(&self.bytes()?[start..start + buf.len()]);
        Ok(())
    }
}
