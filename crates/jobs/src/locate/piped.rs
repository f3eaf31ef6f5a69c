//! Standard input as a source: read once into a nameless temporary file, as patches are read at any offset.

use decanter_core::source::{FileSource, SourceRef};
use decanter_core::store::{Met, Store};
use decanter_core::{Error, Result};
use std::io::{Seek, copy, stdin};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// What stands for standard input on the command line.
pub const PIPE: &str = "-";
/// What it is called in texts, and what results of it are named after.
pub(super) const NAME: &str = "standard input";

/// A store with one file in it, which is what comes in on standard input.
pub struct Piped {
    scratch: PathBuf,
    read: Mutex<Option<SourceRef>>,
}

impl Piped {
    /// One that keeps what it reads in the folder `scratch`.
    pub fn new(scratch: &Path) -> Self {
        Self { scratch: scratch.to_owned(), read: Mutex::default() }
    }
}

impl Store for Piped {
    fn has(&self, path: &str) -> bool {
        path == PIPE
    }

    fn is_folder(&self, _: &str) -> Result<bool> {
        Ok(false)
    }

    fn open(&self, _: &str) -> Result<SourceRef> {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(source) = &*read {
            return Ok(source.clone());
        }
        let mut file = tempfile::tempfile_in(&self.scratch).map_err(|e| Error::io("write", &self.scratch, e))?;
        copy(&mut stdin().lock(), &mut file).map_err(|e| Error::io("read", Path::new(NAME), e))?;
        file.rewind().map_err(|e| Error::io("read", Path::new(NAME), e))?;
        let source: SourceRef = Arc::new(FileSource::nameless(file, NAME)?);
        *read = Some(source.clone());
        Ok(source)
    }

    fn names(&self, _: &str, _: usize) -> Vec<String> {
        Vec::new()
    }

    fn walk(&self, _: &str, _: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        Ok(())
    }

    fn local(&self, _: &str) -> Option<PathBuf> {
        None
    }
}
