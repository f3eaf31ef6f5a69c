//! Several files that get their names together. No file system renames two files at once: meanwhile a list of what is to be
//! named stands beside them, and whoever comes after a run that was killed in between finishes it.

use super::draft::{Draft, sync_folder};
use super::folders::folder_of;
use super::part::{self, prefix};
use crate::digest::{hex, unhex};
use crate::error::{Error, Result};
use crate::native;
use crate::watch::{Notice, Watch};
use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// The first line of a list.
const MAGIC: &str = "decanter names 1";
/// Bytes of a list that are read.
const MOST: u64 = 16 << 20;

/// Writes down what is to be named, if that is more than one file. All of them have to be on the disk by then. The list
/// is gone when it is dropped.
///
/// # Errors
/// [`Error::Io`].
pub(super) fn list(drafts: &[Draft]) -> Result<Option<NamedTempFile>> {
    let [first, _, ..] = drafts else { return Ok(None) };
    let folder = folder_of(first.target());
    // A place elsewhere takes whole files only, and what was not handed over is not there.
    if first.depot().is_some() {
        return Ok(None);
    }
    // Files in several folders have no place in common for a list.
    if drafts.iter().any(|d| folder_of(d.target()) != folder) {
        return Ok(None);
    }
    let name = |path: &Path| hex(native::text(path.file_name().unwrap_or_default()).as_bytes());
    let mut text = format!("{MAGIC}\n");
    for draft in drafts {
        text.push_str(&format!("{} {}\n", name(draft.temporary_path()), name(draft.target())));
    }
    let report = |e| Error::io("write", &folder, e);
    let mut file = tempfile::Builder::new()
        .prefix(&prefix(first.target()))
        .suffix(part::SUFFIX)
        .tempfile_in(&folder)
        .map_err(report)?;
    part::lock(file.as_file(), first.target())?;
    file.write_all(text.as_bytes()).and_then(|()| file.as_file().sync_all()).map_err(report)?;
    sync_folder(&folder)?;
    Ok(Some(file))
}

/// Gives the files their names that a run in `folder` had brought to the disk when it was killed, and tells it.
///
/// # Errors
/// [`Error::Io`].
pub fn finish_names(folder: &Path, watch: &dyn Watch) -> Result<()> {
    // A folder that is not there yet has nothing in it.
    if !folder.is_dir() {
        return Ok(());
    }
    for list in part::leftovers(folder)?.into_iter().filter(|p| p.is_file()) {
        let Some(pairs) = read(&list)? else { continue };
        let (mut named, mut kept) = (0, 0);
        for (from, to) in &pairs {
            let (from, to) = (folder.join(from), folder.join(to));
            if !from.is_file() {
                continue;
            }
            // Whatever a list says: nothing that is there is replaced for a run that is long over.
            if fs::symlink_metadata(&to).is_ok() {
                kept += 1;
                continue;
            }
            fs::rename(&from, &to).map_err(|e| Error::io("rename", &to, e))?;
            named += 1;
        }
        sync_folder(folder)?;
        part::remove(&list)?;
        if let Some((_, first)) = pairs.first().filter(|_| named + kept > 0) {
            let first = native::text(folder.join(first));
            let but = if kept > 0 {
                format!("; {kept} of its files were there already, and were kept")
            } else {
                String::new()
            };
            let text = format!("finished what a run that was killed had written: {first} and what belongs to it{but}");
            watch.notice(&Notice::new(text));
        }
    }
    Ok(())
}

/// Names before and after.
type Pairs = Vec<(PathBuf, PathBuf)>;

