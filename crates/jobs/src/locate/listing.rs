//! What stands in a folder on this machine: read once, however many sources are in it.

use crate::key_files;
use decanter_core::source::{FileSource, Source, SourceRef};
use decanter_core::{Guard, native};
use std::path::Path;
use std::sync::Arc;

/// Key files and descriptions next to a source that are read; whoever has more keeps them in a folder of their own.
pub(super) const MOST_NEAR: usize = 500;

/// Files in a folder that is a source.
pub(super) const MOST_FILES: usize = 1 << 20;

/// What was found in a folder on this machine: read once, however many sources stand in it.
#[derive(Clone)]
pub(crate) struct Listing {
    pub(super) names: Arc<Vec<String>>,
    pub(super) files: Vec<(String, String, SourceRef)>,
}

pub(super) fn names_in(folder: &Path) -> Vec<String> {
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let read = std::fs::read_dir(folder).into_iter().flatten().flatten();
    read.take(MOST_FILES).map(|e| native::text(e.file_name())).collect()
}

impl Listing {
    pub(super) fn of(folder: &Path, guard: &Guard) -> Self {
        let names = names_in(folder);
        let mut files: Vec<(String, String, SourceRef)> = Vec::new();
        for name in names.iter().filter(|n| key_files::may_matter(n)).take(MOST_NEAR) {
            let path = folder.join(name);
            if let Ok(source) = FileSource::open(&path, guard)
                && source.len() <= decanter_core::keyring::MOST_LIST_BYTES
            {
                files.push((native::text(&path), name.clone(), Arc::new(source)));
            }
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Self { names: Arc::new(names), files }
    }
}
