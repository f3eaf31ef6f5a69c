//! Data blocks of a file that follow each other.

use crate::disk::amiga::block::{self, BLOCK, LEAD, OLD_DATA, at, put, seal};
use decanter_core::Result;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::view::Slice;
use std::sync::Arc;

/// A run: the blocks from `first` on hold `source` from its data block `index` on.
pub(super) struct Run {
    pub(super) first: u64,
    pub(super) source: SourceRef,
    /// Number of the file's header.
    pub(super) header: u64,
    pub(super) index: u64,
    pub(super) count: u64,
    /// The block after the last of the run, if the file goes on.
    pub(super) next: u64,
}

impl Run {
    /// Its bytes: the content itself on the fast file system, blocks that say what they are on the old one.
    pub(super) fn bytes(self, is_fast: bool) -> Result<SourceRef> {
        if !is_fast {
            return Ok(Arc::new(Old(self)));
        }
        let from = self.index * BLOCK as u64;
        let len = (self.count * BLOCK as u64).min(self.source.len() - from);
        Ok(Arc::new(Slice::new(self.source, from, len)?))
    }
}

/// A run of the old file system: each block begins with what it is.
struct Old(Run);

impl Old {
    /// Block `number` of the run.
    fn block(&self, number: u64) -> Result<[u8; BLOCK]> {
        let run = &self.0;
        let index = run.index + number;
        let from = index * OLD_DATA as u64;
        let len = (OLD_DATA as u64).min(run.source.len() - from);
        let next = if number + 1 < run.count { run.first + number + 1 } else { run.next };
        let mut own = [0; BLOCK];
        put(&mut own, at::TYPE, block::DATA);
        put(&mut own, at::OWN, run.header as u32);
        put(&mut own, at::COUNT, index as u32 + 1);
        put(&mut own, at::TABLE_LEN, len as u32);
        put(&mut own, at::FIRST_DATA, next as u32);
        run.source.read_at(from, &mut own[LEAD..LEAD + len as usize])?;
        seal(&mut own, at::CHECKSUM);
        Ok(own)
    }
}

impl Source for Old {
    fn len(&self) -> u64 {
        self.0.count * BLOCK as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let (mut at, mut rest) = (offset, buf);
        while !rest.is_empty() {
            let (number, into) = (at / BLOCK as u64, (at % BLOCK as u64) as usize);
            let own = self.block(number)?;
            let now = rest.len().min(BLOCK - into);
            rest[..now].copy_from_slice(&own[into..into + now]);
            rest = &mut rest[now..];
            at += now as u64;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    #[test]
    fn old_blocks_say_what_they_are() {
        let source: SourceRef = Arc::new(Bytes(vec![1; 1000]));
        let run = Run { first: 10, source, header: 9, index: 1, count: 2, next: 0 };
        let bytes = run.bytes(false).unwrap();
        let mut all = [0; 1024];
        bytes.read_at(0, &mut all).unwrap();
        let word = |at: usize| crate::num::be32(&all, at);
        // Type 8, header 9, second data block, 488 bytes, next block 11; then the third, with 24 bytes, which is the last.
        assert_eq!([word(0), word(4), word(8), word(12), word(16)], [8, 9, 2, 488, 11]);
        assert_eq!([word(512), word(516), word(520), word(524), word(528)], [8, 9, 3, 24, 0]);
        assert_eq!((all[512 + 24], all[512 + 47], all[512 + 48]), (1, 1, 0), "the rest is zero");
        let mut some = [0; 100];
        bytes.read_at(470, &mut some).unwrap();
        assert_eq!(some, all[470..570], "read across two blocks");
    }
}
