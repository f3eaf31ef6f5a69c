//! The file systems of this machine.

use decanter_core::source::{FileSource, PathSource, SourceRef};
use decanter_core::store::{Met, MetKind, Store};
use decanter_core::{Error, Guard, Result, native, os};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use walkdir::WalkDir;

/// This machine: every file that is opened is known to the guard, which lets nothing write to it.
pub(crate) struct Files<'a>(pub(crate) &'a Guard);

impl Store for Files<'_> {
    fn has(&self, _: &str) -> bool {
        true
    }

    fn is_folder(&self, path: &str) -> Result<bool> {
        let path = native::path(path);
        std::fs::metadata(&path).map(|meta| meta.is_dir()).map_err(|e| Error::io("open", &path, e))
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        Ok(Arc::new(FileSource::open(&native::path(path), self.0)?))
    }

    fn open_later(&self, path: &str) -> Result<SourceRef> {
        let path = native::path(path);
        let meta = std::fs::symlink_metadata(&path).map_err(|e| Error::io("read", &path, e))?;
        Ok(Arc::new(PathSource::new(&path, &meta, self.0)?))
    }

    fn names(&self, folder: &str, most: usize) -> Vec<String> {
        let folder = native::path(if folder.is_empty() { "." } else { folder });
        let read = std::fs::read_dir(folder).into_iter().flatten().flatten();
        read.take(most).map(|e| native::text(e.file_name())).collect()
    }

    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        let root = native::path(folder);
        self.0.reads_folder(&root);
        let below = |path: &Path| native::text(path.strip_prefix(&root).unwrap_or(path));
        for entry in WalkDir::new(&root).min_depth(1).sort_by_file_name() {
            let (path, kind) = match entry {
                Ok(entry) => (entry.path().to_owned(), kind_of(&entry)),
                Err(e) if e.depth() > 0 => (e.path().unwrap_or(&root).to_owned(), MetKind::Closed(walk_error(e))),
                Err(e) => return Err(walk_error(e)),
            };
            met(Met { path: native::text(&path), below: below(&path), kind, listed: None })?;
        }
        Ok(())
    }

    fn local(&self, path: &str) -> Option<PathBuf> {
        Some(native::path(path))
    }
}

fn kind_of(entry: &walkdir::DirEntry) -> MetKind {
    let kind = entry.file_type();
    if kind.is_dir() {
        return MetKind::Folder;
    }
    if kind.is_file() {
        return MetKind::File;
    }
    if kind.is_symlink() {
        return match std::fs::read_link(entry.path()) {
            Ok(target) => MetKind::Link(native::text(target)),
            Err(e) => MetKind::Closed(Error::io("read", entry.path(), e)),
        };
    }
    MetKind::Odd(os::odd_kind(kind).unwrap_or("no file"))
}

/// Why a walk through folders could not go on somewhere.
fn walk_error(error: walkdir::Error) -> Error {
    let path = error.path().map(Path::to_owned);
    let told = error.to_string();
    let source = error.into_io_error().unwrap_or_else(|| std::io::Error::other(told));
    Error::Io { op: "read", path, offset: None, source }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[cfg(unix)]
    #[test]
    fn everything_below_a_folder_is_met_and_links_are_not_followed() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir(at("b")).unwrap();
        std::fs::write(at("b/one"), "1").unwrap();
        std::fs::write(at("a"), "2").unwrap();
        std::os::unix::fs::symlink("..", at("c")).unwrap();
        let _socket = std::os::unix::net::UnixListener::bind(at("d")).unwrap();
        let guard = Guard::default();
        let files = Files(&guard);
        let mut met = Vec::new();
        let root = native::text(folder.path());
        files
            .walk(&root, &mut |m| {
                assert_eq!(m.path, format!("{root}/{}", m.below));
                met.push(format!("{} {:?}", m.below, m.kind));
                Ok(())
            })
            .unwrap();
        assert_eq!(met, ["a File", "b Folder", "b/one File", "c Link(\"..\")", "d Odd(\"a socket\")"]);
        assert!(guard.check_folder(&at("b/new")).is_err(), "nothing is extracted into what is read");
        assert!(files.is_folder(&root).unwrap() && !files.is_folder(&format!("{root}/a")).unwrap());
        assert!(matches!(files.is_folder(&format!("{root}/gone")), Err(Error::Io { .. })));
        assert!(files.walk(&format!("{root}/gone"), &mut |_| Ok(())).is_err());
        let later = files.open_later(&format!("{root}/a")).unwrap();
        assert!(later.len() == 1 && guard.check(&at("a")).is_err(), "its file is known before it is opened");
    }
}
