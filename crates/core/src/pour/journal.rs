//! A journal: lines that are on the disk before what they speak of is done.

use crate::error::{Error, Result};
use crate::os;
use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

/// The longest journal that is read.
const MOST: u64 = 1 << 30;

/// A journal that is open, and held by this run.
pub struct Journal {
    file: File,
    path: PathBuf,
}

impl Journal {
    /// Opens the journal at `path`, which is made if it is not there; its whole lines.
    ///
    /// # Errors
    /// [`Error::Busy`] when another run holds it; [`Error::Io`].
    pub fn open(path: &Path) -> Result<(Self, Vec<String>)> {
        let failed = |e| Error::io("write", path, e);
        let mut file = OpenOptions::new().read(true).append(true).create(true).open(path).map_err(failed)?;
        if !os::hold(&file).map_err(failed)? {
            return Err(Error::Busy { path: path.to_owned() });
        }
        let len = file.metadata().map_err(failed)?.len();
        if len > MOST {
            return Err(Error::Limit { what: "a journal", asked: len, limit: MOST });
        }
        let mut text = String::new();
        file.read_to_string(&mut text).map_err(|e| Error::io("read", path, e))?;
        // What a run that was killed began to write was not done yet.
        let whole = text.rfind('\n').map_or(0, |at| at + 1);
        if whole < text.len() {
            file.set_len(whole as u64).map_err(failed)?;
        }
        let lines = text[..whole].lines().map(str::to_owned).collect();
        Ok((Self { file, path: path.to_owned() }, lines))
    }

    /// Writes lines, and brings them to the disk.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn write(&mut self, lines: &[String]) -> Result<()> {
        let failed = |e| Error::io("write", &self.path, e);
        let text: String = lines.iter().flat_map(|line| [line.as_str(), "\n"]).collect();
        self.file.write_all(text.as_bytes()).map_err(failed)?;
        self.file.sync_data().map_err(failed)
    }

    /// Removes it: everything is done.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn end(self) -> Result<()> {
        super::remove(&self.path)
    }
}