/// A list. `None` for what is none, or names anything that this program would not have named so.
fn read(path: &Path) -> Result<Option<Pairs>> {
    let report = |e| Error::io("read", path, e);
    let mut text = Vec::new();
    fs::File::open(path).and_then(|f| f.take(MOST).read_to_end(&mut text)).map_err(report)?;
    let Ok(text) = String::from_utf8(text) else { return Ok(None) };
    let mut lines = text.lines();
    if lines.next() != Some(MAGIC) {
        return Ok(None);
    }
    let name = |digits: &str| {
        let mut room = vec![0; digits.len() / 2];
        let name = native::path(str::from_utf8(unhex(digits, &mut room)?).ok()?);
        // Only names, as this program writes them: nothing leads out of the folder.
        let is_name = name.file_name() == Some(name.as_os_str());
        is_name.then_some(name)
    };
    let pairs = lines.map(|line| {
        let (from, to) = line.split_once(' ')?;
        let (from, to) = (name(from)?, name(to)?);
        let is_ours = from.to_str().is_some_and(part::is_unfinished) && part::name_of(&from).starts_with(&prefix(&to));
        is_ours.then_some((from, to))
    });
    Ok(pairs.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::guard::{Door, Guard};

    fn draft(path: &Path, replace: bool, content: &[u8]) -> Draft {
        let guard = Guard::default();
        let draft = Draft::new(path, Door { guard: &guard, replace }, 4, 4, &()).unwrap();
        draft.file().write_all(content).unwrap();
        draft
    }

    fn names(folder: &Path) -> Vec<String> {
        let mut names: Vec<String> =
            fs::read_dir(folder).unwrap().map(|e| native::text(e.unwrap().file_name())).collect();
        names.sort();
        names
    }

    /// A run that is killed after it has named so many of its files.
    fn killed(folder: &Path, replace: bool, named: usize) {
        let targets = ["disc.bin", "disc.cue", "disc.sub"].map(|n| folder.join(n));
        let drafts: Vec<Draft> = targets.iter().map(|t| draft(t, replace, b"new")).collect();
        let list = list(&drafts).unwrap().unwrap();
        for (index, draft) in drafts.into_iter().enumerate() {
            match index < named {
                true => draft.name().unwrap(),
                false => draft.abandon(),
            }
        }
        drop(list.keep().unwrap());
    }

    #[test]
    fn a_run_that_was_killed_between_two_names_is_finished() {
        for named in 0..=3 {
            let folder = tempfile::tempdir().unwrap();
            killed(folder.path(), false, named);
            assert_eq!(names(folder.path()).len(), 4, "three files and the list");
            finish_names(folder.path(), &()).unwrap();
            assert_eq!(names(folder.path()), ["disc.bin", "disc.cue", "disc.sub"], "after {named}");
            finish_names(folder.path(), &()).unwrap();
        }
    }

    #[test]
    fn what_somebody_else_made_meanwhile_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        killed(folder.path(), false, 1);
        fs::write(folder.path().join("disc.cue"), "another's").unwrap();
        finish_names(folder.path(), &()).unwrap();
        assert_eq!(fs::read(folder.path().join("disc.cue")).unwrap(), b"another's");
        assert_eq!(fs::read(folder.path().join("disc.sub")).unwrap(), b"new");
        // Not even what the run that was killed was to replace.
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("disc.sub"), "old").unwrap();
        killed(folder.path(), true, 1);
        finish_names(folder.path(), &()).unwrap();
        assert_eq!(fs::read(folder.path().join("disc.sub")).unwrap(), b"old");
    }

    #[test]
    fn a_run_that_is_at_work_and_what_is_no_list_are_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let drafts = [draft(&folder.path().join("a"), false, b"new"), draft(&folder.path().join("b"), false, b"new")];
        let held = list(&drafts).unwrap().unwrap();
        finish_names(folder.path(), &()).unwrap();
        assert_eq!(names(folder.path()).len(), 3, "it is held");
        drop((held, drafts));
        assert!(names(folder.path()).is_empty());
        for text in ["", "decanter names 1\n2e2e 61\n", "decanter names 1\n612f62 61\n", "decanter names 1\nxx yy\n"] {
            let path = folder.path().join(".x.00000000.abcdef.part");
            fs::write(&path, text).unwrap();
            assert!(read(&path).unwrap().is_none(), "{text:?}");
            fs::remove_file(&path).unwrap();
        }
        assert!(list(&[draft(&folder.path().join("one"), false, b"x")]).unwrap().is_none(), "one needs none");
    }
}
