//! Where blocks of a large file stand, by a hash that can be moved on byte by byte: one number for each block, whatever the file's
//! length.

use crc32fast::Hasher;
use decanter_core::Result;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::threads::{self, Shares};
use decanter_core::watch::{self, Watch};
use std::sync::{Mutex, PoisonError};

/// The shortest block, in bytes.
const LEAST_BLOCK: u64 = 1 << 10;
/// Blocks of a file at most, for which its blocks are longer.
const MOST_BLOCKS: u64 = 1 << 22;
/// Bytes that a thread hashes at a time.
const SHARE: u64 = 4 << 20;
/// What a hash is multiplied by for each byte, and to spread its bits.
const STEP: u64 = 0x5851_f42d_4c95_7f2d;
const SPREAD: u64 = 0x9e37_79b9_7f4a_7c15;
/// Places that are looked at for one hash.
const MOST_PROBES: usize = 8;
const FREE: u32 = u32::MAX;

/// The hash of the bytes of a block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::patch) struct Hash(u64);

pub(in crate::patch) struct Places {
    block: usize,
    /// [`STEP`] to the power of the bytes of a block less one: what the first byte counts.
    first: u64,
    /// The number of a block by the upper bits of its hash, or what comes behind; and the lower half of the hash of each.
    slots: Vec<u32>,
    tags: Vec<u32>,
    shift: u32,
    /// CRC-32 of the whole file: it was read anyway.
    crc32: u32,
}

impl Places {
    /// Those of all blocks of `file`, each of what several have only once.
    ///
    /// # Errors
    /// What reading fails with; [`decanter_core::Error::Cancelled`].
    pub(in crate::patch) fn of(file: &SourceRef, watch: &dyn Watch) -> Result<Self> {
        let block = file.len().div_ceil(MOST_BLOCKS).next_power_of_two().max(LEAST_BLOCK);
        Self::with_blocks(file, block as usize, watch)
    }

    fn with_blocks(file: &SourceRef, block: usize, watch: &dyn Watch) -> Result<Self> {
        let first = (1..block).fold(1u64, |power, _| power.wrapping_mul(STEP));
        let (count, left) = (file.len() / block as u64, file.len() % block as u64);
        let bits = (count.max(1) * 2).next_power_of_two().ilog2().max(8);
        let mut own = Self { block, first, slots: vec![FREE; 1 << bits], tags: Vec::new(), shift: 64 - bits, crc32: 0 };
        let hashed = Mutex::new(Vec::new());
        let shares = Shares::new(count, (SHARE / block as u64).max(1));
        threads::on_all(|| {
            for share in &shares {
                watch::check(watch)?;
                let (from, len) = (share.start * block as u64, (share.end - share.start) * block as u64);
                let bytes = read_vec(file.as_ref(), from, len, "the file before", u64::MAX)?;
                let hashes: Vec<u64> = bytes.chunks_exact(block).map(|block| whole(block).0).collect();
                let mut crc = Hasher::new();
                crc.update(&bytes);
                hashed.lock().unwrap_or_else(PoisonError::into_inner).push((share.start, hashes, crc));
                watch.advance(len);
            }
            Ok(())
        })?;
        let mut hashed = hashed.into_inner().unwrap_or_else(PoisonError::into_inner);
        hashed.sort_by_key(|(first, ..)| *first);
        own.tags = hashed.iter().flat_map(|(_, hashes, _)| hashes.iter().map(|hash| *hash as u32)).collect();
        for (number, hash) in hashed.iter().flat_map(|(_, hashes, _)| hashes).enumerate() {
            own.insert(number as u32, Hash(*hash));
        }
        let mut crc = Hasher::new();
        hashed.iter().for_each(|(.., own)| crc.combine(own));
        crc.update(&read_vec(file.as_ref(), file.len() - left, left, "the file before", u64::MAX)?);
        own.crc32 = crc.finalize();
        Ok(own)
    }

    /// CRC-32 of the whole file.
    pub(in crate::patch) fn crc32(&self) -> u32 {
        self.crc32
    }

    /// Bytes of a block.
    pub(in crate::patch) fn block(&self) -> usize {
        self.block
    }

