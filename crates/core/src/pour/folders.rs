//! Where a target will be: whether it can be there, and the folders on the way.

use crate::depot::Depot;
use crate::error::{Error, Result};
use crate::guard::Door;
use crate::native;
use crate::os;
use std::fs;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// Folders that were made on the way to a target. Dropped before they are kept, those that are empty go again.
#[derive(Debug, Default)]
pub(super) struct Made(Vec<PathBuf>);

impl Made {
    /// Makes the folder that `target` will stand in.
    pub(super) fn for_file(target: &Path) -> Result<Self> {
        Self::folder(&folder_of(target))
    }

    /// Makes a folder and those above it.
    pub(super) fn folder(folder: &Path) -> Result<Self> {
        let mut missing: Vec<&Path> =
            folder.ancestors().take_while(|a| !a.as_os_str().is_empty() && fs::metadata(a).is_err()).collect();
        missing.reverse();
        let mut made = Self::default();
        for path in missing {
            match fs::create_dir(path) {
                Ok(()) => made.0.push(path.to_owned()),
                Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
                Err(e) => return Err(Error::io("make folder", path, e)),
            }
        }
        Ok(made)
    }

    /// They have something in them now.
    pub(super) fn keep(mut self) {
        self.0.clear();
    }
}

impl Drop for Made {
    fn drop(&mut self) {
        for path in self.0.iter().rev() {
            // Whatever somebody put there in the meantime stays.
            let _ = fs::remove_dir(path);
        }
    }
}

/// Makes a folder and those above it, unless it is there.
///
/// # Errors
/// [`Error::Io`] where it cannot be made.
pub fn make_folder(folder: &Path) -> Result<()> {
    Made::folder(folder)?.keep();
    match fs::metadata(folder) {
        Ok(meta) if meta.is_dir() => Ok(()),
        Ok(_) => Err(Error::Exists { path: folder.to_owned() }),
        Err(e) => Err(Error::io("make folder", folder, e)),
    }
}

/// The folder a target is in.
pub(crate) fn folder_of(target: &Path) -> PathBuf {
    match target.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
        _ => PathBuf::from("."),
    }
}

/// The folder that is there already, and in which everything else on the way to `path` would be made. What goes to another
/// place is made complete in the one for temporary files.
fn holder(path: &Path) -> PathBuf {
    if is_address(path) {
        return std::env::temp_dir();
    }
    let there = path.ancestors().find(|a| !a.as_os_str().is_empty() && fs::metadata(a).is_ok());
    there.map_or_else(|| PathBuf::from("."), Path::to_owned)
}

/// Fails for an address of something that is not on this machine.
///
/// # Errors
/// [`Error::Usage`].
pub(super) fn check_local(target: &Path) -> Result<()> {
    match is_address(target) {
        true => {
            let text = native::text(target);
            Err(Error::Usage(format!(
                "\"{text}\" is an address: what is written here is a file or folder on this machine"
            )))
        }
        false => Ok(()),
    }
}

/// Whether a path stands for something that is not on this machine. Paths that are put together have one slash less.
fn is_address(path: &Path) -> bool {
    let text = native::text(path);
    ["http:/", "https:/", "s3:/"].iter().any(|scheme| text.starts_with(scheme))
}

/// Fails unless a file could go to another place now.
pub(super) fn check_far(depot: &dyn Depot, target: &Path, door: Door<'_>, len: u64, needed: u64) -> Result<()> {
    let text = native::text(target);
    if depot.reads(&text) {
        return Err(Error::IsSource { path: target.to_owned() });
    }
    if depot.is_there(&text)? && !door.replace {
        return Err(Error::Exists { path: target.to_owned() });
    }
    check_room(target, needed, len)
}

/// Fails unless `target` could be written now: it is nothing that is read, not there unless it may be replaced, its
/// folder is there or can be made, and there is room for `needed` bytes, `len` of them in this file.
///
/// # Errors
/// [`Error::IsSource`], [`Error::Exists`], [`Error::NoSpace`], [`Error::FileTooLarge`]; [`Error::Io`] for a folder
/// that cannot be written.
pub fn check_target(target: &Path, door: Door<'_>, len: u64, needed: u64) -> Result<()> {
    if let Some(depot) = door.guard.depot(target) {
        return check_far(depot.as_ref(), target, door, len, needed);
    }
    check_local(target)?;
    if target.file_name().is_none() {
        return Err(Error::Usage(format!("\"{}\" is no name for a file", native::text(target))));
    }
    door.guard.check(target)?;
    let there = fs::symlink_metadata(target);
    if there.is_ok_and(|meta| meta.is_dir() || !door.replace) {
        return Err(Error::Exists { path: target.to_owned() });
    }
    check_writable(&folder_of(target))?;
    check_room(&folder_of(target), needed, len)
}

/// Fails unless something could be made in `folder`, or `folder` itself.
///
/// # Errors
/// [`Error::Io`].
pub fn check_writable(folder: &Path) -> Result<()> {
    let holder = holder(folder);
    if !holder.is_dir() {
        let why = std::io::Error::new(ErrorKind::NotADirectory, "it is no folder");
        return Err(Error::io("write", &holder, why));
    }
    os::may_write(&holder).map_err(|e| Error::io("write", &holder, e))
}

/// Fails unless `folder`, or where it will be made, has room for `needed` bytes, the largest file of them having
/// `largest`.
///
/// # Errors
/// [`Error::NoSpace`], [`Error::FileTooLarge`], or what asking the file system fails with.
pub fn check_room(folder: &Path, needed: u64, largest: u64) -> Result<()> {
    let folder = holder(folder);
    if let Some(most) = os::largest_file(&folder).filter(|&most| largest > most) {
        return Err(Error::FileTooLarge { folder, needed: largest, most });
    }
    let free = os::free_bytes(&folder).map_err(|e| Error::io("ask for free space", &folder, e))?;
    match free.filter(|free| needed > *free) {
        Some(free) => Err(Error::NoSpace { folder, needed, free }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::guard::Guard;

    #[test]
    fn folders_on_the_way_go_again_unless_kept() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("a/b/c.iso");
        drop(Made::for_file(&target).unwrap());
        assert!(!folder.path().join("a").exists());
        let made = Made::for_file(&target).unwrap();
        fs::write(folder.path().join("a/x"), "x").unwrap();
        drop(made);
        assert!(folder.path().join("a/x").exists() && !folder.path().join("a/b").exists());
        Made::for_file(&target).unwrap().keep();
        assert!(folder.path().join("a/b").exists());
    }

    #[test]
    fn impossible_places_are_refused() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("file"), "x").unwrap();
        let guard = Guard::default();
        let door = Door { guard: &guard, replace: true };
        let check = |name: &str| check_target(&folder.path().join(name), door, 1, 1);
        assert!(check("new/deep/x").is_ok() && check("file").is_ok());
        assert!(matches!(check("file/x"), Err(Error::Io { .. })));
        assert!(matches!(check_target(Path::new("/"), door, 1, 1), Err(Error::Usage(_))));
        let far_too_much = check_target(&folder.path().join("x"), door, 1, u64::MAX);
        match os::free_bytes(folder.path()).unwrap() {
            Some(_) => assert!(matches!(far_too_much, Err(Error::NoSpace { .. }))),
            None => assert!(far_too_much.is_ok(), "where nothing tells, writing does"),
        }
    }
}
