//! What of a new file is already in the old one, or earlier in itself.
//!
//! The file before is indexed by the hash of eight bytes each. A place that cannot go on from the last copy is
//! looked up, and the copy that saves most bytes is taken, extended to both sides.

use super::vli;
use decanter_core::{Result, watch};
use std::ops::Range;

/// How a stretch of the new file is had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// The old file at the same place.
    Same(usize),
    /// These bytes of the new file.
    Literal(Range<usize>),
    /// The old file from here on.
    Source(usize, usize),
    /// The new file from here on, which is there already.
    Target(usize, usize),
}

/// Bytes that are hashed.
const WINDOW: usize = 8;
/// Files up to this size are indexed byte by byte, larger ones in steps, which takes a fraction of the time.
const SMALL: usize = 4 << 20;
const LARGE_STRIDE: usize = 4;
/// Places of one hash that are tried.
const MOST_TRIES: usize = 24;
/// A copy that saves so much is taken without a look at others.
const GOOD: usize = 256;
/// After so many places without a match, every other one is left out, and so on: noise costs no more than that.
const PATIENCE: usize = 1 << 10;
/// A copy of so many bytes shows how far both files are shifted against each other.
const TELLING: usize = 48;
/// Such distances that are remembered.
const MOST_SHIFTS: usize = 4;
/// Steps after which somebody is asked whether to go on.
const OFTEN: usize = 1 << 14;
/// Places of the new file that are remembered.
const RECENT_BITS: u32 = 16;

/// Places in a file by the hash of what stands there: the last one, and from each the one before.
struct Index {
    last: Vec<u32>,
    before: Vec<u32>,
    shift: u32,
    /// Only every so many bytes is there a place: copies are extended to both sides anyway.
    stride: usize,
}

const NOWHERE: u32 = u32::MAX;

fn hash(bytes: &[u8], shift: u32) -> usize {
    let word = u64::from_le_bytes([0, 1, 2, 3, 4, 5, 6, 7].map(|i| bytes[i]));
    (word.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> shift) as usize
}

impl Index {
    /// All of `file`; stretches of one value only once, as every place in them looks the same.
    fn of(file: &[u8]) -> Result<Self> {
        let stride = if file.len() > SMALL { LARGE_STRIDE } else { 1 };
        let places = file.len().saturating_sub(WINDOW - 1).div_ceil(stride);
        let bits = (places.max(2).ilog2() + 1).clamp(10, 23);
        let mut index =
            Self { last: vec![NOWHERE; 1 << bits], before: vec![NOWHERE; places], shift: 64 - bits, stride };
        for at in (0..places).map(|place| place * stride) {
            if at.is_multiple_of(OFTEN) {
                watch::going_on()?;
            }
            let window = &file[at..at + WINDOW];
            if at > 0 && window[0] == file[at - 1] && window.iter().all(|b| *b == window[0]) {
                continue;
            }
            let slot = &mut index.last[hash(window, index.shift)];
            index.before[at / stride] = *slot;
            *slot = at as u32;
        }
        Ok(index)
    }

    /// Places that may hold what stands in `window`, the latest first.
    fn places<'a>(&'a self, window: &[u8]) -> impl Iterator<Item = usize> + 'a {
        let first = self.last[hash(window, self.shift)];
        std::iter::successors(Some(first), |&at| self.before.get(at as usize / self.stride).copied())
            .take_while(|&at| at != NOWHERE)
            .take(MOST_TRIES)
            .map(|at| at as usize)
    }
}

/// Bytes that both have in common from their beginning.
pub(super) fn common(a: &[u8], b: &[u8]) -> usize {
    let most = a.len().min(b.len());
    let mut at = 0;
    while at + 32 <= most && a[at..at + 32] == b[at..at + 32] {
        at += 32;
    }
    while at < most && a[at] == b[at] {
        at += 1;
    }
    at
}

/// Bytes that both have in common before their ends, at most `most`.
pub(super) fn common_before(a: &[u8], b: &[u8], most: usize) -> usize {
    a.iter().rev().zip(b.iter().rev()).take(most).take_while(|(x, y)| x == y).count()
}

/// A copy that was found: where it begins in the new file, and how it is had.
struct Copy {
    at: usize,
    step: Step,
    /// Bytes saved by it.
    gain: isize,
}

struct Search<'a> {
    old: &'a [u8],
    new: &'a [u8],
    index: Index,
    /// Places of the new file that were written as they are, in a ring.
    recent: Vec<u32>,
    /// First byte of the new file that no step covers yet.
    done: usize,
    /// Where the last copies out of either file ended.
    source: usize,
    target: usize,
    /// How far the old file was ahead in the last long copies, the latest first.
    shifts: Vec<i64>,
}

