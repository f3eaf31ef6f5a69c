//! What stands in a folder: read once, however many sources are in it.

use crate::key_files;
use decanter_core::source::SourceRef;
use decanter_core::store::{self, Store};
use std::sync::Arc;

/// Key files and descriptions next to a source that are read; whoever has more keeps them in a folder of their own.
pub(super) const MOST_NEAR: usize = 500;

/// Files in a folder that is a source.
pub(super) const MOST_FILES: usize = 1 << 20;

/// What was found in a folder: read once, however many sources stand in it.
#[derive(Clone)]
pub(crate) struct Listing {
    pub(super) names: Arc<Vec<String>>,
    pub(super) files: Vec<(String, String, SourceRef)>,
}

impl Listing {
    pub(super) fn of(folder: &str, store: &dyn Store) -> Self {
        let names = store.names(folder, MOST_FILES);
        let mut files: Vec<(String, String, SourceRef)> = Vec::new();
        for name in names.iter().filter(|n| key_files::may_matter(n)).take(MOST_NEAR) {
            let path = store::join(folder, name);
            if let Ok(source) = store.open(&path)
                && source.len() <= decanter_core::keyring::MOST_LIST_BYTES
            {
                files.push((path, name.clone(), source));
            }
        }
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Self { names: Arc::new(names), files }
    }
}
