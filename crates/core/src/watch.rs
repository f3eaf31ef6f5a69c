//! Progress, notices and cancellation, carried from wherever work is done to whoever shows it.

use crate::{Error, Result};
use serde::Serialize;
use std::sync::atomic::{AtomicBool, Ordering};

/// Something worth knowing that does not stop the work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Notice {
    /// Whether it tells of damage: what has some is not sound, whatever else of it can be read.
    #[serde(skip)]
    pub is_damage: bool,
    /// What was noticed, with the offset or entry where that helps.
    pub text: String,
}

impl Notice {
    /// A notice that says `text`.
    pub fn new(text: impl Into<String>) -> Self {
        Self { is_damage: false, text: text.into() }
    }

    /// One that tells of damage.
    pub fn damage(text: impl Into<String>) -> Self {
        Self { is_damage: true, text: text.into() }
    }
}

/// Sees the work from outside. Every method may be called from any thread, and as often as once a block.
pub trait Watch: Send + Sync {
    /// A stretch of work begins; `total` is its size in bytes, where that is known.
    fn begin(&self, _phase: &str, _total: Option<u64>) {}
    /// `bytes` more are done.
    fn advance(&self, _bytes: u64) {}
    /// The entry that is being worked on now.
    fn item(&self, _name: &str) {}
    /// The stretch of work is over.
    fn end(&self) {}
    /// Something is worth telling that belongs to no report.
    fn notice(&self, _notice: &Notice) {}
    /// Something in a folder could not be read. The work goes on without it; the run has failed all the same.
    fn unread(&self, path: &str, error: &Error) {
        self.notice(&Notice::damage(format!("{path} is left out: {error}")));
    }
    /// True once the user has asked to stop. Checked at least once a block (1 MiB).
    fn cancelled(&self) -> bool {
        false
    }
}

/// Whether the process as a whole was asked to stop.
static ASKED: AtomicBool = AtomicBool::new(false);

/// Asks everything in this process to stop.
pub fn ask_to_stop() {
    ASKED.store(true, Ordering::Relaxed);
}

/// Fails once the process was asked to stop. For long loops that no watch reaches: sources that unpack for a single byte
/// live longer than any job, and searches in memory are pure.
///
/// # Errors
/// [`Error::Cancelled`].
pub fn going_on() -> Result<()> {
    if ASKED.load(Ordering::Relaxed) { Err(Error::Cancelled) } else { Ok(()) }
}

/// Nobody watches: for tests and for callers of the library.
impl Watch for () {}

/// Fails with [`Error::Cancelled`] once the user has asked to stop.
pub fn check(watch: &dyn Watch) -> Result<()> {
    if watch.cancelled() { Err(Error::Cancelled) } else { Ok(()) }
}