impl Search<'_> {
    /// A copy of `len` bytes from `from` in the old or the new file; extended to the front over bytes not yet written.
    fn copy(&self, at: usize, from: usize, len: usize, is_target: bool) -> Copy {
        let file = if is_target { self.new } else { self.old };
        let most = (at - self.done).min(from);
        let front = common_before(&file[..from], &self.new[..at], most);
        let (at, from, len) = (at - front, from - front, len + front);
        let last = if is_target { self.target } else { self.source };
        let step = match is_target {
            false if from == at => Step::Same(len),
            false => Step::Source(from, len),
            true => Step::Target(from, len),
        };
        let word = vli::len((len as u64 - 1) << 2);
        let place = if matches!(step, Step::Same(_)) { 0 } else { vli::len((from.abs_diff(last) as u64) << 1) };
        // A literal before it will need a word of its own again after it.
        let cost = word + place + usize::from(at > self.done);
        Copy { at, gain: len as isize - cost as isize, step }
    }

    /// The best copy at `at`, if one saves anything.
    fn best(&self, at: usize) -> Option<Copy> {
        let rest = &self.new[at..];
        let mut best: Option<Copy> = None;
        let mut offer = |from: usize, len: usize, is_target: bool| {
            if len < 3 {
                return false;
            }
            let copy = self.copy(at, from, len, is_target);
            let is_good = len >= GOOD;
            if copy.gain > 1 && best.as_ref().is_none_or(|b| copy.gain > b.gain) {
                best = Some(copy);
            }
            is_good
        };
        if at < self.old.len() && offer(at, common(&self.old[at..], rest), false) {
            return best;
        }
        // On from where a long copy stopped, as if the bytes between had only been changed.
        for shift in &self.shifts {
            let aligned = at.checked_add_signed(*shift as isize).filter(|a| *a < self.old.len() && *a != at);
            if let Some(aligned) = aligned
                && offer(aligned, common(&self.old[aligned..], rest), false)
            {
                return best;
            }
        }
        if at > 0 && self.new[at - 1] == rest[0] {
            offer(at - 1, common(&self.new[at - 1..], rest), true);
        }
        if rest.len() >= WINDOW {
            let window = &rest[..WINDOW];
            let recent = self.recent[hash(window, 64 - RECENT_BITS)] as usize;
            if recent < at && self.new[recent..recent + WINDOW] == *window {
                offer(recent, common(&self.new[recent..], rest), true);
            }
            for from in self.index.places(window) {
                if self.old[from..from + WINDOW] == *window && offer(from, common(&self.old[from..], rest), false) {
                    break;
                }
            }
        }
        best
    }

    fn note_shift(&mut self, shift: i64) {
        self.shifts.retain(|s| *s != shift);
        self.shifts.insert(0, shift);
        self.shifts.truncate(MOST_SHIFTS);
    }

    fn remember(&mut self, at: usize) {
        if at + WINDOW <= self.new.len() {
            self.recent[hash(&self.new[at..at + WINDOW], 64 - RECENT_BITS)] = at as u32;
        }
    }
}

/// Calls `each` with the steps that make `new`, in order.
///
/// # Errors
/// [`decanter_core::Error::Cancelled`].
pub fn steps(old: &[u8], new: &[u8], each: &mut dyn FnMut(Step)) -> Result<()> {
    // What both begin with needs no index; patches of a few bytes in large files need none at all.
    let mut at = common(old, new);
    if at > 0 {
        each(Step::Same(at));
    }
    if at == new.len() {
        return Ok(());
    }
    let recent = vec![NOWHERE; 1 << RECENT_BITS];
    let mut search =
        Search { old, new, index: Index::of(old)?, recent, done: at, source: 0, target: 0, shifts: Vec::new() };
    let mut misses = 0usize;
    let mut rounds = 0usize;
    while at < new.len() {
        rounds += 1;
        if rounds.is_multiple_of(OFTEN) {
            watch::going_on()?;
        }
        let Some(copy) = search.best(at) else {
            search.remember(at);
            misses += 1;
            at += 1 + misses / PATIENCE;
            continue;
        };
        misses = 0;
        if copy.at > search.done {
            each(Step::Literal(search.done..copy.at));
        }
        let len = match copy.step {
            Step::Same(len) => len,
            Step::Source(from, len) => {
                search.source = from + len;
                if len >= TELLING {
                    search.note_shift(from as i64 - copy.at as i64);
                }
                len
            }
            Step::Target(from, len) => {
                search.target = from + len;
                len
            }
            Step::Literal(ref range) => range.len(),
        };
        at = copy.at + len;
        search.done = at;
        each(copy.step);
    }
    if search.done < new.len() {
        each(Step::Literal(search.done..new.len()));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::testing::noise;
    use super::*;
    use proptest::prelude::*;

    /// What the steps lead to.
    fn replay(old: &[u8], new: &[u8]) -> (Vec<u8>, usize) {
        let (mut out, mut literal) = (Vec::new(), 0);
        let each = &mut |step| match step {
            Step::Same(len) => {
                assert!(len > 0);
                out.extend_from_slice(&old[out.len()..out.len() + len]);
            }
            Step::Literal(range) => {
                assert_eq!(range.start, out.len());
                literal += range.len();
                out.extend_from_slice(&new[range]);
            }
            Step::Source(from, len) => out.extend_from_slice(&old[from..from + len]),
            Step::Target(from, len) => (from..from + len).for_each(|i| out.push(out[i])),
        };
        steps(old, new, each).unwrap();
        (out, literal)
    }

    #[test]
    fn moved_blocks_are_found() {
        let old = noise(1, 40_000);
        let new = [&old[20_000..], &noise(9, 50)[..], &old[..20_000]].concat();
        let (out, literal) = replay(&old, &new);
        assert!(out == new);
        assert!(literal <= 50, "{literal}");
    }

    #[test]
    fn runs_are_copied_from_themselves() {
        let (out, literal) = replay(b"", &vec![7; 100_000]);
        assert!(out.iter().all(|&b| b == 7) && out.len() == 100_000);
        assert_eq!(literal, 1);
    }

    proptest! {
        #[test]
        fn steps_lead_to_the_new_file(
            old in proptest::collection::vec(0u8..4, 0..600),
            cuts in proptest::collection::vec((0usize..600, 0usize..600, proptest::collection::vec(any::<u8>(), 0..9)), 0..8),
        ) {
            let mut new = Vec::new();
            for (from, len, bytes) in cuts {
                let from = from.min(old.len());
                new.extend_from_slice(&old[from..(from + len).min(old.len())]);
                new.extend(bytes);
            }
            prop_assert!(replay(&old, &new).0 == new);
        }
    }
}
