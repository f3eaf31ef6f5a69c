//! Making of patches for files of any length: the file after is gone through in batches, on all processors, each against the file
//! before at the same place, at places that are shifted against it as what was found last is, and wherever a block of it stands.
//! Neither file is held.

use super::places::Places;
use super::write::{Piece, WINDOW, Writer};
use crate::patch::delta::{common, common_before};
use decanter_core::blueprint::{PackWorker, Packer};
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Result, watch};
use std::sync::Arc;

/// Bytes of the file before that are read at once, of each shift.
const LOOK: u64 = 256 << 10;
/// The shortest copy.
const SHORT: usize = 32;
/// Shifts that are tried; the first is none, which stays.
const MOST_SHIFTS: usize = 4;
/// Bytes that nothing was found for, before blocks are looked up.
const PATIENCE: usize = 64;
/// Places after which somebody is asked whether to go on.
const OFTEN: usize = 1 << 16;

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
        let mut search =
            Search { old: self.old.as_ref(), places: &self.places, new: raw, from: at, near: vec![Near::default()] };
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

/// How the next bytes of a batch are had.
enum Step {
    /// As they are: so many.
    Literal(usize),
    /// Out of the file before, from this place on: so many.
    Copy(u64, usize),
}

/// The file before near a place, shifted against the file after.
#[derive(Default)]
struct Near {
    /// How far the file before is ahead.
    shift: i64,
    /// The bytes that are held, and where they stand.
    from: u64,
    bytes: Vec<u8>,
}

impl Near {
    /// The bytes that stand there when the file after is at `at`, at least `most` if the file before has them.
    fn bytes(&mut self, old: &dyn Source, at: u64, most: usize) -> Result<&[u8]> {
        let place = at.checked_add_signed(self.shift).filter(|place| *place < old.len());
        let Some(place) = place else { return Ok(&[]) };
        let left = old.len() - place;
        let held = (self.from..self.from + self.bytes.len() as u64).contains(&place);
        let reaches = self.from + self.bytes.len() as u64 >= place + left.min(most as u64);
        if !held || !reaches {
            self.bytes = read_vec(old, place, left.min(LOOK), "the file before", LOOK)?;
            self.from = place;
        }
        Ok(&self.bytes[(place - self.from) as usize..])
    }
}

struct Search<'a> {
    old: &'a dyn Source,
    places: &'a Places,
    /// The batch, and where it begins in the file after.
    new: &'a [u8],
    from: u64,
    /// What was found last comes second.
    near: Vec<Near>,
}

impl Search<'_> {
    /// Calls `each` with what makes the batch, in order.
    fn go(&mut self, each: &mut dyn FnMut(Step)) -> Result<()> {
        let (mut at, mut done) = (0, 0);
        let mut rolling = None;
        while at < self.new.len() {
            if (at - done).is_multiple_of(OFTEN) {
                watch::going_on()?;
            }
            if let Some((number, len)) = self.longest(at)? {
                if at > done {
                    each(Step::Literal(at - done));
                }
                each(Step::Copy((self.from + at as u64).wrapping_add_signed(self.near[number].shift), len));
                // The last one that was of use is kept longest.
                if number > 1 {
                    self.near[1..=number].rotate_right(1);
                }
                at += len;
                done = at;
                rolling = None;
                continue;
            }
            if at - done >= PATIENCE {
                let hash = match rolling.take() {
                    Some((before, hash)) if before + 1 == at => self.places.roll(hash, self.new, at),
                    _ => self.places.begin(self.new, at),
                };
                if let Some(hash) = hash {
                    rolling = Some((at, hash));
                    if let Some(place) = self.places.find(self.old, hash, &self.new[at..])? {
                        at -= self.adopt(at, place, at - done)?;
                        continue;
                    }
                }
            }
            at += 1;
        }
        if at > done {
            each(Step::Literal(at - done));
        }
        Ok(())
    }

    /// The longest copy at `at`, by the number of its shift; `None` where all are too short.
    fn longest(&mut self, at: usize) -> Result<Option<(usize, usize)>> {
        let rest = &self.new[at..];
        let place = self.from + at as u64;
        let mut best: Option<(usize, usize)> = None;
        for (number, near) in self.near.iter_mut().enumerate() {
            let mut len = 0;
            loop {
                let bytes = near.bytes(self.old, place + len as u64, SHORT)?;
                let (here, reach) = (common(bytes, &rest[len..]), bytes.len());
                len += here;
                if here == 0 || here < reach || len == rest.len() {
                    break;
                }
            }
            // The end of a batch may be as short as it is.
            let is_enough = len >= SHORT || len > 0 && len == rest.len();
            if is_enough && best.is_none_or(|(_, other)| len > other) {
                best = Some((number, len));
            }
        }
        Ok(best)
    }

    /// Takes a shift in that makes `place` of the file before stand at `at`; how many bytes before it belong to the same copy, of
    /// those that are not written yet.
    fn adopt(&mut self, at: usize, place: u64, most: usize) -> Result<usize> {
        let shift = place as i64 - (self.from + at as u64) as i64;
        self.near.insert(1, Near { shift, ..Near::default() });
        self.near.truncate(MOST_SHIFTS);
        let most = (most as u64).min(place).min(self.places.block() as u64);
        let before = read_vec(self.old, place - most, most, "the file before", LOOK)?;
        Ok(common_before(&before, &self.new[..at], before.len()))
    }
}

#[cfg(test)]
mod tests {
    use super::super::parse::parse;
    use super::super::{Shared, Turned};
    use super::*;
    use crate::patch::testing::noise;
    use decanter_core::source::Bytes;
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
