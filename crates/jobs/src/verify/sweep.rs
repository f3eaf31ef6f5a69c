//! Many checks, one read: every block of a source is shown to all checks whose bytes it holds.

use decanter_core::digest::{Digest, Hasher};
use decanter_core::pour::pipeline::{self, Consumer, Piece, Plan};
use decanter_core::transform::Transform;
use decanter_core::{Result, SECTOR, SourceRef, Watch};
use std::ops::Range;
use std::sync::Arc;

/// Differing sectors that are kept by number.
const MOST_SECTORS: usize = 1000;

/// Something that is computed from some byte ranges of a source.
pub(super) struct Check {
    /// Byte ranges in ascending order; see [`is_ascending`].
    pub(super) spans: Vec<Range<u64>>,
    pub(super) work: Work,
    /// The span that is being read now.
    current: usize,
}

/// What a check does with its bytes.
pub(super) enum Work {
    Hash(Hasher),
    Compare { expected: Arc<[u8]>, seen: u64, differing: Vec<u64> },
}

/// What a check found.
pub(super) enum Outcome {
    Digest(Digest),
    /// Sectors whose bytes are not the expected ones.
    Differing(Vec<u64>),
}

/// Whether spans can be checked while the source is read once from front to back.
pub(super) fn is_ascending(spans: &[Range<u64>]) -> bool {
    spans.windows(2).all(|w| w[0].end <= w[1].start)
}

impl Check {
    pub(super) fn hash(spans: Vec<Range<u64>>, hasher: Hasher) -> Self {
        Self { spans, work: Work::Hash(hasher), current: 0 }
    }

    pub(super) fn compare(span: Range<u64>, expected: Arc<[u8]>) -> Self {
        Self { spans: vec![span], work: Work::Compare { expected, seen: 0, differing: Vec::new() }, current: 0 }
    }

    fn start(&self) -> u64 {
        self.spans.first().map_or(0, |s| s.start)
    }

    /// Takes what it needs of the bytes at `at`.
    fn feed(&mut self, at: u64, bytes: &[u8]) {
        let end = at + bytes.len() as u64;
        while let Some(span) = self.spans.get(self.current) {
            let (from, to) = (span.start.max(at), span.end.min(end));
            if from < to {
                self.work.take(from, &bytes[(from - at) as usize..(to - at) as usize]);
            }
            if span.end > end {
                return;
            }
            self.current += 1;
        }
    }

    fn is_done(&self) -> bool {
        self.current >= self.spans.len()
    }

    pub(super) fn finish(self) -> Outcome {
        match self.work {
            Work::Hash(hasher) => Outcome::Digest(hasher.finish()),
            Work::Compare { differing, .. } => Outcome::Differing(differing),
        }
    }
}

impl Work {
    fn take(&mut self, at: u64, bytes: &[u8]) {
        match self {
            Self::Hash(hasher) => hasher.update(bytes),
            Self::Compare { expected, seen, differing } => {
                let want = expected.get(*seen as usize..).unwrap_or_default();
                *seen += bytes.len() as u64;
                let pairs = bytes.chunks(SECTOR as usize).zip(want.chunks(SECTOR as usize));
                for (index, (have, want)) in pairs.enumerate() {
                    if have != &want[..have.len().min(want.len())] && differing.len() < MOST_SECTORS {
                        differing.push(at / SECTOR + index as u64);
                    }
                }
            }
        }
    }
}

/// Checks that run on one thread, in the order of their first byte.
pub(super) struct Lane {
    checks: Vec<Check>,
    /// Where each check stood when the lane was made.
    order: Vec<usize>,
    next: usize,
    active: Vec<usize>,
    /// Whether it sees the bytes after the transform.
    turned: bool,
}

impl Lane {
    pub(super) fn new(checks: Vec<Check>, turned: bool) -> Self {
        let mut numbered: Vec<(usize, Check)> = checks.into_iter().enumerate().collect();
        numbered.sort_by_key(|(_, c)| c.start());
        let (order, checks) = numbered.into_iter().unzip();
        Self { checks, order, next: 0, active: Vec::new(), turned }
    }

