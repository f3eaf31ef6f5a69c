use crate::error::{Error, Result};
use crate::source::{Source, SourceRef, check_range};
use crc32fast::Hasher;
use std::collections::BTreeMap;
use std::sync::Mutex;

/// Runs of bytes that are remembered at most; a reader that jumps about more than this is not checked.
const MOST_RUNS: usize = 4096;

/// A source whose CRC-32 is known. Once every byte has been read, in whatever order, it is compared;
/// the read that completes the last byte fails when it differs.
pub struct Checked {
    inner: SourceRef,
    name: String,
    crc: u32,
    seen: Mutex<Seen>,
}

/// What has been read so far: disjoint runs, keyed by their start, each with its length and CRC.
#[derive(Default)]
struct Seen {
    runs: BTreeMap<u64, (u64, Hasher)>,
    done: bool,
}

impl Checked {
    /// `inner`, which should have the CRC-32 `crc`; `name` says in the error what it is.
    pub fn new(inner: SourceRef, crc: u32, name: impl Into<String>) -> Self {
        Self { inner, name: name.into(), crc, seen: Mutex::default() }
    }

    fn note(&self, offset: u64, buf: &[u8]) -> Result<()> {
        let mut seen = self.seen.lock().unwrap_or_else(|e| e.into_inner());
        if seen.done || buf.is_empty() {
            return Ok(());
        }
        let end = offset + buf.len() as u64;
        let mut at = offset;
        while let Some((start, stop)) = seen.next_gap(at, end) {
            if seen.runs.len() >= MOST_RUNS {
                return Ok(());
            }
            let mut hasher = Hasher::new();
            hasher.update(&buf[(start - offset) as usize..(stop - offset) as usize]);
            seen.insert(start, stop - start, hasher);
            at = stop;
        }
        let whole = seen.runs.get(&0).filter(|(len, _)| *len == self.inner.len());
        if let Some((_, hasher)) = whole {
            let found = hasher.clone().finalize();
            seen.done = true;
            seen.runs.clear();
            return compare(&self.name, self.crc, found);
        }
        Ok(())
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
fn compare(name: &str, expected: u32, found: u32) -> Result<()> {
    if expected == found {
        return Ok(());
    }
    Err(Error::Checksum {
        what: name.to_owned(),
        expected: format!("CRC-32 {expected:08x}"),
        found: format!("{found:08x}"),
    })
}

impl Source for Checked {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        self.inner.read_at(offset, buf)?;
        self.note(offset, buf)
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
    fn errors(view: &Checked, pieces: &[(u64, usize)]) -> usize {
        pieces.iter().filter(|(at, len)| view.read_at(*at, &mut vec![0; *len]).is_err()).count()
    }

    proptest! {
        #[test]
        fn any_order_of_reads_finds_a_wrong_crc_once(
            cuts in proptest::collection::btree_set(1usize..10_000, 0..20),
            shuffle in any::<u64>(),
        ) {
            let data = data();
            let right = crc32fast::hash(&data);
            let mut edges: Vec<usize> = cuts.into_iter().collect();
            edges.insert(0, 0);
            edges.push(data.len());
            let mut pieces: Vec<(u64, usize)> = edges.windows(2).map(|w| (w[0] as u64, w[1] - w[0])).collect();
            pieces.sort_by_key(|(at, _)| (at ^ shuffle).wrapping_mul(0x9e37_79b9_7f4a_7c15));
            let source: SourceRef = Arc::new(Bytes(data));
            prop_assert_eq!(errors(&Checked::new(source.clone(), right, "x"), &pieces), 0);
            prop_assert_eq!(errors(&Checked::new(source, right ^ 1, "x"), &pieces), 1);
        }
    }

    #[test]
    fn overlapping_reads_count_once() {
        let data = data();
        let right = crc32fast::hash(&data);
        let source: SourceRef = Arc::new(Bytes(data));
        let view = Checked::new(source.clone(), right, "x");
        assert_eq!(errors(&view, &[(0, 6000), (5000, 5000), (0, 10_000)]), 0);
        let view = Checked::new(source, !right, "x");
        assert_eq!(errors(&view, &[(4000, 2000), (0, 5000), (5000, 5000)]), 1);
        let view = Checked::new(view.inner.clone(), !right, "x");
        assert_eq!(errors(&view, &[(4000, 2000), (7000, 10), (0, 10_000)]), 1, "a read over two runs");
    }
}
