//! Where sources come from: the file systems of this machine, and whatever else answers the same few questions.

use crate::source::SourceRef;
use crate::{Error, Result};
use std::path::PathBuf;

/// A place with files and folders that have paths, with `/` between names.
///
/// Paths are text: names of this machine in the reversible spelling of [`crate::native`], addresses elsewhere as they are.
pub trait Store: Send + Sync {
    /// Whether a path, as a user types it, is one of this store: by the scheme that it begins with.
    fn has(&self, path: &str) -> bool;

    /// Whether a folder stands at `path`; false for a file.
    ///
    /// # Errors
    /// [`Error::Io`] when there is neither, or it cannot be told.
    fn is_folder(&self, path: &str) -> Result<bool>;

    /// The bytes of a file.
    ///
    /// # Errors
    /// [`Error::Io`]; [`Error::NotUnderstood`] for what has no bytes at offsets.
    fn open(&self, path: &str) -> Result<SourceRef>;

    /// The same for one of many: nothing is kept open until its bytes are asked for.
    ///
    /// # Errors
    /// As [`Store::open`].
    fn open_later(&self, path: &str) -> Result<SourceRef> {
        self.open(path)
    }

    /// The names in a folder, at most `most` of them, in any order; none where that cannot be told.
    fn names(&self, folder: &str, most: usize) -> Vec<String>;

    /// Goes through everything below a folder: parents before what is in them, siblings by name. Links are not followed.
    /// What cannot be looked into is handed on as such.
    ///
    /// # Errors
    /// What `met` fails with, and [`Error::Io`] when the folder itself cannot be read.
    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()>;

    /// What a listing would say of a file now; `None` if there is none.
    ///
    /// # Errors
    /// When it cannot be told.
    fn listed(&self, path: &str) -> Result<Option<Listed>> {
        Ok(Some(Listed { len: self.open(path)?.len(), modified: 0, tag: None }))
    }

    /// The path on this machine, if it is one of this machine.
    fn local(&self, path: &str) -> Option<PathBuf>;
}

/// What a walk comes to.
#[derive(Debug)]
pub struct Met {
    /// Its whole path, as [`Store::open`] takes it.
    pub path: String,
    /// The path below the folder that is walked.
    pub below: String,
    /// What it is.
    pub kind: MetKind,
    /// Of a file: what a listing said of it, where the store has such listings.
    pub listed: Option<Listed>,
}

/// What a listing says of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// Length in bytes.
    pub len: u64,
    /// Nanoseconds since 1970.
    pub modified: i64,
    /// What changes with its bytes: its ETag.
    pub tag: Option<String>,
}

/// What stands at a path.
#[derive(Debug)]
pub enum MetKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link, with its target.
    Link(String),
    /// A pipe, socket or device: what, in words.
    Odd(&'static str),
    /// It cannot be looked into: why.
    Closed(Error),
}

/// The folder around `path`, empty for a name without one.
pub fn folder_of(path: &str) -> &str {
    match path.rsplit_once('/') {
        Some(("", _)) => "/",
        Some((folder, _)) => folder,
        None => "",
    }
}

/// The last name of a path.
pub fn name_of(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// The path of `name` in `folder`; that of the current folder is empty.
pub fn join(folder: &str, name: &str) -> String {
    match folder {
        "" => name.to_owned(),
        folder if folder.ends_with('/') => format!("{folder}{name}"),
        folder => format!("{folder}/{name}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_come_apart_and_together() {
        for (path, folder, name) in
            [("a", "", "a"), ("/a", "/", "a"), ("x/y/a", "x/y", "a"), ("pier://shelf/a", "pier://shelf", "a")]
        {
            assert_eq!((folder_of(path), name_of(path)), (folder, name));
            assert_eq!(join(folder, name), path);
        }
        assert_eq!(join("x/", "a"), "x/a");
    }
}
