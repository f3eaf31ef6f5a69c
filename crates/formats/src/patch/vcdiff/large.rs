//! Making of patches for files of any length: the file after is gone through in batches, on all processors.

use super::write::{Piece, WINDOW, Writer};
use crate::patch::large::{Places, Search, Step};
use decanter_core::blueprint::{PackWorker, Packer};
use decanter_core::source::SourceRef;
use decanter_core::{Result, watch};
use std::sync::Arc;

/// Makes the windows of a patch from one file to another.
pub struct Maker {
    old: SourceRef,
    places: Arc<Places>,
}

impl Maker {
    /// One for patches that lead away from `old`, which is read for it.
    ///
    /// # Errors
    /// What reading fails with; [`decanter_core::Error::Cancelled`].
    pub fn new(old: SourceRef, watch: &dyn watch::Watch) -> Result<Self> {
        let places = Arc::new(Places::of(&old, watch)?);
        Ok(Self { old, places })
    }

    /// CRC-32 of the file before.
    pub fn crc32(&self) -> u32 {
        self.places.crc32()
    }

    /// What a patch begins with: no packing, no code table of its own, nothing said about it.
    pub fn header() -> Vec<u8> {
        [super::code::MAGIC, &[0]].concat()
    }
}

impl Packer for Maker {
    fn batch_len(&self) -> usize {
        WINDOW
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        Ok(Box::new(Worker { old: self.old.clone(), places: self.places.clone() }))
    }
}

struct Worker {
    old: SourceRef,
    places: Arc<Places>,
}

impl PackWorker for Worker {
    fn pack(&mut self, at: u64, raw: &[u8], packed: &mut Vec<u8>, _: &mut Vec<u32>) -> Result<()> {
        let mut writer = Writer::new(self.old.len() as usize, raw, at as usize);
        let mut search = Search::new(self.old.as_ref(), &self.places, raw, at);
        search.go(&mut |step| match step {
            Step::Literal(len) => writer.take(packed, len, &|at, len| Piece::Add(at..at + len)),
            Step::Copy(place, len) => {
                let begin = writer.place();
                writer.take(packed, len, &|at, len| Piece::Old(place as usize + (at - begin), len));
            }
        })?;
        writer.flush(packed);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse::parse;
    use super::super::{Shared, Turned};
    use super::*;
    use crate::patch::testing::noise;
    use decanter_core::source::{Bytes, Source};
    use proptest::prelude::*;

    /// The patch, made in batches of so many bytes.
    fn made(old: &[u8], new: &[u8], batch: usize) -> Vec<u8> {
        let old: SourceRef = Arc::new(Bytes(old.to_vec()));
        let maker = Maker::new(old, &()).unwrap();
        let (mut worker, mut patch) = (maker.worker().unwrap(), Maker::header());
        for (number, raw) in new.chunks(batch).enumerate() {
            worker.pack((number * batch) as u64, raw, &mut patch, &mut Vec::new()).unwrap();
        }
        patch
    }

    fn applied(patch: Vec<u8>, old: &[u8]) -> Vec<u8> {
        let shared: Arc<Shared> = Arc::new(parse(Arc::new(Bytes(patch)), 0).unwrap());
        let turned = Turned::new(Arc::new(Bytes(old.to_vec())), shared);
        let mut out = vec![0; turned.len() as usize];
        turned.read_at(0, &mut out).unwrap();
        out
    }

    #[test]
    fn a_changed_byte_costs_no_more_than_itself() {
        let old = noise(1, 300_000);
        let mut new = old.clone();
        for at in [5, 70_000, 299_999] {
            new[at] ^= 1;
        }
        let patch = made(&old, &new, 100_000);
        assert!(patch.len() < 120, "{}", patch.len());
        assert!(applied(patch, &old) == new);
    }

    #[test]
    fn what_was_moved_is_found_and_followed() {
        let old = noise(2, 400_000);
        let new = [&old[200_000..], &noise(9, 777), &old[..150_001], &old[170_000..]].concat();
        let patch = made(&old, &new, 1 << 20);
        // What is new, and at most a block where a stretch ends.
        assert!(patch.len() < 777 + 300, "{}", patch.len());
        assert!(applied(patch, &old) == new);
    }

    #[test]
    fn a_window_by_hand() {
        let (old, new) = (noise(3, 100), [&noise(3, 100)[..], b"Fogbell"].concat());
        // Out of the file before, 100 bytes from 0 on; 16 bytes make 107; no packing; 7 bytes, 3 of instructions, 1 of addresses.
        // Copied: any length (19), 100, from 0 (as it is); added: seven (8).
        let mut expected = vec![0xd6, 0xc3, 0xc4, 0, 0];
        expected.extend([1, 100, 0, 16, 107, 0, 7, 3, 1]);
        expected.extend(b"Fogbell");
        expected.extend([19, 100, 8, 0]);
        assert_eq!(made(&old, &new, WINDOW), expected);
    }

    proptest! {
        #[test]
        fn it_leads_to_the_new_file(
            seed in any::<u32>(),
            cuts in proptest::collection::vec((0usize..9_000, 0usize..9_000, proptest::collection::vec(any::<u8>(), 0..9)), 0..8),
            batch in 500usize..20_000,
        ) {
            let old = noise(seed, 9_000);
            let mut new = Vec::new();
            for (from, len, bytes) in cuts {
                new.extend_from_slice(&old[from..(from + len).min(old.len())]);
                new.extend(bytes);
            }
            prop_assert!(applied(made(&old, &new, batch), &old) == new);
        }
    }
}
