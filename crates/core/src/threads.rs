//! How many threads a single piece of work may use.

use crate::Result;
use std::panic::resume_unwind;
use std::sync::atomic::{AtomicUsize, Ordering};
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

/// Does the same on every processor at once, until all are done: each takes what is next of what they share. One that fails
/// does not stop the others.
///
/// # Errors
/// The first failure.
pub fn on_all(work: impl Fn() -> Result<()> + Sync) -> Result<()> {
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..available()).map(|_| scope.spawn(&work)).collect();
        let own = work();
        others.into_iter().map(|t| t.join().unwrap_or_else(|panic| resume_unwind(panic))).fold(own, Result::and)
    })
}
