//! Files that stand in a folder of their own name as numbered parts, `NAME.nsp/00`, `01` and so on: the console's own file
//! system joins them, and so does every command here.

use decanter_core::source::SourceRef;
use decanter_core::store::{self, Listed, Met, MetKind, Store};
use decanter_core::view::Concat;
use decanter_core::{Error, Guard, Result};
use std::path::PathBuf;
use std::sync::Arc;

/// Extensions of files that are split so.
const EXTENSIONS: [&str; 2] = ["nsp", "xci"];
/// Parts that two digits have room for.
const MOST_PARTS: usize = 100;

/// A store in which such folders are files.
pub(crate) struct Joining<'a>(pub(crate) Arc<dyn Store + 'a>, pub(crate) &'a Guard);

impl Joining<'_> {
    /// The parts of the file at `path`, if it is a folder with nothing but parts in it.
    fn parts(&self, path: &str) -> Result<Option<Vec<String>>> {
        let name = store::name_of(path.trim_end_matches('/'));
        let extension = name.rsplit_once('.').map_or("", |(_, e)| e);
        if !EXTENSIONS.iter().any(|e| extension.eq_ignore_ascii_case(e)) || !self.0.is_folder(path)? {
            return Ok(None);
        }
        let mut names = self.0.names(path, MOST_PARTS + 1);
        names.sort();
        let is_part = |(number, name): (usize, &String)| *name == format!("{number:02}");
        let are_parts = !names.is_empty() && names.len() <= MOST_PARTS && names.iter().enumerate().all(is_part);
        Ok(are_parts.then(|| names.iter().map(|name| store::join(path.trim_end_matches('/'), name)).collect()))
    }

    fn join(&self, parts: &[String], open: &dyn Fn(&str) -> Result<SourceRef>) -> Result<SourceRef> {
        let all = parts.iter().map(|part| open(part)).collect::<Result<Vec<_>>>()?;
        let first = all.first().map_or(0, |s| s.len());
        // A part that is shorter than the others would shift all that follows.
        if let Some(index) = all[..all.len() - 1].iter().position(|s| s.len() != first) {
            let (part, len) = (&parts[index], all[index].len());
            return Err(Error::Unreadable {
                why: format!("the part {part} has {len} bytes, the first one {first}: all but the last have the same"),
            });
        }
        Ok(Arc::new(Concat::new(all)?))
    }
}

impl Joining<'_> {
    /// Notes what is read that is not on this machine; what is on it notes itself.
    fn note(&self, path: &str) {
        if self.0.local(path).is_none() {
            self.1.reads_far(path);
        }
    }
}

impl Store for Joining<'_> {
    fn has(&self, path: &str) -> bool {
        self.0.has(path)
    }

    fn is_folder(&self, path: &str) -> Result<bool> {
        Ok(self.0.is_folder(path)? && self.parts(path)?.is_none())
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        self.note(path);
        match self.parts(path) {
            Ok(Some(parts)) => self.join(&parts, &|part| self.0.open(part)),
            _ => self.0.open(path),
        }
    }

    fn open_later(&self, path: &str) -> Result<SourceRef> {
        self.note(path);
        match self.parts(path) {
            Ok(Some(parts)) => self.join(&parts, &|part| self.0.open_later(part)),
            _ => self.0.open_later(path),
        }
    }

    fn names(&self, folder: &str, most: usize) -> Vec<String> {
        self.0.names(folder, most)
    }

    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        let mut joined: Option<String> = None;
        self.0.walk(folder, &mut |one| {
            if joined.as_ref().is_some_and(|folder| one.path.starts_with(folder.as_str())) {
                return Ok(());
            }
            match one.kind {
                MetKind::Folder if self.parts(&one.path)?.is_some() => {
                    joined = Some(format!("{}/", one.path));
                    met(Met { kind: MetKind::File, ..one })
                }
                _ => met(one),
            }
        })
    }

    fn listed(&self, path: &str) -> Result<Option<Listed>> {
        self.0.listed(path)
    }

    fn local(&self, path: &str) -> Option<PathBuf> {
        self.0.local(path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::locate::Files;
    use decanter_core::{Guard, native};

    #[test]
    fn numbered_parts_are_one_file() {
        let folder = tempfile::tempdir().unwrap();
        let whole = folder.path().join("Fogbell.nsp");
        std::fs::create_dir(&whole).unwrap();
        for (name, bytes) in [("00", &b"kelp"[..]), ("01", b"tide"), ("02", b"!")] {
            std::fs::write(whole.join(name), bytes).unwrap();
        }
        std::fs::write(folder.path().join("other.txt"), "x").unwrap();
        let guard = Guard::default();
        let store = Joining(Arc::new(Files(&guard)), &guard);
        let path = native::text(&whole);
        let read = |store: &Joining<'_>| {
            let source = store.open(&path)?;
            let mut bytes = vec![0; source.len() as usize];
            source.read_at(0, &mut bytes).map(|()| bytes)
        };
        assert!(!store.is_folder(&path).unwrap());
        assert_eq!(read(&store).unwrap(), b"kelptide!");
        let mut met = Vec::new();
        store
            .walk(&native::text(folder.path()), &mut |one| {
                met.push(one.below);
                Ok(())
            })
            .unwrap();
        assert_eq!(met, ["Fogbell.nsp", "other.txt"]);
        std::fs::write(whole.join("01"), "tid").unwrap();
        assert!(read(&store).unwrap_err().to_string().contains("has 3 bytes, the first one 4"));
        std::fs::rename(whole.join("01"), whole.join("03")).unwrap();
        assert!(store.is_folder(&path).unwrap(), "a part is missing: it is a folder like any other");
    }
}
