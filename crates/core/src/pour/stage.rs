use super::draft::{hand_over, sync_folder};
use super::folders::{Made, check_far, check_local, check_writable, folder_of};
use super::part::{self, prefix};
use super::{Written, write_parts};
use crate::blueprint::Blueprint;
use crate::depot::Depot;
use crate::digest::{Algorithm, Digest};
use crate::error::{Error, Result};
use crate::guard::Door;
use crate::native;
use crate::os;
use crate::watch::Watch;
use std::fs::{self, File, FileTimes, OpenOptions};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tempfile::TempDir;

/// A folder full of files that is not finished: everything is written under a temporary folder, flushed, and
/// moved into place at the end.
pub struct Stage<'a> {
    folder: TempDir,
    /// Held as long as this run is at work.
    _lock: File,
    target: PathBuf,
    door: Door<'a>,
    made: Made,
    /// Where it goes, if that is not on this machine.
    depot: Option<Arc<dyn Depot>>,
    /// Files in the stage, relative to it, in the order in which they were finished.
    files: Vec<PathBuf>,
}

/// What came of one file.
#[derive(Debug, Clone)]
pub struct StagedFile {
    /// Its digests, in the order in which they were asked for.
    pub digests: Vec<Digest>,
    /// Bytes that stayed inside the kernel.
    pub kernel_bytes: u64,
    /// Bytes that are holes.
    pub hole_bytes: u64,
}

/// Fails unless a folder `target` could be written now, or written into.
///
/// # Errors
/// [`Error::IsSource`] for what is read; [`Error::Exists`] when it is something else than a folder; [`Error::Io`].
pub fn check_folder(target: &Path, door: Door<'_>) -> Result<()> {
    if door.guard.depot(target).is_some() {
        return Ok(());
    }
    check_local(target)?;
    door.guard.check_folder(target)?;
    match fs::metadata(target) {
        Ok(meta) if !meta.is_dir() => Err(Error::Exists { path: target.to_owned() }),
        _ => check_writable(target),
    }
}

impl<'a> Stage<'a> {
    /// Begins a folder that will be `target`; folders above it are made if they are not there.
    ///
    /// # Errors
    /// As [`check_folder`]; [`Error::Busy`] when another run writes the same folder; [`Error::Io`].
    pub fn new(target: &Path, door: Door<'a>, watch: &dyn Watch) -> Result<Self> {
        check_folder(target, door)?;
        let depot = door.guard.depot(target);
        let parent = match depot {
            Some(_) => std::env::temp_dir(),
            None if target.is_dir() => target.to_owned(),
            None => folder_of(target),
        };
        let made = Made::folder(&parent)?;
        let report = |e| Error::io("write", &parent, e);
        match part::clear(&parent, target, watch) {
            // Names of other places say nothing in the folder for temporary files.
            Err(Error::Busy { .. }) if depot.is_some() => {}
            cleared => cleared?,
        }
        let begins = prefix(target);
        let mut builder = tempfile::Builder::new();
        os::with_mode(builder.prefix(&begins).suffix(part::SUFFIX), 0o777);
        let folder = builder.tempdir_in(&parent).map_err(report)?;
        let held = os::hold_folder(folder.path()).map_err(report)?;
        let lock = held.ok_or_else(|| Error::Busy { path: target.to_owned() })?;
        if depot.is_none() {
            part::check_alone(&parent, folder.path(), target)?;
        }
        Ok(Self { folder, _lock: lock, target: target.to_owned(), door, made, depot, files: Vec::new() })
    }

    /// True when the file system takes `a` and `A` for the same name, as those of sticks and cards do.
    pub fn folds_case(&self) -> bool {
        let probe = self.folder.path().join("a");
        let folds = File::create(&probe).is_ok() && fs::symlink_metadata(self.folder.path().join("A")).is_ok();
        let _ = fs::remove_file(&probe);
        folds
    }