    /// The slots that a hash may have, in their order.
    fn probes(&self, hash: Hash) -> impl Iterator<Item = usize> + use<> {
        let (first, last) = ((hash.0.wrapping_mul(SPREAD) >> self.shift) as usize, self.slots.len() - 1);
        (0..MOST_PROBES).map(move |probe| (first + probe) & last)
    }

    fn insert(&mut self, number: u32, hash: Hash) {
        for slot in self.probes(hash) {
            match self.slots[slot] {
                FREE => {
                    self.slots[slot] = number;
                    return;
                }
                // The first of those that are the same is as good as any.
                other if self.tags[other as usize] == hash.0 as u32 => return,
                _ => {}
            }
        }
    }

    /// Where a block stands that begins as `rest` does.
    ///
    /// # Errors
    /// What reading fails with.
    pub(in crate::patch) fn find(&self, file: &dyn Source, hash: Hash, rest: &[u8]) -> Result<Option<u64>> {
        for slot in self.probes(hash) {
            let number = self.slots[slot];
            if number == FREE {
                break;
            }
            if self.tags[number as usize] == hash.0 as u32 {
                let place = u64::from(number) * self.block as u64;
                let block = read_vec(file, place, self.block as u64, "a block of the file before", u64::MAX)?;
                if rest.starts_with(&block) {
                    return Ok(Some(place));
                }
            }
        }
        Ok(None)
    }

    /// The hash of the block that begins at `at`; `None` where there is not as much.
    pub(in crate::patch) fn begin(&self, bytes: &[u8], at: usize) -> Option<Hash> {
        bytes.get(at..at + self.block).map(whole)
    }

    /// The hash of the block at `at`, from that of the block one byte before.
    pub(in crate::patch) fn roll(&self, hash: Hash, bytes: &[u8], at: usize) -> Option<Hash> {
        let next = *bytes.get(at + self.block - 1)?;
        let without = hash.0.wrapping_sub(u64::from(bytes[at - 1]).wrapping_mul(self.first));
        Some(Hash(without.wrapping_mul(STEP).wrapping_add(next.into())))
    }
}

fn whole(block: &[u8]) -> Hash {
    Hash(block.iter().fold(0, |hash, byte| hash.wrapping_mul(STEP).wrapping_add((*byte).into())))
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn a_hash_that_is_moved_on_is_that_of_its_block(bytes in proptest::collection::vec(any::<u8>(), 64..200), block in 2usize..32) {
            let file: SourceRef = Arc::new(Bytes(bytes.clone()));
            let places = Places::with_blocks(&file, block, &()).unwrap();
            prop_assert_eq!(places.crc32(), crc32fast::hash(&bytes));
            let mut hash = places.begin(&bytes, 0);
            for at in 1..=bytes.len() - block {
                hash = places.roll(hash.unwrap(), &bytes, at);
                prop_assert_eq!(hash, places.begin(&bytes, at));
            }
            prop_assert!(places.roll(hash.unwrap(), &bytes, bytes.len() - block + 1).is_none());
        }

        #[test]
        fn a_block_is_found_where_the_same_stands(bytes in proptest::collection::vec(0u8..3, 64..200), number in 0usize..4) {
            let file: SourceRef = Arc::new(Bytes(bytes.clone()));
            let places = Places::with_blocks(&file, 16, &()).unwrap();
            let rest = &bytes[number * 16..];
            let place = places.find(file.as_ref(), places.begin(rest, 0).unwrap(), rest).unwrap().unwrap() as usize;
            prop_assert_eq!(&bytes[place..place + 16], &rest[..16]);
        }
    }

    #[test]
    fn what_is_nowhere_is_not_found() {
        let file: SourceRef = Arc::new(Bytes((0..=255).collect()));
        let places = Places::with_blocks(&file, 16, &()).unwrap();
        let other = [7; 16];
        assert_eq!(places.find(file.as_ref(), places.begin(&other, 0).unwrap(), &other).unwrap(), None);
        // Of the same hash, but other bytes: the file itself is asked.
        let hash = places.begin(&(16..32).collect::<Vec<u8>>(), 0).unwrap();
        assert_eq!(places.find(file.as_ref(), hash, &other).unwrap(), None);
    }
}
