//! Parts of an image that are made when they are read: a title may have a hundred thousand files, and their inodes and the zeros
//! behind them need not stand in memory.

use super::BLOCK;
use crate::package::ps4::pfs::inode::{Inode, READABLE, Shape, run};
use decanter_core::Result;
use decanter_core::source::{Source, SourceRef, check_range};

/// An inode of a plain image, as far as it is not known.
pub(super) struct Outline {
    pub(super) mode: u16,
    pub(super) links: u16,
    pub(super) flags: u32,
    pub(super) len: u64,
    /// Its first block.
    pub(super) first: u64,
}

impl Outline {
    fn inode(&self) -> Inode {
        let blocks = self.len.div_ceil(BLOCK);
        Inode {
            mode: self.mode | READABLE,
            links: self.links,
            flags: self.flags,
            len: self.len,
            len_again: self.len,
            blocks,
            times: 0,
            pointers: if blocks == 0 { Default::default() } else { run(self.first, blocks) },
        }
    }
}

/// The table of inodes: none reaches over the end of a block.
pub(super) struct Inodes {
    pub(super) all: Vec<Outline>,
    pub(super) shape: Shape,
}

impl Inodes {
    fn in_block(&self) -> usize {
        BLOCK as usize / self.shape.len()
    }
}

impl Source for Inodes {
    fn len(&self) -> u64 {
        self.all.len().div_ceil(self.in_block()) as u64 * BLOCK
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        buf.fill(0);
        let end = offset + buf.len() as u64;
        let len = self.shape.len() as u64;
        for block in offset / BLOCK..end.div_ceil(BLOCK) {
            let first = block as usize * self.in_block();
            let own = &self.all[first..self.all.len().min(first + self.in_block())];
            for (index, outline) in own.iter().enumerate() {
                let at = block * BLOCK + index as u64 * len;
                let (from, to) = (at.max(offset), (at + len).min(end));
                if from < to {
                    let bytes = outline.inode().compose(self.shape);
                    buf[(from - offset) as usize..(to - offset) as usize]
                        .copy_from_slice(&bytes[(from - at) as usize..(to - at) as usize]);
                }
            }
        }
        Ok(())
    }
}

/// Files one behind the other, each up to the end of its last block.
#[derive(Default)]
pub(super) struct Files {
    sources: Vec<SourceRef>,
    /// Where each begins.
    places: Vec<u64>,
    len: u64,
}

impl Files {
    pub(super) fn add(&mut self, source: SourceRef) {
        if !source.is_empty() {
            self.places.push(self.len);
            self.len += source.len().next_multiple_of(BLOCK);
            self.sources.push(source);
        }
    }
}

impl Source for Files {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        while !buf.is_empty() {
            let index = self.places.partition_point(|at| *at <= offset) - 1;
            let (source, into) = (&self.sources[index], offset - self.places[index]);
            let here = source.len().next_multiple_of(BLOCK) - into;
            let (now, later) = buf.split_at_mut(here.min(buf.len() as u64) as usize);
            let there = source.len().saturating_sub(into).min(now.len() as u64) as usize;
            let (own, zeros) = now.split_at_mut(there);
            if !own.is_empty() {
                source.read_at(into, own)?;
            }
            zeros.fill(0);
            offset += now.len() as u64;
            buf = later;
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.sources.iter().any(|s| s.prefers_sequential())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        /// Any part is that of the whole.
        #[test]
        fn any_part_is_that_of_the_whole(lens in proptest::collection::vec(0usize..150_000, 1..6), from in 0usize..400_000, len in 0usize..200_000) {
            let mut files = Files::default();
            let mut wanted = Vec::new();
            for (index, len) in lens.into_iter().enumerate() {
                let bytes = vec![index as u8 + 1; len];
                files.add(Arc::new(Bytes(bytes.clone())));
                wanted.extend(bytes);
                wanted.resize(wanted.len().next_multiple_of(BLOCK as usize), 0);
            }
            prop_assert_eq!(files.len(), wanted.len() as u64);
            let from = from.min(wanted.len());
            let mut found = vec![9; len.min(wanted.len() - from)];
            files.read_at(from as u64, &mut found).unwrap();
            prop_assert!(found == wanted[from..from + found.len()]);
        }

        #[test]
        fn any_part_of_a_table_is_that_of_the_whole(count in 1usize..900, from in 0usize..150_000, len in 0usize..70_000) {
            let shape = Shape { is_signed: false, is_wide: false };
            let all = (0..count as u64).map(|n| Outline { mode: 0x8000, links: 1, flags: 0, len: n * 70_000, first: n * 3 });
            let table = Inodes { all: all.collect(), shape };
            let mut whole = vec![0; table.len() as usize];
            table.read_at(0, &mut whole).unwrap();
            let from = from.min(whole.len());
            let mut found = vec![9; len.min(whole.len() - from)];
            table.read_at(from as u64, &mut found).unwrap();
            prop_assert!(found == whole[from..from + found.len()]);
            let last = (count - 1) / 390 * BLOCK as usize + (count - 1) % 390 * 0xa8;
            prop_assert_eq!(Inode::parse(&whole[last..], shape, 0).unwrap().len, (count as u64 - 1) * 70_000);
        }
    }
}
