//! Which files a run reads: none of them ever becomes a target, however it is spelled.

use crate::error::{Error, Result};
use std::collections::HashSet;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Component, Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// The longest text file that is read as a whole: lists, recipes, plans, descriptions of drives.
const MOST_TEXT: u64 = 64 << 20;

/// Device and inode: what a file is, whatever it is called. Of a device the number of the device itself.
type Identity = (u64, u64);

/// Knows every file that a run reads. Files are compared by device and inode, so that hard links, symbolic links and
/// other spellings of a path are the same file.
#[derive(Debug, Default)]
pub struct Guard {
    files: Mutex<HashSet<Identity>>,
    folders: Mutex<Vec<PathBuf>>,
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
    /// Opens a file for reading, and knows it from now on. Pipes, sockets and terminals are refused at once.
    ///
    /// # Errors
    /// [`Error::Io`]; [`Error::NotUnderstood`] for what has no bytes at offsets.
    pub fn open(&self, path: &Path) -> Result<(File, Metadata)> {
        // A pipe that nobody writes to would keep an ordinary open waiting.
        let nonblocking = rustix::fs::OFlags::NONBLOCK.bits() as i32;
        let opened = OpenOptions::new().read(true).custom_flags(nonblocking).open(path);
        let file = match opened {
            Ok(file) => file,
            // A socket cannot be opened at all.
            Err(e) => match fs::metadata(path) {
                Ok(meta) if odd_kind(&meta).is_some() => return Err(odd(&meta)),
                _ => return Err(Error::io("open", path, e)),
            },
        };
        let meta = file.metadata().map_err(|e| Error::io("open", path, e))?;
        if odd_kind(&meta).is_some() {
            return Err(odd(&meta));
        }
        if meta.is_dir() {
            let why = std::io::Error::new(ErrorKind::IsADirectory, "it is a folder");
            return Err(Error::io("open", path, why));
        }
        self.reads(&meta);
        Ok((file, meta))
    }

    /// Knows a file by what the system says of it.
    pub fn reads(&self, meta: &Metadata) {
        self.files.lock().unwrap_or_else(PoisonError::into_inner).insert(identity(meta));
    }

    /// Knows a folder that is read as a whole: nothing is extracted into it.
    pub fn reads_folder(&self, path: &Path) {
        if let Ok(whole) = fs::canonicalize(path) {
            self.folders.lock().unwrap_or_else(PoisonError::into_inner).push(whole);
        }
    }

    /// The bytes of a small file, known from now on.
    ///
    /// # Errors
    /// [`Error::Io`], [`Error::Limit`].
    pub fn read(&self, path: &Path) -> Result<Vec<u8>> {
        let (file, meta) = self.open(path)?;
        if meta.len() > MOST_TEXT {
            return Err(Error::Limit { what: "a file that is read as a whole", asked: meta.len(), limit: MOST_TEXT });
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
    pub fn knows(&self, meta: &Metadata) -> bool {
        self.files.lock().unwrap_or_else(PoisonError::into_inner).contains(&identity(meta))
    }

    /// Fails if `target` is a file that is read.
    ///
    /// # Errors
    /// [`Error::IsSource`].
    pub fn check(&self, target: &Path) -> Result<()> {
        let known = |meta: std::io::Result<Metadata>| meta.is_ok_and(|meta| self.knows(&meta));
        match known(fs::metadata(target)) || known(fs::symlink_metadata(target)) {
            true => Err(Error::IsSource { path: target.to_owned() }),
            false => Ok(()),
        }
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

fn identity(meta: &Metadata) -> Identity {
    let kind = meta.file_type();
    match kind.is_block_device() || kind.is_char_device() {
        true => (u64::MAX, meta.rdev()),
        false => (meta.dev(), meta.ino()),
    }
}

/// What has no bytes at offsets, in words.
pub fn odd_kind(meta: &Metadata) -> Option<&'static str> {
    let kind = meta.file_type();
    if kind.is_fifo() {
        Some("a pipe (FIFO)")
    } else if kind.is_socket() {
        Some("a socket")
    } else if kind.is_char_device() {
        Some("a character device")
    } else {
        None
    }
}

fn odd(meta: &Metadata) -> Error {
    let what = odd_kind(meta).unwrap_or_default();
    Error::NotUnderstood { seems: format!("it is {what}, which has no bytes to look at") }
}

/// The path with links and `..` resolved as far as it exists.
fn resolved(path: &Path) -> PathBuf {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let there = whole.ancestors().find_map(|a| Some((a, fs::canonicalize(a).ok()?)));
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

    #[test]
    fn a_file_is_known_by_every_name() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::write(at("a"), "kelp").unwrap();
        fs::write(at("b"), "kelp").unwrap();
        fs::hard_link(at("a"), at("hard")).unwrap();
        std::os::unix::fs::symlink("a", at("soft")).unwrap();
        let guard = Guard::default();
        assert_eq!(guard.read_text(&at("a")).unwrap(), "kelp");
        for name in ["a", "hard", "soft", "../x/../a"] {
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
        std::os::unix::fs::symlink("in", at("link")).unwrap();
        let guard = Guard::default();
        guard.reads_folder(&at("in"));
        for name in ["in", "in/deep/er", "link/x", "in/../in/y"] {
            assert!(guard.check_folder(&at(name)).is_err(), "{name}");
        }
        assert!(guard.check_folder(&at("in side")).is_ok() && guard.check_folder(&at("in/../out")).is_ok());
    }

    #[test]
    fn a_pipe_is_refused_at_once() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
        assert!(matches!(Guard::default().open(&path), Err(Error::NotUnderstood { .. })));
    }
}
