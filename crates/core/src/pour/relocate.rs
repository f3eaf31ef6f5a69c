//! Files get other names: within a file system by renaming, across by copying, checking and removing. Nothing is ever
//! replaced.

use super::draft::{cannot_be_sure, sync_folder};
use super::folders::{folder_of, make_folder};
use super::{Output, pour};
use crate::blueprint::Blueprint;
use crate::digest::{Algorithm, of_source};
use crate::error::{Error, Result};
use crate::guard::{Door, Guard};
use crate::os;
use crate::source::{FileSource, SourceRef};
use crate::watch::Watch;
use std::fs::{self, File, FileTimes};
use std::io::ErrorKind;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

/// Gives the file at `from` the name `to`, whose folder is made if it is not there. Its bytes, times and permissions stay.
/// Stopped in between, at least one of both is whole.
///
/// # Errors
/// [`Error::Exists`] where something stands at `to`; [`Error::Checksum`] when a copy is not what was copied;
/// [`Error::Io`]; [`Error::Cancelled`].
pub fn relocate(from: &Path, to: &Path, watch: &dyn Watch) -> Result<()> {
    if fs::symlink_metadata(to).is_ok() {
        return Err(Error::Exists { path: to.to_owned() });
    }
    make_folder(&folder_of(to))?;
    match os::rename_new(from, to) {
        Ok(()) => {}
        Err(e) if e.kind() == ErrorKind::AlreadyExists => return Err(Error::Exists { path: to.to_owned() }),
        Err(e) if e.kind() == ErrorKind::CrossesDevices => return across(from, to, watch),
        // A file system that cannot rename without replacing: nothing stood there a moment ago.
        Err(e) if cannot_be_sure(&e) => fs::rename(from, to).map_err(|e| Error::io("rename", from, e))?,
        Err(e) => return Err(Error::io("rename", from, e)),
    }
    sync_folder(&folder_of(to))?;
    sync_folder(&folder_of(from))
}

/// The same onto another file system.
fn across(from: &Path, to: &Path, watch: &dyn Watch) -> Result<()> {
    let failed = |e| Error::io("read", from, e);
    let meta = fs::metadata(from).map_err(failed)?;
    let source: SourceRef = Arc::new(FileSource::own(from)?);
    let guard = Guard::default();
    let door = Door { guard: &guard, replace: false };
    let blueprint = Blueprint::of(source);
    let poured = pour(Output::new(&blueprint, to).with_digests(&[Algorithm::Sha256]), door, watch)?;
    let copy: SourceRef = Arc::new(FileSource::own(to)?);
    let found = of_source(&copy, &[Algorithm::Sha256], watch)?;
    if found != poured.digests {
        super::remove(to)?;
        let told = |d: &[crate::Digest]| d.iter().map(ToString::to_string).collect();
        let what = crate::native::text(to);
        return Err(Error::Checksum { what, expected: told(&poured.digests), found: told(&found) });
    }
    let file = File::options().append(true).open(to).map_err(|e| Error::io("write", to, e))?;
    file.set_permissions(meta.permissions()).map_err(|e| Error::io("set the permissions of", to, e))?;
    if let Ok(time) = meta.modified() {
        let times = FileTimes::new().set_modified(time);
        file.set_times(times).map_err(|e| Error::io("set time of", to, e))?;
    }
    file.sync_all().map_err(|e| Error::io("flush", to, e))?;
    super::remove(from)
}

/// Removes a folder if nothing is in it; whether it is gone.
///
/// # Errors
/// [`Error::Io`] for what is no folder, or cannot be removed.
pub fn remove_empty_folder(folder: &Path) -> Result<bool> {
    match fs::remove_dir(folder) {
        Ok(()) => Ok(true),
        Err(e) if e.kind() == ErrorKind::DirectoryNotEmpty => Ok(false),
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(true),
        Err(e) => Err(Error::io("remove", folder, e)),
    }
}

/// Sets when a folder was changed last, in nanoseconds since 1970, and who may do what with it.
///
/// # Errors
/// [`Error::Io`].
pub fn set_folder(folder: &Path, modified: i64, mode: Option<u32>) -> Result<()> {
    let failed = |e| Error::io("set time of", folder, e);
    if let Some(mode) = mode {
        os::set_mode(folder, mode).map_err(failed)?;
    }
    time(modified).map_or(Ok(()), |time| os::touch_folder(folder, time).map_err(failed))
}

/// The same of a file.
///
/// # Errors
/// [`Error::Io`].
pub fn set_file(path: &Path, modified: i64, mode: Option<u32>) -> Result<()> {
    let failed = |e| Error::io("set time of", path, e);
    let file = File::options().append(true).open(path).map_err(failed)?;
    if let Some(time) = time(modified) {
        file.set_times(FileTimes::new().set_modified(time)).map_err(failed)?;
    }
    mode.map_or(Ok(()), |mode| os::set_mode(path, mode).map_err(failed))
}

/// A time of so many nanoseconds since 1970.
fn time(nanoseconds: i64) -> Option<SystemTime> {
    let span = Duration::from_nanos(nanoseconds.unsigned_abs());
    match nanoseconds < 0 {
        true => SystemTime::UNIX_EPOCH.checked_sub(span),
        false => SystemTime::UNIX_EPOCH.checked_add(span),
    }
}
