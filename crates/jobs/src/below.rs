//! What is below a folder on this machine: files, what cannot be looked into, and what is no file.

use decanter_core::Error;
use decanter_core::native;
use decanter_core::split;
use std::collections::HashMap;
use std::path::Path;
use walkdir::WalkDir;

/// Why a walk through folders could not go on somewhere.
pub(crate) fn walk_error(error: walkdir::Error) -> Error {
    let path = error.path().map(Path::to_owned);
    let told = error.to_string();
    let source = error.into_io_error().unwrap_or_else(|| std::io::Error::other(told));
    Error::Io { op: "read", path, offset: None, source }
}

/// What was found below a folder, in the order of names.
#[derive(Default)]
pub(crate) struct Below {
    /// The files; of a split image only the first part.
    pub(crate) files: Vec<String>,
    /// What could not be looked into, and why.
    pub(crate) failed: Vec<(String, Error)>,
    /// Pipes, sockets and devices: what each is.
    pub(crate) passed: Vec<(String, &'static str)>,
}

impl Below {
    /// Looks through `folder`. Links in it are not followed.
    pub(crate) fn of(folder: &str) -> Self {
        let mut below = Self::with_parts(folder);
        below.leave_out_later_parts();
        below
    }

    /// The same, with every part of split images.
    pub(crate) fn with_parts(folder: &str) -> Self {
        let mut below = Self::default();
        for entry in WalkDir::new(native::path(folder)).sort_by_file_name() {
            let entry = match entry {
                Ok(entry) => entry,
                Err(e) => {
                    let path = e.path().map_or_else(|| native::path(folder), Path::to_owned);
                    let error = walk_error(e);
                    below.failed.push((native::text(&path), error));
                    continue;
                }
            };
            let path = native::text(entry.path());
            if entry.file_type().is_file() {
                below.files.push(path);
            } else if let Some(kind) = entry.metadata().ok().and_then(|meta| decanter_core::guard::odd_kind(&meta)) {
                below.passed.push((path, kind));
            }
        }
        below
    }

    fn leave_out_later_parts(&mut self) {
        let split = |path: &str| -> (String, String) {
            let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
            (folder.to_owned(), name.to_owned())
        };
        let mut siblings: HashMap<String, Vec<String>> = HashMap::new();
        for path in self.files.iter().filter(|p| split::is_numbered(p)) {
            let (folder, name) = split(path);
            siblings.entry(folder).or_default().push(name);
        }
        self.files.retain(|path| {
            let (folder, name) = split(path);
            let parts = siblings.get(&folder).and_then(|names| split::parts(&name, names));
            parts.is_none_or(|parts| parts[0] == name)
        });
    }
}
