//! The trail of a run: which files it read, and which it wrote. Kept only where somebody asks for it.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Files of one kind that are noted; a run over more tells of the first.
const MOST: usize = 100_000;

/// Paths as they were met.
#[derive(Debug, Default)]
pub struct Trail {
    read: Mutex<Vec<PathBuf>>,
    written: Mutex<Vec<PathBuf>>,
}

impl Trail {
    /// A file was opened for reading.
    pub(crate) fn reads(&self, path: &Path) {
        push(&self.read, path);
    }

    /// A file got its name.
    pub(crate) fn wrote(&self, path: &Path) {
        push(&self.written, path);
    }

    /// The files that were read, each once, in the order of their paths.
    pub fn read(&self) -> Vec<PathBuf> {
        sorted(&self.read)
    }

    /// The files that were written.
    pub fn written(&self) -> Vec<PathBuf> {
        sorted(&self.written)
    }
}

fn push(list: &Mutex<Vec<PathBuf>>, path: &Path) {
    let mut list = list.lock().unwrap_or_else(PoisonError::into_inner);
    if list.len() < MOST && list.last().is_none_or(|last| last != path) {
        list.push(path.to_owned());
    }
}

fn sorted(list: &Mutex<Vec<PathBuf>>) -> Vec<PathBuf> {
    let mut paths = list.lock().unwrap_or_else(PoisonError::into_inner).clone();
    paths.sort();
    paths.dedup();
    paths
}
