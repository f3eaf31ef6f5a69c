//! Files of the old file system: every data block says whose it is, and carries a checksum, which is asked as it is read.

use super::block::{self, BLOCK, LEAD, at, sum};
use crate::num::be32;
use decanter_core::source::{Extent, Place, Source, SourceRef, check_range, read_array};
use decanter_core::{Error, Result};

/// The content of a file, block by block.
pub(super) struct OldData {
    pub(super) source: SourceRef,
    /// Number of the file's header, which its data blocks name.
    pub(super) owner: u64,
    /// Numbers of its data blocks, in order: as many as `len` needs, all of them within the source.
    pub(super) blocks: Vec<u64>,
    /// Bytes of the file.
    pub(super) len: u64,
}

impl OldData {
    /// A data block, if it is what it should be.
    fn block(&self, index: usize) -> Result<[u8; BLOCK]> {
        let number = self.blocks[index];
        let block: [u8; BLOCK] = read_array(self.source.as_ref(), number * BLOCK as u64)?;
        let told = [be32(&block, at::TYPE), be32(&block, at::OWN), be32(&block, at::COUNT)].map(u64::from);
        let why = if sum(&block) != 0 {
            format!("the checksum of its data block {} (block {number}) does not hold", index + 1)
        } else if told != [block::DATA.into(), self.owner, index as u64 + 1] {
            format!("block {number} is not its data block {}", index + 1)
        } else {
            return Ok(block);
        };
        Err(Error::Unreadable { why })
    }
}

impl Source for OldData {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let (index, into) = ((offset / block::OLD_DATA as u64) as usize, offset as usize % block::OLD_DATA);
            let block = self.block(index)?;
            let here = (block::OLD_DATA - into).min(buf.len());
            let (now, later) = buf.split_at_mut(here);
            now.copy_from_slice(&block[LEAD + into..LEAD + into + here]);
            (offset, buf) = (offset + here as u64, later);
        }
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent { place: Place::Computed, len: self.len - offset })
    }
}
