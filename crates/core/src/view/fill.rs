use crate::error::Result;
use crate::source::{Extent, Place, Source, check_range};

/// The same byte over and over: padding, missing sectors.
#[derive(Debug, Clone, Copy)]
pub struct Fill {
    /// The byte.
    pub byte: u8,
    /// How often it stands here.
    pub len: u64,
}

impl Source for Fill {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        buf.fill(self.byte);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent { place: Place::Fill(self.byte), len: self.len - offset })
    }
}