    fn take(&mut self, piece: &Piece) {
        let end = piece.at + piece.len();
        while self.checks.get(self.next).is_some_and(|c| c.start() < end) {
            self.active.push(self.next);
            self.next += 1;
        }
        if self.active.is_empty() {
            return;
        }
        let mut at = piece.at;
        let (checks, active) = (&mut self.checks, &self.active);
        let feed = |bytes: &[u8]| {
            for &index in active {
                checks[index].feed(at, bytes);
            }
            at += bytes.len() as u64;
        };
        if self.turned {
            piece.each_slice(feed);
        } else {
            piece.each_stored_slice(feed);
        }
        self.active.retain(|&index| !self.checks[index].is_done());
    }

    /// The checks' results in the order in which they were given; `None` for those that did not see all their bytes.
    fn finish(self) -> Vec<Option<Outcome>> {
        let mut results: Vec<Option<Outcome>> = (0..self.checks.len()).map(|_| None).collect();
        for (check, place) in self.checks.into_iter().zip(self.order) {
            // An empty span is passed only when the read goes past it; a check of nothing is done anyway.
            let empty = check.spans.iter().all(Range::is_empty);
            results[place] = (check.is_done() || empty).then(|| check.finish());
        }
        results
    }
}

/// Reads all of `source` once and runs the checks of all lanes; `sink` also gets every piece, in order.
///
/// # Errors
/// What reading or `sink` fails with.
pub(super) fn sweep(
    source: &SourceRef,
    transform: Option<Arc<dyn Transform>>,
    lanes: Vec<Lane>,
    more: Vec<Consumer<'_>>,
    watch: &dyn Watch,
    sink: &mut dyn FnMut(Piece) -> Result<()>,
) -> Result<Vec<Vec<Option<Outcome>>>> {
    let mut lanes = lanes;
    let mut consumers = more;
    for lane in lanes.iter_mut().filter(|l| !l.checks.is_empty()) {
        consumers.push(Box::new(|piece| lane.take(piece)));
    }
    let plan = Plan::over(source.clone(), 0..source.len()).with_transform(transform);
    pipeline::run_with(plan, consumers, watch, &mut |piece| {
        watch.advance(piece.len());
        sink(piece)
    })?;
    Ok(lanes.into_iter().map(Lane::finish).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::digest::{Algorithm, of_bytes};
    use decanter_core::source::Bytes;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn any_set_of_overlapping_checks_sees_its_own_bytes(
            checks in proptest::collection::vec(proptest::collection::btree_set(0u64..3_000_000, 2..7), 1..10),
        ) {
            let data: Vec<u8> = (0..3_000_000u32).map(|i| (i ^ i >> 11) as u8).collect();
            let spans: Vec<Vec<Range<u64>>> = checks
                .iter()
                .map(|edges| edges.iter().copied().collect::<Vec<_>>().chunks_exact(2).map(|p| p[0]..p[1]).collect())
                .collect();
            let lane = spans.iter().map(|s| Check::hash(s.clone(), Hasher::new(Algorithm::Crc32))).collect();
            let source: SourceRef = Arc::new(Bytes(data.clone()));
            let found = sweep(&source, None, vec![Lane::new(lane, false)], Vec::new(), &(), &mut |_| Ok(())).unwrap();
            for (spans, outcome) in spans.iter().zip(&found[0]) {
                let joined: Vec<u8> = spans.iter().flat_map(|s| data[s.start as usize..s.end as usize].to_vec()).collect();
                let want = of_bytes(Algorithm::Crc32, &joined);
                prop_assert!(matches!(outcome, Some(Outcome::Digest(d)) if *d == want));
            }
        }
    }

    #[test]
    fn a_comparison_names_the_sectors() {
        let mut data = vec![5u8; 10 * 2048];
        let expected: Arc<[u8]> = data[2048..8 * 2048].into();
        data[3 * 2048 + 7] = 6;
        data[9 * 2048] = 6;
        let source: SourceRef = Arc::new(Bytes(data));
        let lane = Lane::new(vec![Check::compare(2048..8 * 2048, expected)], false);
        let found = sweep(&source, None, vec![lane], Vec::new(), &(), &mut |_| Ok(())).unwrap();
        assert!(matches!(&found[0][0], Some(Outcome::Differing(s)) if s == &[3]));
    }
}
