//! How many threads a single piece of work may use.

use crate::Result;
use std::ops::Range;
use std::panic::resume_unwind;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::thread::available_parallelism;

/// The most that whoever runs this process wants; 0 where nothing was said.
static MOST: AtomicUsize = AtomicUsize::new(0);

/// No piece of work in this process uses more than `most` threads from now on.
pub fn limit(most: usize) {
    MOST.store(most, Ordering::Relaxed);
}

/// One for each processor, or as many as were allowed.
pub fn available() -> usize {
    let processors = available_parallelism().map_or(1, |n| n.get());
    match MOST.load(Ordering::Relaxed) {
        0 => processors,
        most => most.min(processors),
    }
}

/// Numbers from 0 on that threads share among themselves: each takes the next few of them.
pub struct Shares {
    next: AtomicU64,
    count: u64,
    at_once: u64,
}

impl Shares {
    /// Those below `count`, `at_once` at a time.
    pub fn new(count: u64, at_once: u64) -> Self {
        Self { next: AtomicU64::new(0), count, at_once }
    }
}

impl Iterator for &Shares {
    type Item = Range<u64>;

    fn next(&mut self) -> Option<Range<u64>> {
        let first = self.next.fetch_add(self.at_once, Ordering::Relaxed);
        let end = first.saturating_add(self.at_once).min(self.count);
        (first < end).then_some(first..end)
    }
}

/// Does the same on every processor at once, until all are done: each takes what is next of what they share. One that fails
/// does not stop the others.
///
/// # Errors
/// The first failure.
pub fn on_all(work: impl Fn() -> Result<()> + Sync) -> Result<()> {
    on_some(usize::MAX, work)
}

/// The same on `most` processors, or fewer.
///
/// # Errors
/// The first failure.
pub fn on_some(most: usize, work: impl Fn() -> Result<()> + Sync) -> Result<()> {
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..available().min(most)).map(|_| scope.spawn(&work)).collect();
        let own = work();
        others.into_iter().map(|t| t.join().unwrap_or_else(|panic| resume_unwind(panic))).fold(own, Result::and)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Mutex;

    #[test]
    fn every_number_is_taken_once() {
        for (count, at_once) in [(0, 4), (1, 4), (8, 4), (1001, 7)] {
            let (shares, taken) = (Shares::new(count, at_once), Mutex::new(Vec::new()));
            on_all(|| {
                (&shares).for_each(|range| taken.lock().unwrap().extend(range));
                Ok(())
            })
            .unwrap();
            let mut taken = taken.into_inner().unwrap();
            taken.sort();
            assert_eq!(taken, (0..count).collect::<Vec<_>>());
        }
    }
}
