use super::{check_room, folder_of};
use crate::error::{Error, Result};
use std::ffi::OsString;
use std::fs::{self, File, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// A file that is not finished: it has a temporary name in the folder of its target, and is removed when it is
/// dropped before [`Draft::finish`].
pub struct Draft {
    temporary: NamedTempFile,
    target: PathBuf,
    replace: bool,
}

impl Draft {
    /// Begins a file that will be `target`: `len` bytes long, of which `needed` take room on the disk.
    ///
    /// # Errors
    /// [`Error::Exists`] when the target is there and `replace` is false, or is a folder;
    /// [`Error::NoSpace`], [`Error::FileTooLarge`]; [`Error::Io`] when the folder cannot be written.
    pub fn new(target: &Path, replace: bool, len: u64, needed: u64) -> Result<Self> {
        let exists = fs::symlink_metadata(target);
        if exists.is_ok_and(|meta| meta.is_dir() || !replace) {
            return Err(Error::Exists { path: target.to_owned() });
        }
        let folder = folder_of(target);
        let report = |e| Error::io("write", &folder, e);
        fs::metadata(&folder).map_err(report)?;
        check_room(&folder, needed, len)?;
        let temporary = tempfile::Builder::new()
            .prefix(&prefix(target))
            .suffix(".part")
            .permissions(Permissions::from_mode(0o666))
            .tempfile_in(&folder)
            .map_err(report)?;
        Ok(Self { temporary, target: target.to_owned(), replace })
    }

    /// The file, open for writing.
    pub fn file(&self) -> &File {
        self.temporary.as_file()
    }

    /// Its name until it is finished.
    pub fn temporary_path(&self) -> &Path {
        self.temporary.path()
    }

    /// Brings it to the disk and gives it its name.
    ///
    /// # Errors
    /// [`Error::Exists`] when somebody else made the target in the meantime; [`Error::Io`].
    pub fn finish(self) -> Result<()> {
        let path = self.temporary.path().to_owned();
        self.temporary.as_file().sync_all().map_err(|e| Error::io("flush", &path, e))?;
        let result = if self.replace {
            self.temporary.persist(&self.target)
        } else {
            self.temporary.persist_noclobber(&self.target)
        };
        result.map_err(|e| match e.error.kind() {
            std::io::ErrorKind::AlreadyExists => Error::Exists { path: self.target.clone() },
            _ => Error::io("rename", &self.target, e.error),
        })?;
        sync_folder(&folder_of(&self.target))
    }
}

/// What the temporary name of `target` begins with: hidden, and short enough for any file system.
pub(super) fn prefix(target: &Path) -> OsString {
    let name = target.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let short: String = name.chars().take(40).collect();
    OsString::from(format!(".{short}."))
}

/// Makes a rename in `folder` last.
pub(super) fn sync_folder(folder: &Path) -> Result<()> {
    let opened = File::open(folder).map_err(|e| Error::io("open", folder, e))?;
    match opened.sync_all() {
        // Some file systems cannot flush a folder; the file itself is safe by then.
        Err(e) if e.kind() != std::io::ErrorKind::InvalidInput => Err(Error::io("flush", folder, e)),
        _ => Ok(()),
    }
}
