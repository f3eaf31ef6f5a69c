//! How the file after is had of the file before: at the same place, at places that are shifted against it as what was found last is,
//! and wherever a block of it stands. Neither file is held.

use super::places::Places;
use crate::patch::delta::{common, common_before};
use decanter_core::source::{Source, read_vec};
use decanter_core::{Result, watch};

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

/// How the next bytes of a batch are had.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::patch) enum Step {
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

pub(in crate::patch) struct Search<'a> {
    old: &'a dyn Source,
    places: &'a Places,
    /// The batch, and where it begins in the file after.
    new: &'a [u8],
    from: u64,
    /// What was found last comes second.
    near: Vec<Near>,
}

impl<'a> Search<'a> {
    /// One for a batch that begins at `from` in the file after.
    pub(in crate::patch) fn new(old: &'a dyn Source, places: &'a Places, new: &'a [u8], from: u64) -> Self {
        Self { old, places, new, from, near: vec![Near::default()] }
    }

    /// Calls `each` with what makes the batch, in order.
    ///
    /// # Errors
    /// What reading fails with; [`decanter_core::Error::Cancelled`].
    pub(in crate::patch) fn go(&mut self, each: &mut dyn FnMut(Step)) -> Result<()> {
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
