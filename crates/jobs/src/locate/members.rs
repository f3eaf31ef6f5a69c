//! What an archive holds that is a source of its own: images and ROMs, each once.

use super::look::{LEAST_IMAGE, candidates, is_named_as_dump};
use super::{INSIDE, Item};
use crate::Setting;
use decanter_core::catalogue::last_name;
use decanter_core::head::Head;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tree::{Content, below};
use decanter_core::view::held;
use decanter_core::{Error, Format, Result, watch};
use decanter_formats::REGISTRY;
use decanter_formats::optical::cd::cue;
use std::collections::HashSet;

/// A file in an archive that is a source of its own.
pub(crate) struct Member {
    /// Its path there; of a split image that of the first part.
    pub(crate) path: String,
    /// Its length in bytes, unpacked.
    pub(crate) bytes: u64,
    /// What it is; `None` for what is called as dumps are and cannot be read.
    pub(crate) role: Option<Role>,
}

impl Member {
    /// As a user types it.
    pub(crate) fn address(&self, archive: &Item) -> String {
        format!("{}{INSIDE}{}", archive.address.trim_end_matches(INSIDE), self.path)
    }
}

/// The images in an archive, or, where there are none, its ROMs; archives in it stand for what they hold. The tracks of a
/// cue sheet and the later parts of a split image are no sources of their own.
///
/// # Errors
/// [`Error::Cancelled`]; [`Error::Io`].
pub(crate) fn members(item: &Item, setting: &Setting<'_>) -> Result<Vec<Member>> {
    let Some(tree) = &item.opened.holds.tree else { return Ok(Vec::new()) };
    let mut all: Vec<Member> = Vec::new();
    let mut named = HashSet::new();
    let mut add = |path: &str, source: &SourceRef, bytes: u64| -> Result<()> {
        watch::check(setting.watch)?;
        // Looking at the far end would begin anew what can only be unpacked forwards.
        let format = match detect(&held(source)) {
            Ok(format) => format,
            Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
            // What cannot be read is told where it is opened.
            Err(_) if is_named_as_dump(path) => {
                all.push(Member { path: path.into(), bytes, role: None });
                return Ok(());
            }
            Err(_) => return Ok(()),
        };
        let Some(role) = format.map(|f| f.role()) else { return Ok(()) };
        if role == Role::Sheet {
            let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            let track = |name: String| below(folder, last_name(&name)).to_lowercase();
            named.extend(cue::named_files(source.as_ref()).into_iter().map(track));
        }
        if role.is_dump() || role == Role::Archive {
            all.push(Member { path: path.to_owned(), bytes, role: Some(role) });
        }
        Ok(())
    };
    // Sheets are shorter than any image.
    for (node, file) in tree.files().filter(|(n, f)| f.len < LEAST_IMAGE && n.path.to_lowercase().ends_with(".cue")) {
        if let Content::Whole(source) = &file.content {
            add(&node.path, source, file.len)?;
        }
    }
    for (path, place) in candidates(tree) {
        add(&path, &place.source, place.source.len())?;
    }
    all.retain(|m| m.role == Some(Role::Sheet) || !named.contains(&m.path.to_lowercase()));
    // Beside an image, what looks like a ROM is one of its files.
    let is_image = |role: Role| role.is_image() || role == Role::Package;
    if all.iter().any(|m| m.role.is_some_and(is_image)) {
        all.retain(|m| m.role != Some(Role::Rom));
    }
    let order = |path: &str| tree.nodes.iter().position(|n| n.path == path);
    all.sort_by_cached_key(|m| order(&m.path));
    Ok(all)
}

/// What a file is. Far behind its beginning is looked only where that costs no unpacking.
fn detect(source: &SourceRef) -> Result<Option<&'static dyn Format>> {
    match source.prefers_sequential() {
        true => REGISTRY.detect(&Head::glance(source.as_ref())),
        false => REGISTRY.detect(&Head::new(source.as_ref())),
    }
}
