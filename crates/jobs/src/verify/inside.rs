//! What stands in a source and is checked by itself: dumps in an archive or folder, partitions of a drive.

use crate::locate::{self, INSIDE};
use crate::{Item, Setting};
use decanter_core::head::Head;
use decanter_core::role::{Medium, Role};
use decanter_core::tree::Tree;
use decanter_core::{Error, Result};
use decanter_formats::REGISTRY;

/// What extracted discs of some consoles have at their top, and what they are.
const FOLDERS: [(&str, &str); 6] = [
    ("PS3_GAME/PARAM.SFO", "extracted PS3 disc"),
    ("PSP_GAME/PARAM.SFO", "extracted PSP disc"),
    ("SYSTEM.CNF", "extracted PS1 or PS2 disc"),
    ("default.xbe", "extracted Xbox disc"),
    ("default.xex", "extracted Xbox 360 disc"),
    ("VIDEO_TS/VIDEO_TS.IFO", "extracted video DVD"),
];

/// What a folder of extracted files is, if it is one of a disc.
pub(crate) fn game_folder(item: &Item) -> Option<&'static str> {
    let tree: &Tree = item.opened.holds.tree.as_ref().filter(|_| item.opened.identity.role == Role::Folder)?;
    FOLDERS.iter().find(|(path, _)| tree.find(path).is_some()).map(|(_, what)| *what)
}

/// The addresses of what stands beside the one image that an archive was looked through for: that one is meant by the
/// archive's name, and the others are in it all the same.
///
/// # Errors
/// What opening the archive again fails with; [`Error::Cancelled`].
pub(super) fn siblings(item: &Item, setting: &Setting<'_>) -> Result<Vec<String>> {
    let Some(met) = item.others.as_ref().filter(|_| !item.around.is_empty() && item.address != item.shown) else {
        return Ok(Vec::new());
    };
    let archive = locate::open_container(&item.shown, setting)?;
    if archive.opened.identity.role != Role::Archive {
        return Ok(Vec::new());
    }
    // Where every entry has to be unpacked from the beginning of the archive, those that were met on the way are enough.
    let files = || archive.opened.holds.tree.iter().flat_map(|t| t.files());
    if files().any(|(_, f)| f.source().is_ok_and(|s| s.prefers_sequential())) {
        let at = |path: &String| format!("{}{INSIDE}{path}", item.shown.trim_end_matches(INSIDE));
        return Ok(met.iter().map(at).collect());
    }
    let mut found = Vec::new();
    for (node, file) in files() {
        decanter_core::watch::check(setting.watch)?;
        let address = format!("{}{INSIDE}{}", item.shown.trim_end_matches(INSIDE), node.path);
        let is_meant = item.address.strip_prefix(&address).is_some_and(|r| r.is_empty() || r.starts_with(INSIDE));
        let Ok(source) = file.source() else { continue };
        let is_one = match REGISTRY.detect(&Head::glance(source.as_ref())) {
            Ok(Some(f)) => f.role().is_dump() || f.role() == Role::Archive,
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // The checksum of the entry is asked where it is one of those that matter here.
            Ok(None) | Err(_) => false,
        };
        if is_one && !is_meant && !is_track_of(item, &node.path) {
            found.push(address);
        }
    }
    Ok(found)
}

/// Whether a file is named by the cue sheet that is the source.
fn is_track_of(item: &Item, path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    item.opened.holds.tracks.iter().any(|t| t.file.eq_ignore_ascii_case(name))
}

/// The addresses of what stands in a source and is checked by itself, with what cannot be looked at.
///
/// # Errors
/// [`Error::Cancelled`].
pub(super) fn children(item: &Item, setting: &Setting<'_>) -> Result<Vec<String>> {
    let is_drive = item.opened.identity.role == Role::Image(Medium::Drive);
    let is_archive = item.opened.identity.role == Role::Archive;
    let mut found = Vec::new();
    if !is_drive && !is_archive {
        return Ok(found);
    }
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        decanter_core::watch::check(setting.watch)?;
        let Ok(source) = file.source() else { continue };
        let is_one = is_drive
            || match REGISTRY.detect(&Head::glance(source.as_ref())) {
                Ok(Some(f)) => f.role().is_large_dump() || f.role() == Role::Archive,
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                // What cannot be read was told with the files of the archive.
                Ok(None) | Err(_) => false,
            };
        if is_one {
            found.push(format!("{}{INSIDE}{}", item.address.trim_end_matches(INSIDE), node.path));
        }
    }
    Ok(found)
}
