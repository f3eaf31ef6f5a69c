use super::draft::sync_folder;
use super::{check_room, folder_of};
use crate::error::{Error, Result};
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// A file that may stay unfinished for days, and then carries a name that says so: `NAME.incomplete`.
pub struct Partial {
    file: File,
    path: PathBuf,
    target: PathBuf,
    replace: bool,
}

impl Partial {
    /// The name that `target` has until it is complete.
    pub fn path_of(target: &Path) -> PathBuf {
        let mut name = target.as_os_str().to_owned();
        name.push(".incomplete");
        PathBuf::from(name)
    }

    /// Begins or goes on with a file that will be `target`, `len` bytes long.
    ///
    /// # Errors
    /// [`Error::Exists`] when the complete file is there and `replace` is false; [`Error::NoSpace`],
    /// [`Error::FileTooLarge`]; [`Error::Io`].
    pub fn open(target: &Path, replace: bool, len: u64) -> Result<Self> {
        if fs::symlink_metadata(target).is_ok_and(|meta| meta.is_dir() || !replace) {
            return Err(Error::Exists { path: target.to_owned() });
        }
        let path = Self::path_of(target);
        let there = fs::metadata(&path).map_or(0, |m| m.len());
        check_room(&folder_of(target), len.saturating_sub(there), len)?;
        let mut options = OpenOptions::new();
        let file = options.read(true).write(true).create(true).truncate(false).open(&path);
        let file = file.map_err(|e| Error::io("write", &path, e))?;
        file.set_len(len).map_err(|e| Error::io("reserve", &path, e))?;
        Ok(Self { file, path, target: target.to_owned(), replace })
    }

    /// Where it is while it is not complete.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Writes at byte `at`.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn write(&self, bytes: &[u8], at: u64) -> Result<()> {
        self.file.write_all_at(bytes, at).map_err(|e| Error::io_at("write", &self.path, at, e))
    }

    /// Brings what was written to the disk.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn flush(&self) -> Result<()> {
        self.file.sync_data().map_err(|e| Error::io("flush", &self.path, e))
    }

    /// Gives it its final name.
    ///
    /// # Errors
    /// [`Error::Exists`] when somebody else made the target in the meantime; [`Error::Io`].
    pub fn finish(self) -> Result<()> {
        self.flush()?;
        let report = |e: std::io::Error| Error::io("rename", &self.target, e);
        if self.replace {
            fs::rename(&self.path, &self.target).map_err(report)?;
        } else {
            // A hard link fails if the name is taken; a rename would not.
            match fs::hard_link(&self.path, &self.target) {
                Ok(()) => fs::remove_file(&self.path).map_err(report)?,
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {
                    return Err(Error::Exists { path: self.target.clone() });
                }
                // File systems without hard links: FAT, exFAT.
                Err(_) => fs::rename(&self.path, &self.target).map_err(report)?,
            }
        }
        sync_folder(&folder_of(&self.target))
    }
}
