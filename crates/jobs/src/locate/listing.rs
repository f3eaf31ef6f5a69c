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

/// What a folder of keys beside sources is called.
pub(super) const KEYS: &str = "keys";

impl Listing {
    /// The files in the folder of keys below `folder`; none where there is no such folder.
    pub(super) fn of_keys(folder: &str, store: &dyn Store) -> Option<Self> {
        let keys = store::join(folder, KEYS);
        if !store.is_folder(&keys).is_ok_and(|is_folder| is_folder) {
            return None;
        }
        let names = store.names(&keys, MOST_NEAR);
        let open = |name: &String| {
            let path = store::join(&keys, name);
            let is_file = store.is_folder(&path).is_ok_and(|is_folder| !is_folder);
            let source = if is_file { store.open(&path).ok()? } else { return None };
            (source.len() <= decanter_core::keyring::MOST_LIST_BYTES).then_some((path, name.clone(), source))
        };
        let mut files: Vec<_> = names.iter().filter_map(open).collect();
        files.sort_by(|a, b| a.0.cmp(&b.0));
        Some(Self { names: Arc::new(names), files })
    }

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
