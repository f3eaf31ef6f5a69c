//! Names and locks of what is not finished yet. Whoever writes holds a lock on it; what nobody holds is left over from
//! a run that was killed.

use crate::error::{Error, Result};
use crate::native;
use crate::os::{self, is_held};
use crate::watch::{Notice, Watch};
use std::fs::{self, File};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};

/// What the names of unfinished files and folders end with.
pub(super) const SUFFIX: &str = ".part";
/// Characters of the target's name that its unfinished name shows.
const SHOWN: usize = 40;
/// Random characters before the suffix.
const RANDOM: usize = 6;

/// What the unfinished name of `target` begins with: hidden, short enough for any file system, and the same for no
/// other target in the folder.
pub(super) fn prefix(target: &Path) -> String {
    let name = target.file_name().unwrap_or_default();
    let short: String = name.to_string_lossy().chars().filter(|c| !c.is_control()).take(SHOWN).collect();
    format!(".{short}.{:08x}.", crc32fast::hash(name.as_encoded_bytes()))
}

/// Locks what this run is about to write.
///
/// # Errors
/// [`Error::Busy`] when another run has taken it for a leftover in the meantime.
pub(super) fn lock(file: &File, target: &Path) -> Result<()> {
    match os::hold(file).map_err(|e| Error::io("lock", target, e))? {
        true => Ok(()),
        false => Err(Error::Busy { path: target.to_owned() }),
    }
}

/// Looks for other runs onto the same target: what a killed one left is removed and told.
///
/// # Errors
/// [`Error::Busy`] when one is at work; [`Error::Io`].
pub(super) fn clear(folder: &Path, target: &Path, watch: &dyn Watch) -> Result<()> {
    let prefix = prefix(target);
    for path in unfinished(folder)?.into_iter().filter(|p| name_of(p).starts_with(&prefix)) {
        match is_held(&path) {
            true => return Err(Error::Busy { path: target.to_owned() }),
            false => {
                remove(&path)?;
                watch.notice(&Notice::new(format!(
                    "removed {}, left over from a run that was killed",
                    native::text(path)
                )));
            }
        }
    }
    Ok(())
}

/// Removes what runs that were killed have left of `target`, and tells it.
///
/// # Errors
/// [`Error::Busy`] when one is at work; [`Error::Io`].
pub fn clear_leftovers(target: &Path, watch: &dyn Watch) -> Result<()> {
    let folder = super::folders::folder_of(target);
    if folder.is_dir() { clear(&folder, target, watch) } else { Ok(()) }
}

/// Fails if another run has begun to write the same target while this one did.
///
/// # Errors
/// [`Error::Busy`], [`Error::Io`].
pub(super) fn check_alone(folder: &Path, own: &Path, target: &Path) -> Result<()> {
    let prefix = prefix(target);
    let other = |p: &PathBuf| p.file_name() != own.file_name() && name_of(p).starts_with(&prefix) && is_held(p);
    match unfinished(folder)?.iter().any(other) {
        true => Err(Error::Busy { path: target.to_owned() }),
        false => Ok(()),
    }
}

/// What runs that were killed have left in a folder: hidden files and folders whose names only Decanter gives.
///
/// # Errors
/// [`Error::Io`] when the folder cannot be read.
pub fn leftovers(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut found = unfinished(folder)?;
    found.retain(|path| !is_held(path));
    found.sort();
    Ok(found)
}

/// Removes what was left over.
///
/// # Errors
/// [`Error::Io`].
pub fn remove(path: &Path) -> Result<()> {
    let removed = match fs::symlink_metadata(path).map(|m| m.is_dir()) {
        Ok(true) => fs::remove_dir_all(path),
        _ => fs::remove_file(path),
    };
    match removed {
        Err(e) if e.kind() != ErrorKind::NotFound => Err(Error::io("remove", path, e)),
        _ => Ok(()),
    }
}

fn unfinished(folder: &Path) -> Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).map_err(|e| Error::io("read", folder, e))? {
        let entry = entry.map_err(|e| Error::io("read", folder, e))?;
        let name = entry.file_name();
        let is_ours = name.to_str().is_some_and(is_unfinished);
        if is_ours && entry.file_type().is_ok_and(|t| t.is_file() || t.is_dir()) {
            found.push(entry.path());
        }
    }
    Ok(found)
}

/// Whether a name is one that unfinished files and folders get: `.NAME.` 8 digits `.` 6 characters `.part`.
pub(super) fn is_unfinished(name: &str) -> bool {
    let parts = || {
        let rest = name.strip_prefix('.')?.strip_suffix(SUFFIX)?;
        let (rest, random) = rest.rsplit_once('.')?;
        let (_, sum) = rest.rsplit_once('.')?;
        Some((random, sum))
    };
    parts().is_some_and(|(random, sum)| {
        random.len() == RANDOM
            && random.bytes().all(|b| b.is_ascii_alphanumeric())
            && sum.len() == 8
            && sum.bytes().all(|b| b.is_ascii_hexdigit())
    })
}

pub(super) fn name_of(path: &Path) -> String {
    path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_names_are_leftovers() {
        let own = format!("{}a1B2c3.part", prefix(Path::new("x/Kelp Courier.iso")));
        assert!(is_unfinished(&own), "{own}");
        for name in ["film.part", ".film.part", ".a.b.c.part", ".x.0123456g.abcdef.part", ".x.01234567.abcde.part"] {
            assert!(!is_unfinished(name), "{name}");
        }
        assert_ne!(prefix(Path::new("a/one")), prefix(Path::new("a/two")));
        let long = |end: &str| "n".repeat(80) + end;
        assert_ne!(prefix(Path::new(&long("1"))), prefix(Path::new(&long("2"))));
    }

    #[test]
    fn what_is_held_is_no_leftover() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("out");
        let path = folder.path().join(format!("{}abcdef.part", prefix(&target)));
        let file = File::create(&path).unwrap();
        lock(&file, &target).unwrap();
        assert!(leftovers(folder.path()).unwrap().is_empty());
        assert!(matches!(clear(folder.path(), &target, &()), Err(Error::Busy { .. })));
        drop(file);
        assert_eq!(leftovers(folder.path()).unwrap(), std::slice::from_ref(&path));
        clear(folder.path(), &target, &()).unwrap();
        assert!(!path.exists());
    }
}
