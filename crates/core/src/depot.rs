//! Where outputs go that are no files of this machine.

use crate::error::Result;
use std::path::Path;

/// A place that takes whole files over, each complete or not at all. They are made in a temporary folder of this machine
/// first: outputs are written at any offset, and proven before they have their names.
pub trait Depot: Send + Sync + std::fmt::Debug {
    /// Whether `target`, as a user types it, is one of this place: by the scheme that it begins with.
    fn has(&self, target: &str) -> bool;

    /// Whether the run reads `target`.
    fn reads(&self, target: &str) -> bool;

    /// Whether something stands at `target`. Asked before the work begins: a place that refuses its user says so now.
    ///
    /// # Errors
    /// When it is no name for a file there, or cannot be asked.
    fn is_there(&self, target: &str) -> Result<bool>;

    /// Hands over the file at `path`, and makes sure that the place has the same bytes. Stopped, killed or failed in between,
    /// nothing new stands at `target`.
    ///
    /// # Errors
    /// What reading, sending or comparing fails with.
    fn put(&self, path: &Path, target: &str) -> Result<()>;

    /// Takes away what was handed over in this run.
    ///
    /// # Errors
    /// When the place refuses it.
    fn remove(&self, target: &str) -> Result<()>;
}
