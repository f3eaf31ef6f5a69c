use crate::error::{Error, Result};
use crate::source::{Source, SourceRef, check_range};
use crate::watch::{self, Watch};
use crc32fast::Hasher;
use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

/// Runs that are kept apart: reads in wild order beyond that are made up for when the source is settled.
const MOST_RUNS: usize = 4096;
/// Bytes that are read at once to settle a source.
const STRETCH: u64 = 1 << 20;

/// A source with a CRC-32 of all its bytes. Whatever is read is summed up, in any order; once the sum is complete and
/// wrong, every read fails, and so does settling. Nothing that was found to be wrong is handed on again.
pub struct Checked {
    inner: SourceRef,
    name: String,
    crc: u32,
    seen: Mutex<Seen>,
}

/// Whether the bytes are what they should be.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Integrity {
    /// Not all of them were read.
    #[default]
    Unread,
    Holds,
    /// With the CRC-32 that was found.
    Fails(u32),
}

#[derive(Default)]
struct Seen {
    /// Stretches that were read: where each begins, its length, its sum.
    runs: BTreeMap<u64, (u64, Hasher)>,
    integrity: Integrity,
}

impl Checked {
    /// `inner`, whose bytes should have this CRC-32; `name` is what errors call it.
    pub fn new(inner: SourceRef, crc: u32, name: impl Into<String>) -> Self {
        Self { inner, name: name.into(), crc, seen: Mutex::default() }
    }

    fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What the sum says, as far as it is known.
    fn verdict(&self, integrity: Integrity) -> Result<()> {
        match integrity {
            Integrity::Fails(found) => Err(Error::Checksum {
                what: self.name.clone(),
                expected: format!("CRC-32 {:08x}", self.crc),
                found: format!("{found:08x}"),
            }),
            _ => Ok(()),
        }
    }

    /// Reads everything once more, where there were more runs than are kept.
    fn settle_whole(&self, watch: &dyn Watch) -> Result<()> {
        let (mut hasher, mut at, mut buf) = (Hasher::new(), 0, Vec::new());
        while at < self.inner.len() {
            watch::check(watch)?;
            buf.resize(STRETCH.min(self.inner.len() - at) as usize, 0);
            self.inner.read_at(at, &mut buf)?;
            hasher.update(&buf);
            at += buf.len() as u64;
        }
        let found = hasher.finalize();
        let mut seen = self.seen();
        seen.integrity = if found == self.crc { Integrity::Holds } else { Integrity::Fails(found) };
        seen.runs.clear();
        self.verdict(seen.integrity)
    }

    fn note(&self, offset: u64, buf: &[u8]) -> Result<()> {
        let mut seen = self.seen();
        if seen.integrity != Integrity::Unread {
            return self.verdict(seen.integrity);
        }
        let end = offset + buf.len() as u64;
        let mut at = offset;
        while let Some((start, stop)) = seen.next_gap(at, end) {
            if seen.runs.len() >= MOST_RUNS {
                break;
            }
            let mut hasher = Hasher::new();
            hasher.update(&buf[(start - offset) as usize..(stop - offset) as usize]);
            seen.insert(start, stop - start, hasher);
            at = stop;
        }
        let whole = match self.inner.len() {
            0 => Some(Hasher::new().finalize()),
            len => seen.runs.get(&0).filter(|(run, _)| *run == len).map(|(_, hasher)| hasher.clone().finalize()),
        };
        if let Some(found) = whole {
            seen.integrity = if found == self.crc { Integrity::Holds } else { Integrity::Fails(found) };
            seen.runs.clear();
        }
        self.verdict(seen.integrity)
    }
}

impl Seen {
    /// The first stretch between `at` and `end` that has not been read yet.
    fn next_gap(&self, at: u64, end: u64) -> Option<(u64, u64)> {
        let mut start = at;
        if let Some((&run, (len, _))) = self.runs.range(..=at).next_back() {
            start = start.max(run + len);
        }
        while let Some((len, _)) = self.runs.get(&start) {
            start += len;
        }
        let stop = self.runs.range(start..).next().map_or(end, |(&next, _)| next.min(end));
        (start < stop).then_some((start, stop))
    }

    /// Adds a run and joins it with its neighbours.
    fn insert(&mut self, mut start: u64, mut len: u64, mut hasher: Hasher) {
        if let Some((more, next)) = self.runs.remove(&(start + len)) {
            hasher.combine(&next);
            len += more;
        }
        let before = self.runs.range(..start).next_back().map(|(&at, run)| (at, run.0));
        if let Some((at, before_len)) = before.filter(|(at, l)| at + l == start)
            && let Some((_, mut whole)) = self.runs.remove(&at)
        {
            whole.combine(&hasher);
            (start, len, hasher) = (at, before_len + len, whole);
        }
        self.runs.insert(start, (len, hasher));
    }
}

