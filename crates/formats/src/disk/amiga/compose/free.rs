//! Which blocks of a new volume are taken, and the map that says so.

use super::RESERVED;
use super::room::{PER_EXTENSION, extensions, pages};
use crate::disk::amiga::block::{BLOCK, MAP_PAGES, PER_MAP, at, put, seal};
use crate::num::be32;
use decanter_core::{Error, Result};

/// The blocks of a volume.
pub(super) struct Free {
    taken: Vec<bool>,
    next: u64,
    root: u64,
    pages: u64,
}

impl Free {
    /// A volume of so many blocks, of which those for starting, the root, and the map behind it are taken.
    pub(super) fn new(blocks: u64) -> Self {
        let (root, pages) = ((blocks - 1 + RESERVED) / 2, pages(blocks));
        let mut own = Self { taken: vec![false; blocks as usize], next: RESERVED, root, pages };
        (0..RESERVED).chain(own.map_blocks()).chain([root]).for_each(|block| own.take(block));
        own
    }

    /// Number of the root block: the one in the middle.
    pub(super) fn root(&self) -> u64 {
        self.root
    }

    /// The blocks of the map and those that name its pages. They are nothing but numbers and bits.
    pub(super) fn map_blocks(&self) -> std::ops::Range<u64> {
        self.root + 1..self.root + 1 + self.pages + extensions(self.pages)
    }

    fn take(&mut self, block: u64) {
        if let Some(taken) = self.taken.get_mut(block as usize) {
            *taken = true;
        }
    }

    /// The next free block, which is taken then.
    ///
    /// # Errors
    /// [`Error::Usage`] when there is none.
    pub(super) fn next(&mut self) -> Result<u64> {
        while self.taken.get(self.next as usize) == Some(&true) {
            self.next += 1;
        }
        if self.next >= self.taken.len() as u64 {
            return Err(Error::Usage("the volume is full".into()));
        }
        self.take(self.next);
        Ok(self.next)
    }

    /// Names the pages of the map in the root's header; the blocks that name those which it has no room for, with their
    /// numbers.
    pub(super) fn name_pages(&self, root: &mut [u8]) -> Vec<(u64, Box<[u8; BLOCK]>)> {
        let places: Vec<u64> = (self.root + 1..).take(self.pages as usize).collect();
        let (here, more) = places.split_at(places.len().min(MAP_PAGES));
        for (index, place) in here.iter().enumerate() {
            put(root, at::MAPS + index * 4, *place as u32);
        }
        let (first, count) = (self.root + 1 + self.pages, more.chunks(PER_EXTENSION).len());
        if count > 0 {
            put(root, at::MAP_EXTENSION, first as u32);
        }
        let extension = |(index, pages): (usize, &[u64])| {
            let mut own = Box::new([0; BLOCK]);
            pages.iter().enumerate().for_each(|(i, place)| put(&mut own[..], i * 4, *place as u32));
            let following = if index + 1 < count { first + index as u64 + 1 } else { 0 };
            put(&mut own[..], PER_EXTENSION * 4, following as u32);
            (first + index as u64, own)
        };
        more.chunks(PER_EXTENSION).enumerate().map(extension).collect()
    }

    /// The pages of the map, with their numbers: a checksum, then a bit for each block that is free.
    pub(super) fn map(&self) -> Vec<(u64, Box<[u8; BLOCK]>)> {
        (0..self.pages).map(|index| (self.root + 1 + index, self.page(index))).collect()
    }

    fn page(&self, index: u64) -> Box<[u8; BLOCK]> {
        let mut page = Box::new([0; BLOCK]);
        for bit in 0..PER_MAP {
            let number = RESERVED + index * PER_MAP + bit;
            // Bits beyond the end are set, as formatting leaves them.
            if self.taken.get(number as usize).is_none_or(|taken| !taken) {
                let at = 4 + bit as usize / 32 * 4;
                let word = be32(&page[..], at) | 1 << (bit % 32);
                put(&mut page[..], at, word);
            }
        }
        seal(&mut page[..], 0);
        page
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_map_of_a_floppy_has_these_bits() {
        let mut free = Free::new(1760);
        assert_eq!((free.root(), free.map_blocks()), (880, 881..882));
        assert_eq!([free.next().unwrap(), free.next().unwrap()], [2, 3]);
        let (number, page) = free.map().remove(0);
        assert_eq!(number, 881);
        // Blocks 2 and 3 are the lowest bits of the first word; 880 and 881 are bits 14 and 15 of word 27.
        assert_eq!(page[4..8], [0xff, 0xff, 0xff, 0xfc]);
        assert_eq!(page[4 + 27 * 4..][..4], [0xff, 0xff, 0x3f, 0xff]);
        let sum = page.chunks(4).fold(0u32, |s, w| s.wrapping_add(be32(w, 0)));
        assert_eq!(sum, 0);
    }

    #[test]
    fn a_full_volume_says_so() {
        let mut free = Free::new(8);
        let all: Vec<u64> = std::iter::from_fn(|| free.next().ok()).collect();
        assert_eq!(all, [2, 3, 6, 7], "4 is the root, 5 the map");
        assert!(free.next().is_err());
    }

    #[test]
    fn pages_beyond_the_root_are_named_in_blocks_of_their_own() {
        let free = Free::new(RESERVED + PER_MAP * (25 + 127 + 1));
        let mut root = [0; BLOCK];
        let more = free.name_pages(&mut root);
        let first = free.root() + 1 + 153;
        assert_eq!(u64::from(be32(&root, at::MAPS + 24 * 4)), free.root() + 25);
        assert_eq!(u64::from(be32(&root, at::MAP_EXTENSION)), first);
        assert_eq!(more.iter().map(|(n, _)| *n).collect::<Vec<_>>(), [first, first + 1]);
        assert_eq!(u64::from(be32(&more[0].1[..], 508)), first + 1);
        assert_eq!((u64::from(be32(&more[1].1[..], 0)), be32(&more[1].1[..], 508)), (free.root() + 153, 0));
    }
}
