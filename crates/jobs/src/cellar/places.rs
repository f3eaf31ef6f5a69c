//! New cellars, and the places that they know: folders, each on a disk that may be there or not.

use super::failed;
use crate::{Failure, Setting};
use decanter_cellar::{Cellar, FILE_NAME, Location, Place};
use decanter_core::{native, os, pour};
use serde::Serialize;
use std::fs::Metadata;
use std::path::{Path, PathBuf};

/// A cellar that was made.
#[derive(Debug, Serialize)]
pub struct NewReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Where it is.
    pub cellar: String,
    /// The file of its catalogue, where it has one.
    pub catalogue: Option<String>,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Makes a cellar.
///
/// # Errors
/// Where there is one already, or none can be made.
pub fn new(location: &Location, setting: &Setting<'_>) -> Result<NewReport, Failure> {
    let what = format!("cannot make a cellar in \"{}\"", location.shown());
    let fail = |e| Failure::new(what.clone(), e);
    if location.is_there().map_err(fail)? {
        let there = location.folder().map_or_else(|| PathBuf::from(location.shown()), |folder| folder.join(FILE_NAME));
        return Err(Failure::new(what, decanter_core::Error::Exists { path: there })
            .hint("use it as it is: decanter cellar scan --cellar ..., or choose another folder"));
    }
    if !setting.dry_run {
        if let Some(folder) = location.folder() {
            pour::make_folder(folder).map_err(fail)?;
        }
        Cellar::create(location.clone()).map_err(|e| failed(what.clone(), location, e))?;
    }
    Ok(NewReport {
        schema: "decanter.cellar-new/1",
        cellar: location.shown(),
        catalogue: location.folder().map(|folder| native::text(folder.join(FILE_NAME))),
        dry_run: setting.dry_run,
    })
}

/// Where a folder is at the moment.
pub(super) struct Standing {
    pub(super) device: Option<i64>,
    pub(super) volume: Option<String>,
    pub(super) mount: Option<String>,
}

impl Standing {
    /// Where a place is; `None` if it is not there. Whether a store of objects is there shows when it is asked.
    pub(super) fn at(root: &str) -> Option<Self> {
        match root.contains("://") {
            true => Some(Self { device: None, volume: None, mount: None }),
            false => Self::of(&native::path(root)),
        }
    }

    fn of(root: &Path) -> Option<Self> {
        let meta = std::fs::metadata(root).ok().filter(Metadata::is_dir)?;
        let device = device(&meta);
        let on_same = |path: &&Path| std::fs::metadata(path).is_ok_and(|m| self::device(&m) == device);
        let mount = root.ancestors().take_while(on_same).last().filter(|_| device.is_some());
        Some(Self { device, volume: os::volume(root), mount: mount.map(native::text) })
    }

    /// Whether it is where a place was when it was scanned: the folder of a disk that is not there is another one.
    pub(super) fn is_of(&self, place: &Place) -> bool {
        let same = |one: &Option<String>, other: &Option<String>| one.is_some() && one == other;
        place.device.is_none() || self.device == place.device || same(&self.volume, &place.volume)
    }
}

fn device(meta: &Metadata) -> Option<i64> {
    os::device_and_number(meta).map(|(device, _)| device.cast_signed())
}

/// Whether a place is there.
pub(super) fn is_mounted(place: &Place) -> bool {
    Standing::at(&place.root).is_some_and(|now| now.is_of(place))
}

/// The whole path of a folder or file, without links.
pub(super) fn resolved(path: &str) -> std::io::Result<PathBuf> {
    os::resolved(&native::path(path))
}

/// Whether a path is a folder or lies in it.
pub(super) fn lies_in(path: &str, folder: &str) -> bool {
    path == folder || path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/') || folder.ends_with('/'))
}
