use super::{Source, check_range};
use crate::Result;

/// Bytes in memory: small headers, fixtures, what a view has patched together.
#[derive(Debug, Clone, Default)]
pub struct Bytes(pub Vec<u8>);

impl Source for Bytes {
    fn len(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let start = offset as usize;
        buf.copy_from_slice(&self.0[start..start + buf.len()]);
        Ok(())
    }
}
