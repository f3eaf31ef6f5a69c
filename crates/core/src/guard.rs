//! Which files a run reads: none of them ever becomes a target, however it is spelled.

use crate::depot::Depot;
use crate::error::{Error, Result};
use crate::native;
use crate::os::{self, Facts, Identity, Kind};
use crate::trail::Trail;
use std::collections::HashSet;
use std::fs::{File, Metadata};
use std::io::{ErrorKind, Read};
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// The longest text file that is read as a whole: lists, recipes, plans, descriptions of drives.
const MOST_TEXT: u64 = 64 << 20;

/// Knows every file that a run reads. Files are compared by what the system knows them by, so that hard links, symbolic links and
/// other spellings of a path are the same file.
#[derive(Debug, Default)]
pub struct Guard {
    files: Mutex<HashSet<Identity>>,
    folders: Mutex<Vec<PathBuf>>,
    trail: Option<Arc<Trail>>,
    depots: Vec<Arc<dyn Depot>>,
}

/// One way out: what is never touched, and whether anything else that is there may be replaced.
#[derive(Debug, Clone, Copy)]
pub struct Door<'a> {
    /// What the run reads.
    pub guard: &'a Guard,
    /// Whether targets that exist are replaced.
    pub replace: bool,
}

impl Guard {
    /// One that also notes what is read and written, for who asks afterwards.
    pub fn with_trail(trail: Option<Arc<Trail>>) -> Self {
        Self { trail, ..Self::default() }
    }

    /// The same with a place that outputs can go to.
    #[must_use]
    pub fn and_depot(mut self, depot: Arc<dyn Depot>) -> Self {
        self.depots.push(depot);
        self
    }

    /// The place that `target` is an address of.
    pub(crate) fn depot(&self, target: &Path) -> Option<Arc<dyn Depot>> {
        let text = native::text(target);
        self.depots.iter().find(|depot| depot.has(&text)).cloned()
    }

    /// Where what is written is noted.
    pub(crate) fn trail(&self) -> Option<Arc<Trail>> {
        self.trail.clone()
    }

    /// Opens a file for reading, and knows it from now on. Pipes, sockets and terminals are refused at once.
    ///
    /// # Errors
    /// [`Error::Io`]; [`Error::NotUnderstood`] for what has no bytes at offsets.
    pub fn open(&self, path: &Path) -> Result<(File, Facts)> {
        let file = match os::open_to_read(path) {
            Ok(file) => file,
            // A socket cannot be opened at all, nor a folder everywhere.
            Err(e) => match os::facts_at(path, true).map(|facts| facts.kind) {
                Ok(Kind::Odd(odd)) => return Err(has_no_bytes(odd)),
                Ok(Kind::Folder) => return Err(is_folder(path)),
                _ => return Err(Error::io("open", path, e)),
            },
        };
        let facts = os::facts(&file).map_err(|e| Error::io("open", path, e))?;
        match facts.kind {
            Kind::Odd(odd) => return Err(has_no_bytes(odd)),
            Kind::Folder => return Err(is_folder(path)),
            Kind::File | Kind::Device => {}
        }
        self.insert(facts.identity);
        self.trail.iter().for_each(|trail| trail.reads(path));
        Ok((file, facts))
    }

    /// Notes that something is read that is not on this machine.
    pub fn reads_far(&self, address: &str) {
        self.trail.iter().for_each(|trail| trail.reads(Path::new(address)));
    }

    /// Knows the file at `path`, of which the system says `meta`.
    ///
    /// # Errors
    /// [`Error::Io`] where the system does not say which file it is.
    pub fn reads(&self, path: &Path, meta: &Metadata) -> Result<()> {
        self.insert(os::identity_at(path, meta).map_err(|e| Error::io("open", path, e))?);
        Ok(())
    }

    /// Knows the file at `path`, if there is one.
    ///
    /// # Errors
    /// As [`Guard::reads`].
    pub fn reads_if_there(&self, path: &Path) -> Result<()> {
        match std::fs::metadata(path) {
            Ok(meta) => self.reads(path, &meta),
            Err(_) => Ok(()),
        }
    }

    fn insert(&self, identity: Identity) {
        self.files.lock().unwrap_or_else(PoisonError::into_inner).insert(identity);
    }

    /// Knows a folder that is read as a whole: nothing is extracted into it.
    pub fn reads_folder(&self, path: &Path) {
        self.folders.lock().unwrap_or_else(PoisonError::into_inner).push(resolved(path));
    }

    /// The bytes of a small file, known from now on.
    ///
    /// # Errors
    /// [`Error::Io`], [`Error::Limit`].
    pub fn read(&self, path: &Path) -> Result<Vec<u8>> {
        let (file, facts) = self.open(path)?;
        if facts.len > MOST_TEXT {
            return Err(Error::Limit { what: "a file that is read as a whole", asked: facts.len, limit: MOST_TEXT });
        }
        let mut bytes = Vec::new();
        file.take(MOST_TEXT).read_to_end(&mut bytes).map_err(|e| Error::io("read", path, e))?;
        Ok(bytes)
    }

