use super::{Extent, Place, Source, check_range};
use crate::error::{Error, Result};
use crate::guard::Guard;
use crate::os::{self, Facts, Kind};
use std::fs::File;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// A file, opened for reading only. Its length is taken once, when it is opened.
#[derive(Debug)]
pub struct FileSource {
    file: Arc<File>,
    path: PathBuf,
    len: u64,
    /// The run of data or hole that was asked for last. Finding where a run ends can cost a walk over all of it,
    /// and readers ask once a block.
    run: Mutex<Option<(Range<u64>, bool)>>,
}

impl FileSource {
    /// Opens `path` for reading: a file or a block device, which `guard` knows from now on.
    ///
    /// # Errors
    /// [`Error::Io`] when it cannot be opened; [`Error::NotUnderstood`] for pipes, sockets and the like.
    pub fn open(path: &Path, guard: &Guard) -> Result<Self> {
        let (file, facts) = guard.open(path)?;
        Self::of(file, facts, path)
    }

    /// Opens a file of this run's own making, which is no source of it.
    ///
    /// # Errors
    /// As [`FileSource::open`].
    pub fn own(path: &Path) -> Result<Self> {
        Self::open(path, &Guard::default())
    }

    /// An open file of this run's own making that has no path; errors call it `name`.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn nameless(file: File, name: &str) -> Result<Self> {
        let facts = os::facts(&file).map_err(|e| Error::io("read", Path::new(name), e))?;
        Self::of(file, facts, Path::new(name))
    }

    /// Waits until what was written into it is on the medium, and forgets it, so that reading it reads the medium where
    /// the system can.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn to_medium(&self) -> Result<()> {
        self.file.sync_all().map_err(|e| Error::io("write", &self.path, e))?;
        os::forget(&self.file);
        Ok(())
    }

    fn of(mut file: File, facts: Facts, path: &Path) -> Result<Self> {
        let len = match facts.kind {
            Kind::Device => os::device_len(&mut file).map_err(|e| Error::io("ask for the size", path, e))?,
            _ => facts.len,
        };
        Ok(Self { file: Arc::new(file), path: path.to_owned(), len, run: Mutex::new(None) })
    }

    /// Takes over the run that was found when the same file was open before.
    pub(super) fn recall(&self, run: Option<(Range<u64>, bool)>) {
        *self.run.lock().unwrap_or_else(PoisonError::into_inner) = run;
    }

    /// The run that was asked for last.
    pub(super) fn recalled(&self) -> Option<(Range<u64>, bool)> {
        self.run.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl Source for FileSource {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        os::read_exact_at(&self.file, buf, offset).map_err(|e| Error::io_at("read", &self.path, offset, e))
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let mut run = self.run.lock().unwrap_or_else(PoisonError::into_inner);
        let (range, is_hole) = match run.as_ref().filter(|(range, _)| range.contains(&offset)) {
            Some(known) => known.clone(),
            None => {
                let (is_hole, len) = os::data_or_hole(&self.file, offset, self.len - offset);
                run.insert((offset..offset + len, is_hole)).clone()
            }
        };
        let place = if is_hole { Place::Fill(0) } else { Place::File { file: self.file.clone(), offset } };
        Ok(Extent { place, len: range.end - offset })
    }
}
