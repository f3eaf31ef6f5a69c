use super::draft::{cannot_be_sure, sync_folder};
use super::folders::{Made, check_local, check_target, folder_of};
use crate::error::{Error, Result};
use crate::guard::Door;
use crate::os::{self, Kind};
use crate::trail::Trail;
use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A file that may stay unfinished for days, and then carries a name that says so: `NAME.incomplete`.
pub struct Partial {
    file: File,
    path: PathBuf,
    target: PathBuf,
    replace: bool,
    len_before: u64,
    trail: Option<Arc<Trail>>,
}

impl Partial {
    /// The name that `target` has until it is complete.
    pub fn path_of(target: &Path) -> PathBuf {
        let mut name = target.as_os_str().to_owned();
        name.push(".incomplete");
        PathBuf::from(name)
    }

    /// Begins a file that will be `target`, or, with `known`, goes on with one: `len` bytes long, of which `needed` are
    /// still to come. No link is followed, and what is there without being known is nobody's to overwrite.
    ///
    /// # Errors
    /// As [`check_target`]; [`Error::Exists`] with the unfinished file if that is there and not known; [`Error::Busy`]
    /// when another run writes it; [`Error::Io`].
    pub fn open(target: &Path, door: Door<'_>, known: bool, len: u64, needed: u64) -> Result<Self> {
        check_local(target)?;
        check_target(target, door, len, needed)?;
        let path = Self::path_of(target);
        door.guard.check(&path)?;
        let made = Made::for_file(target)?;
        let busy = || Error::Busy { path: target.to_owned() };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create_new(!known);
        let file = os::open_real(&options, &path).map_err(|e| match e.kind() {
            std::io::ErrorKind::AlreadyExists => Error::Exists { path: path.clone() },
            _ if os::is_busy(&e) => busy(),
            _ => Error::io("write", &path, e),
        })?;
        let failed = |e| Error::io("open", &path, e);
        if !os::hold(&file).map_err(failed)? {
            return Err(busy());
        }
        let facts = os::facts(&file).map_err(failed)?;
        if door.guard.knows(&facts) {
            return Err(Error::IsSource { path });
        }
        if facts.kind != Kind::File {
            return Err(Error::Exists { path });
        }
        file.set_len(len).map_err(|e| Error::io("reserve", &path, e))?;
        made.keep();
        Ok(Self {
            file,
            path,
            target: target.to_owned(),
            replace: door.replace,
            len_before: facts.len,
            trail: door.guard.trail(),
        })
    }

    /// Bytes that it had before it was opened: what lies beyond was never written.
    pub fn len_before(&self) -> u64 {
        self.len_before
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
        os::write_all_at(&self.file, bytes, at).map_err(|e| Error::io_at("write", &self.path, at, e))
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
                Err(e) if cannot_be_sure(&e) && fs::symlink_metadata(&self.target).is_err() => {
                    fs::rename(&self.path, &self.target).map_err(report)?;
                }
                Err(e) => return Err(report(e)),
            }
        }
        self.trail.iter().for_each(|trail| trail.wrote(&self.target));
        sync_folder(&folder_of(&self.target))
    }
}
