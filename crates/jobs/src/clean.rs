//! Removes what runs that were killed have left.

use crate::{Failure, Setting};
use decanter_core::native;
use decanter_core::pour;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// What was removed.
#[derive(Debug, Serialize)]
pub struct CleanReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The folder.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub folder: PathBuf,
    /// What was left over in it.
    #[serde(serialize_with = "decanter_core::native::many")]
    pub removed: Vec<PathBuf>,
    /// True when nothing was removed because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// Removes unfinished files and folders in `folder` that no run is writing.
///
/// # Errors
/// When the folder cannot be read, or something in it cannot be removed.
pub fn clean(folder: &Path, setting: &Setting<'_>) -> Result<CleanReport, Failure> {
    let fail = |e| Failure::new(format!("cannot clean \"{}\"", native::text(folder)), e);
    if !setting.dry_run {
        // What only lacks its names is no rubbish.
        pour::finish_names(folder, setting.watch).map_err(fail)?;
    }
    let removed = pour::leftovers(folder).map_err(fail)?;
    if !setting.dry_run {
        removed.iter().try_for_each(|path| pour::remove(path)).map_err(fail)?;
    }
    Ok(CleanReport { schema: "decanter.clean/1", folder: folder.to_owned(), removed, dry_run: setting.dry_run })
}