    /// The text of a small file, known from now on.
    ///
    /// # Errors
    /// As [`Guard::read`]; [`Error::Io`] for what is no UTF-8.
    pub fn read_text(&self, path: &Path) -> Result<String> {
        let invalid = |_| Error::io("read", path, std::io::Error::new(ErrorKind::InvalidData, "it is no UTF-8 text"));
        String::from_utf8(self.read(path)?).map_err(invalid)
    }

    /// Whether this file is one that is read.
    pub fn knows(&self, facts: &Facts) -> bool {
        self.files.lock().unwrap_or_else(PoisonError::into_inner).contains(&facts.identity)
    }

    /// Fails if `target` is a file that is read.
    ///
    /// # Errors
    /// [`Error::IsSource`]; [`Error::Io`] where something is there and the system does not say which file it is.
    pub fn check(&self, target: &Path) -> Result<()> {
        for follow in [true, false] {
            match os::facts_at(target, follow) {
                Ok(facts) if self.knows(&facts) => return Err(Error::IsSource { path: target.to_owned() }),
                Err(e) if !follow && e.kind() != ErrorKind::NotFound && std::fs::symlink_metadata(target).is_ok() => {
                    return Err(Error::io("open", target, e));
                }
                // Another file; or nothing, behind a link or at all; or a place that whoever writes there is told of.
                Ok(_) | Err(_) => {}
            }
        }
        Ok(())
    }

    /// Fails if `target` is a folder that is read, or lies in one.
    ///
    /// # Errors
    /// [`Error::IsSource`], [`Error::InSource`].
    pub fn check_folder(&self, target: &Path) -> Result<()> {
        self.check(target)?;
        let whole = resolved(target);
        let folders = self.folders.lock().unwrap_or_else(PoisonError::into_inner);
        match folders.iter().find(|folder| whole.starts_with(folder)) {
            Some(folder) if *folder == whole => Err(Error::IsSource { path: target.to_owned() }),
            Some(folder) => Err(Error::InSource { path: target.to_owned(), folder: folder.clone() }),
            None => Ok(()),
        }
    }
}

fn has_no_bytes(what: &str) -> Error {
    Error::NotUnderstood { seems: format!("it is {what}, which has no bytes to look at") }
}

fn is_folder(path: &Path) -> Error {
    Error::io("open", path, std::io::Error::new(ErrorKind::IsADirectory, "it is a folder"))
}

/// The path with links and `..` resolved as far as it exists.
fn resolved(path: &Path) -> PathBuf {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let there = whole.ancestors().find_map(|a| Some((a, os::resolved(a).ok()?)));
    let Some((there, real)) = there else { return whole };
    let mut path = real;
    for part in whole.strip_prefix(there).unwrap_or(Path::new("")).components() {
        match part {
            Component::ParentDir => {
                path.pop();
            }
            part => path.push(part),
        }
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    #[test]
    fn a_file_is_known_by_every_name() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::write(at("a"), "kelp").unwrap();
        fs::write(at("b"), "kelp").unwrap();
        fs::hard_link(at("a"), at("hard")).unwrap();
        // Not everybody may make links everywhere.
        let linked = os::link("a".as_ref(), &at("soft")).is_ok() && fs::read(at("soft")).is_ok();
        let guard = Guard::default();
        assert_eq!(guard.read_text(&at("a")).unwrap(), "kelp");
        for name in ["a", "hard", "../x/../a", "soft"].into_iter().take(if linked { 4 } else { 3 }) {
            let path = if name.contains('/') {
                folder.path().join("..").join(folder.path().file_name().unwrap()).join("a")
            } else {
                at(name)
            };
            assert!(matches!(guard.check(&path), Err(Error::IsSource { .. })), "{name}");
        }
        assert!(guard.check(&at("b")).is_ok() && guard.check(&at("new")).is_ok());
    }

    #[test]
    fn nothing_is_extracted_into_what_is_read() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir(at("in")).unwrap();
        let linked = os::link("in".as_ref(), &at("link")).is_ok() && fs::read_dir(at("link")).is_ok();
        let guard = Guard::default();
        guard.reads_folder(&at("in"));
        for name in ["in", "in/deep/er", "in/../in/y", "link/x"].into_iter().take(if linked { 4 } else { 3 }) {
            assert!(guard.check_folder(&at(name)).is_err(), "{name}");
        }
        assert!(guard.check_folder(&at("in side")).is_ok() && guard.check_folder(&at("in/../out")).is_ok());
    }

    #[cfg(unix)]
    #[test]
    fn a_pipe_is_refused_at_once() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
        assert!(matches!(Guard::default().open(&path), Err(Error::NotUnderstood { .. })));
    }
}
