use super::folders::{Made, check_target, folder_of};
use super::output::Output;
use super::part::{self, prefix};
use crate::depot::Depot;
use crate::error::{Error, Result};
use crate::guard::Door;
use crate::native;
use crate::os;
use crate::trail::Trail;
use crate::watch::Watch;
use std::fs::{self, File};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::NamedTempFile;

/// A file that is not finished: it has a temporary name in the folder of its target, and is removed when it is
/// dropped before [`Draft::finish`].
pub struct Draft {
    temporary: NamedTempFile,
    target: PathBuf,
    replace: bool,
    /// Folders that were made for it.
    made: Made,
    trail: Option<Arc<Trail>>,
    /// Where it goes, if that is not on this machine.
    depot: Option<Arc<dyn Depot>>,
}

impl Draft {
    /// Begins a file that will be `target`: `len` bytes long, of which `needed` take room on the disk. Its folder is
    /// made if it is not there.
    ///
    /// # Errors
    /// As [`check_target`]; [`Error::Busy`] when another run writes the same target; [`Error::Io`].
    pub fn new(target: &Path, door: Door<'_>, len: u64, needed: u64, watch: &dyn Watch) -> Result<Self> {
        Self::with_mode(target, door, len, needed, 0o666, watch)
    }

    /// The beginning of an output, which takes its share of `needed` bytes on the disk.
    pub(super) fn of(output: &Output<'_>, door: Door<'_>, needed: u64, watch: &dyn Watch) -> Result<Self> {
        Self::with_mode(output.target, door, output.len(), needed, output.mode(), watch)
    }

    fn with_mode(target: &Path, door: Door<'_>, len: u64, needed: u64, mode: u32, watch: &dyn Watch) -> Result<Self> {
        check_target(target, door, len, needed)?;
        let depot = door.guard.depot(target);
        let (made, folder) = match depot {
            Some(_) => (Made::default(), std::env::temp_dir()),
            None => (Made::for_file(target)?, folder_of(target)),
        };
        let report = |e| Error::io("write", &folder, e);
        match part::clear(&folder, target, watch) {
            // Names of other places say nothing in the folder for temporary files.
            Err(Error::Busy { .. }) if depot.is_some() => {}
            cleared => cleared?,
        }
        let begins = prefix(target);
        let mut builder = tempfile::Builder::new();
        os::with_mode(builder.prefix(&begins).suffix(part::SUFFIX), mode);
        let temporary = builder.tempfile_in(&folder).map_err(report)?;
        part::lock(temporary.as_file(), target)?;
        if depot.is_none() {
            part::check_alone(&folder, temporary.path(), target)?;
        }
        Ok(Self { temporary, target: target.to_owned(), replace: door.replace, made, trail: door.guard.trail(), depot })
    }

    /// The file, open for writing.
    pub fn file(&self) -> &File {
        self.temporary.as_file()
    }

    /// Its name until it is finished.
    pub fn temporary_path(&self) -> &Path {
        self.temporary.path()
    }

    /// The place that it goes to, if that is not on this machine.
    pub(super) fn depot(&self) -> Option<&dyn Depot> {
        self.depot.as_deref()
    }

    /// Its name when it is finished.
    pub(super) fn target(&self) -> &Path {
        &self.target
    }

    /// Brings it to the disk and gives it its name.
    ///
    /// # Errors
    /// [`Error::Exists`] when somebody else made the target in the meantime; [`Error::Io`].
    pub fn finish(self) -> Result<()> {
        self.sync()?;
        self.name()
    }

    /// Brings it to the disk.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub(super) fn sync(&self) -> Result<()> {
        self.temporary.as_file().sync_all().map_err(|e| Error::io("flush", self.temporary.path(), e))
    }

    /// Gives it its name.
    ///
    /// # Errors
    /// As [`Draft::finish`].
    pub(super) fn name(self) -> Result<()> {
        let Self { temporary, target, replace, made, trail, depot } = self;
        if let Some(depot) = depot {
            hand_over(depot.as_ref(), temporary.path(), &target, replace)?;
            trail.iter().for_each(|trail| trail.wrote(&target));
            return Ok(());
        }
        let result = match replace {
            true => temporary.persist(&target),
            false => match temporary.persist_noclobber(&target) {
                // A file system that can neither rename without replacing nor link.
                Err(e) if cannot_be_sure(&e.error) && fs::symlink_metadata(&target).is_err() => e.file.persist(&target),
                result => result,
            },
        };
        result.map_err(|e| match e.error.kind() {
            ErrorKind::AlreadyExists => Error::Exists { path: target.clone() },
            _ => Error::io("rename", &target, e.error),
        })?;
        made.keep();
        trail.iter().for_each(|trail| trail.wrote(&target));
        sync_folder(&folder_of(&target))
    }
}

#[cfg(test)]
impl Draft {
    /// Leaves it as a run that is killed does: under its temporary name, held by nobody.
    pub(super) fn abandon(self) {
        drop(self.temporary.keep());
    }
}

/// Gives a file that is complete to another place.
pub(super) fn hand_over(depot: &dyn Depot, path: &Path, target: &Path, replace: bool) -> Result<()> {
    let text = native::text(target);
    if !replace && depot.is_there(&text)? {
        return Err(Error::Exists { path: target.to_owned() });
    }
    depot.put(path, &text)
}

/// Whether a file system refused because it does not know how to give a name only if it is free.
pub(super) fn cannot_be_sure(error: &std::io::Error) -> bool {
    matches!(
        error.kind(),
        ErrorKind::Unsupported | ErrorKind::PermissionDenied | ErrorKind::InvalidInput | ErrorKind::TooManyLinks
    )
}

/// Makes a rename in `folder` last.
pub(super) fn sync_folder(folder: &Path) -> Result<()> {
    os::sync_folder(folder).map_err(|e| Error::io("flush", folder, e))
}