    /// Fails unless all of `files` (relative paths) can be put in place.
    ///
    /// # Errors
    /// [`Error::Exists`] with the first that is there already, [`Error::IsSource`] with the first that is read.
    pub fn check_free<'b>(&self, files: impl Iterator<Item = &'b Path>) -> Result<()> {
        check_free(&self.target, self.door, files)
    }

    /// Makes a folder, and those above it.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn make_folder(&self, path: &Path) -> Result<()> {
        let whole = self.folder.path().join(path);
        fs::create_dir_all(&whole).map_err(|e| Error::io("make folder", &self.target.join(path), e))
    }

    /// Writes one file. Files may be written from several threads; none of them is finished before
    /// [`Stage::commit`]. A file that fails is removed at once.
    ///
    /// # Errors
    /// What reading or writing fails with.
    pub fn write(
        &self,
        path: &Path,
        blueprint: &Blueprint,
        modified: Option<i64>,
        digests: &[Algorithm],
        watch: &dyn Watch,
    ) -> Result<StagedFile> {
        let whole = self.folder.path().join(path);
        let report = |op, e| Error::io(op, &self.target.join(path), e);
        let file =
            OpenOptions::new().read(true).write(true).create_new(true).open(&whole).map_err(|e| report("write", e))?;
        let result = write_parts(blueprint, &file, &whole, digests, watch).and_then(|written| {
            if let Some(time) = modified.and_then(time) {
                file.set_times(FileTimes::new().set_modified(time)).map_err(|e| report("set time of", e))?;
            }
            Ok(written)
        });
        match result {
            Ok(Written { digests, kernel_bytes, hole_bytes, .. }) => {
                Ok(StagedFile { digests, kernel_bytes, hole_bytes })
            }
            Err(e) => {
                let _ = fs::remove_file(&whole);
                Err(e)
            }
        }
    }

    /// Removes a file that turned out not to be what it should be.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn discard(&self, path: &Path) -> Result<()> {
        part::remove(&self.folder.path().join(path))
    }

    /// Makes a symbolic link. Call it after all files were written, so that nothing is written through it.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn link(&mut self, path: &Path, to: &str) -> Result<()> {
        if self.depot.is_some() {
            return Err(Error::unsupported("far", "symbolic links in a store of objects"));
        }
        let whole = self.folder.path().join(path);
        os::link(&native::os(to), &whole).map_err(|e| Error::io("link", &self.target.join(path), e))?;
        self.files.push(path.to_owned());
        Ok(())
    }

    /// Says that a file was written and belongs to the result.
    pub fn add(&mut self, path: PathBuf) {
        self.files.push(path);
    }

    /// Flushes everything and moves it into place. `folders` (relative, parents first, with their times) are made
    /// where they are not there yet.
    ///
    /// # Errors
    /// [`Error::Exists`], [`Error::Io`].
    pub fn commit(self, folders: &[(PathBuf, Option<i64>)]) -> Result<()> {
        let stage = self.folder.path();
        os::sync_all_in(stage).map_err(|e| Error::io("flush", stage, e))?;
        let trail = self.door.guard.trail();
        let told = |files: &[PathBuf]| {
            trail.iter().for_each(|trail| files.iter().for_each(|file| trail.wrote(&self.target.join(file))));
        };
        if let Some(depot) = &self.depot {
            self.hand_over(depot.as_ref())?;
            told(&self.files);
            return Ok(());
        }
        let parent = folder_of(&self.target);
        if fs::symlink_metadata(&self.target).is_err() {
            set_folder_times(stage, folders);
            let stage = self.folder.keep();
            if let Err(e) = fs::rename(&stage, &self.target) {
                // What is left would be found by the next run; better not to leave it.
                let _ = fs::remove_dir_all(&stage);
                return Err(Error::io("rename", &self.target, e));
            }
            self.made.keep();
            told(&self.files);
            return sync_folder(&parent);
        }
        // Asked again, and for everything, before the first name is given.
        check_free(&self.target, self.door, self.files.iter().map(PathBuf::as_path))?;
        for (folder, _) in folders {
            make_real_folder(&self.target, folder)?;
        }
        for file in &self.files {
            let to = self.target.join(file);
            if let Some(folder) = file.parent() {
                make_real_folder(&self.target, folder)?;
            }
            fs::rename(stage.join(file), &to).map_err(|e| Error::io("rename", &to, e))?;
        }
        set_folder_times(&self.target, folders);
        drop(self.folder);
        self.made.keep();
        told(&self.files);
        sync_folder(&self.target)
    }

    /// Gives all files to another place: every one, or none that was not there.
    fn hand_over(&self, depot: &dyn Depot) -> Result<()> {
        check_free(&self.target, self.door, self.files.iter().map(PathBuf::as_path))?;
        for (index, file) in self.files.iter().enumerate() {
            let from = self.folder.path().join(file);
            if let Err(e) = hand_over(depot, &from, &self.target.join(file), self.door.replace) {
                for given in self.files[..index].iter().filter(|_| !self.door.replace) {
                    depot.remove(&native::text(self.target.join(given)))?;
                }
                return Err(e);
            }
        }
        Ok(())
    }
}

/// Fails unless all of `files` (relative paths) can be put into the folder `target`.
///
/// # Errors
/// [`Error::Exists`] with the first that is there already, [`Error::IsSource`] with the first that is read.
pub fn check_free<'b>(target: &Path, door: Door<'_>, files: impl Iterator<Item = &'b Path>) -> Result<()> {
    let depot = door.guard.depot(target);
    for path in files.map(|file| target.join(file)) {
        if let Some(depot) = &depot {
            check_far(depot.as_ref(), &path, door, 0, 0)?;
            continue;
        }
        door.guard.check(&path)?;
        if fs::symlink_metadata(&path).is_ok_and(|m| m.is_dir() || !door.replace) {
            return Err(Error::Exists { path });
        }
    }
    Ok(())
}

/// Makes the folder `path` below `root` name by name, and refuses to go through anything that is not a real folder.
fn make_real_folder(root: &Path, path: &Path) -> Result<()> {
    let mut whole = root.to_owned();
    for name in path.components() {
        whole.push(name);
        match fs::symlink_metadata(&whole) {
            Ok(meta) if meta.is_dir() => {}
            Ok(_) => return Err(Error::Exists { path: whole }),
            Err(_) => fs::create_dir(&whole).map_err(|e| Error::io("make folder", &whole, e))?,
        }
    }
    Ok(())
}

/// Sets the folders' times, the deepest first, because making a file in a folder changes the folder's time.
fn set_folder_times(root: &Path, folders: &[(PathBuf, Option<i64>)]) {
    for (folder, modified) in folders.iter().rev() {
        if let Some(time) = modified.and_then(time) {
            // A time that cannot be set is not worth failing for.
            let _ = os::touch_folder(&root.join(folder), time);
        }
    }
}

fn time(seconds: i64) -> Option<SystemTime> {
    match u64::try_from(seconds) {
        Ok(after) => SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(after)),
        Err(_) => SystemTime::UNIX_EPOCH.checked_sub(Duration::from_secs(seconds.unsigned_abs())),
    }
}
