use super::{Extent, FileSource, Place, Source, check_range};
use crate::error::Result;
use crate::guard::Guard;
use std::fs::Metadata;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Files up to this size are read without asking for holes first: that would cost more than it could save.
const SMALL: u64 = 64 << 10;

/// A file that is opened anew whenever it is asked for something: for folders with more files than a process may hold
/// open. Its length is the one that was found when the folder was read.
#[derive(Debug)]
pub struct PathSource {
    path: PathBuf,
    len: u64,
    /// The run of data or hole that was asked for last.
    run: Mutex<Option<(Range<u64>, bool)>>,
}

impl PathSource {
    /// The file at `path`, of which the system says `meta`; `guard` knows it from now on.
    ///
    /// # Errors
    /// As [`Guard::reads`].
    pub fn new(path: &Path, meta: &Metadata, guard: &Guard) -> Result<Self> {
        guard.reads(path, meta)?;
        Ok(Self { path: path.to_owned(), len: meta.len(), run: Mutex::new(None) })
    }
}

impl Source for PathSource {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        FileSource::own(&self.path)?.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        if self.len <= SMALL {
            return Ok(Extent { place: Place::Computed, len: self.len - offset });
        }
        let file = FileSource::own(&self.path)?;
        // What was cut off since the folder was read is told by reading, not here.
        if offset >= file.len() {
            return Ok(Extent { place: Place::Computed, len: self.len - offset });
        }
        let mut run = self.run.lock().unwrap_or_else(PoisonError::into_inner);
        file.recall(run.take());
        let extent = file.extent_at(offset)?.at_most(self.len - offset);
        *run = file.recalled();
        Ok(extent)
    }
}