/// Fails with [`Error::Checksum`] unless the two CRC-32 are the same.
impl Source for Checked {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let known = self.seen().integrity;
        self.verdict(known)?;
        self.inner.read_at(offset, buf)?;
        self.note(offset, buf)
    }

    fn is_checked(&self) -> bool {
        true
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        self.inner.settle(watch)?;
        let (mut at, len) = (0, self.len());
        let mut buf = Vec::new();
        loop {
            let (integrity, gap) = {
                let seen = self.seen();
                (seen.integrity, seen.next_gap(at, len))
            };
            if integrity != Integrity::Unread {
                return self.verdict(integrity);
            }
            let Some((start, stop)) = gap else { return self.settle_whole(watch) };
            watch::check(watch)?;
            buf.resize(STRETCH.min(stop - start) as usize, 0);
            self.inner.read_at(start, &mut buf)?;
            watch.advance(buf.len() as u64);
            self.note(start, &buf)?;
            at = start + buf.len() as u64;
        }
    }

    // No extents: bytes that the kernel copies would not be checked.

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn data() -> Vec<u8> {
        (0..10_000u32).map(|i| (i * 7 + i / 251) as u8).collect()
    }

    /// Reads the pieces in the order given and returns the errors met.
    /// How the reads ended: those that failed at all have to be the last ones.
    fn failing(view: &Checked, pieces: &[(u64, usize)]) -> usize {
        let ends: Vec<bool> = pieces.iter().map(|(at, len)| view.read_at(*at, &mut vec![0; *len]).is_err()).collect();
        assert!(ends.is_sorted(), "what has failed once fails again: {ends:?}");
        ends.into_iter().filter(|e| *e).count()
    }

    proptest! {
        #[test]
        fn any_order_of_reads_finds_a_wrong_crc_and_keeps_it(
            cuts in proptest::collection::btree_set(1usize..10_000, 0..20),
            shuffle in any::<u64>(),
            left in 0usize..5,
        ) {
            let data = data();
            let right = crc32fast::hash(&data);
            let mut edges: Vec<usize> = cuts.into_iter().collect();
            edges.insert(0, 0);
            edges.push(data.len());
            let mut pieces: Vec<(u64, usize)> = edges.windows(2).map(|w| (w[0] as u64, w[1] - w[0])).collect();
            pieces.sort_by_key(|(at, _)| (at ^ shuffle).wrapping_mul(0x9e37_79b9_7f4a_7c15));
            let some = pieces.len().saturating_sub(left);
            let source: SourceRef = Arc::new(Bytes(data));
            let good = Checked::new(source.clone(), right, "x");
            prop_assert_eq!(failing(&good, &pieces[..some]), 0);
            prop_assert!(good.settle(&()).is_ok());
            prop_assert_eq!(failing(&good, &pieces), 0);
            let bad = Checked::new(source, right ^ 1, "x");
            prop_assert_eq!(failing(&bad, &pieces[..some]), usize::from(some == pieces.len()));
            prop_assert!(bad.settle(&()).is_err() && bad.settle(&()).is_err());
            prop_assert_eq!(failing(&bad, &pieces), pieces.len());
        }
    }

    #[test]
    fn overlapping_reads_count_once() {
        let data = data();
        let right = crc32fast::hash(&data);
        let source: SourceRef = Arc::new(Bytes(data));
        let view = Checked::new(source.clone(), right, "x");
        assert_eq!(failing(&view, &[(0, 6000), (5000, 5000), (0, 10_000)]), 0);
        let view = Checked::new(source.clone(), !right, "x");
        assert_eq!(failing(&view, &[(4000, 2000), (0, 5000), (5000, 5000), (3, 1)]), 2);
        let view = Checked::new(source, !right, "x");
        assert_eq!(failing(&view, &[(4000, 2000), (7000, 10), (0, 10_000), (0, 0)]), 2, "a read over two runs");
    }

    #[test]
    fn the_wildest_order_is_settled_too() {
        let data: Vec<u8> = (0..40_000u32).map(|i| (i * 7) as u8).collect();
        let right = crc32fast::hash(&data);
        let source: SourceRef = Arc::new(Bytes(data));
        for (crc, holds) in [(right, true), (!right, false)] {
            let view = Checked::new(source.clone(), crc, "x");
            // Every other byte: more runs than are kept.
            (0..20_000).for_each(|i| view.read_at(i * 2, &mut [0]).unwrap());
            assert_eq!(view.settle(&()).is_ok(), holds);
        }
    }

    #[test]
    fn nothing_has_a_sum_too() {
        let nothing: SourceRef = Arc::new(Bytes(Vec::new()));
        assert!(Checked::new(nothing.clone(), 0, "x").settle(&()).is_ok());
        assert!(Checked::new(nothing, 1, "x").settle(&()).is_err());
    }
}
