//! One renaming, and what is on its way.

use crate::Setting;
use crate::cellar::scan::stamp;
use decanter_cellar::Place;
use decanter_core::{native, pour};
use std::path::{Path, PathBuf};

/// One renaming.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Step {
    pub(super) from: PathBuf,
    pub(super) to: PathBuf,
}

/// Takes a step, unless it was taken.
pub(super) fn take(from: &Path, to: &Path, setting: &Setting<'_>) -> decanter_core::Result<()> {
    let is_there = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    match (is_there(from), is_there(to)) {
        (false, true) => Ok(()),
        // A copy onto another file system that was stopped before the original was removed.
        (true, true) if is_copy(from, to)? => pour::remove(from),
        _ => {
            pour::relocate(from, to, setting.watch)?;
            setting.watch.item(&native::text(to));
            Ok(())
        }
    }
}

/// Whether both have the same bytes, and are two files on two file systems.
fn is_copy(one: &Path, other: &Path) -> decanter_core::Result<bool> {
    let ids = |path: &Path| std::fs::symlink_metadata(path).ok().map(|meta| (stamp(&meta).device, meta.len()));
    let (Some(a), Some(b)) = (ids(one), ids(other)) else { return Ok(false) };
    if a.0 == b.0 || a.1 != b.1 {
        return Ok(false);
    }
    let digest = |path: &Path| {
        let source: decanter_core::SourceRef = std::sync::Arc::new(decanter_core::source::FileSource::own(path)?);
        decanter_core::digest::of_source(&source, &[decanter_core::Algorithm::Sha256], &())
    };
    Ok(digest(one)? == digest(other)?)
}

/// Whether a name is one that a file has on its way to its own.
pub(super) fn is_between(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b".tidy-"))
}

/// The path below a place.
pub(super) fn below(place: &Place, path: &str) -> String {
    path.strip_prefix(place.root.as_str()).unwrap_or(path).trim_start_matches('/').to_owned()
}
