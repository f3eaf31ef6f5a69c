//! From what the user typed to an opened source: paths, `::` addresses, split images, and archives that are looked
//! through because they hold exactly one image.

mod address;
mod files;
mod joined;
mod kept;
mod listing;
mod look;
mod members;
mod near;
mod piped;

pub(crate) use address::{file_and_map, unfinished};
pub(crate) use files::Files;
pub(crate) use joined::Joining;
pub(crate) use kept::Containers;
pub(crate) use listing::Listing;
pub(crate) use look::{Inner, each_rom, inner};
pub(crate) use members::{Member, members};
pub use near::Around;
pub(crate) use near::beside;
pub use piped::{PIPE, Piped};

use crate::dump::map::Map;
use crate::{Failure, Setting};
use address::{Found, Reached, reach};
use decanter_core::error::Blame;
use decanter_core::head::Head;
use decanter_core::names::stem_of;
use decanter_core::opened::Identity;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::seal::Sealed;
use decanter_core::source::SourceRef;
use decanter_core::tree::Tree;
use decanter_core::{Error, Keyring, Notice, Result, native};
use decanter_formats::REGISTRY;
use look::{Only, only_image};
use near::Near;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What a file of no known format is called.
const UNKNOWN: &str = "file of unknown kind";
/// What separates a container from the path inside it.
pub(crate) const INSIDE: &str = "::";

/// A source that was found and opened.
pub struct Item {
    /// As the user typed it.
    pub shown: String,
    /// The same with what was looked through: `box.zip::Kelp Courier.iso`.
    pub address: String,
    /// The file or folder on this machine.
    pub host: PathBuf,
    /// Name of the innermost file, without its extension.
    pub stem: String,
    /// What stands around it, outermost first.
    pub around: Vec<Identity>,
    /// The bytes; a folder has none of its own.
    pub source: Option<SourceRef>,
    /// What it is.
    pub opened: Opened,
    /// The keys that were known when it was opened.
    pub keyring: Keyring,
    /// What is known of a dump that is not finished: there are sectors that were not read.
    pub unfinished: Option<Arc<Map>>,
    /// What it was taken out of, outermost first: entries that have checksums of their own.
    pub through: Vec<SourceRef>,
    /// Digests that what is around it carries of it.
    pub sealed_around: Vec<Sealed>,
    /// Paths of other dumps that were met in the archive that was looked through for it; `None` if it is alone in it.
    pub others: Option<Vec<String>>,
    /// Descriptions of this very disc that lie next to it: where they are, and their bytes.
    pub descriptions: Vec<(String, SourceRef)>,
}

/// Opens what the user typed; an archive with exactly one image in it is looked through.
///
/// # Errors
/// A [`Failure`] that names the source.
pub fn open(shown: &str, verb: &str, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let what = || format!("cannot {verb} \"{shown}\"");
    open_quietly(shown, setting).map_err(|e| Failure::new(what(), e))
}

/// The bytes of exactly what the user typed.
pub(crate) fn bytes(shown: &str, setting: &Setting<'_>) -> Result<SourceRef> {
    bytes_and_map(shown, setting).map(|(source, _)| source)
}

/// The same, and the map of a dump that is not finished.
pub(crate) fn bytes_and_map(shown: &str, setting: &Setting<'_>) -> Result<(SourceRef, Option<Arc<Map>>)> {
    let reached = reach(shown, setting)?;
    match reached.found {
        Found::Place(place) => Ok((place.source, reached.unfinished)),
        Found::Folder(_) => Err(Error::Usage("it is a folder, which has no bytes of its own".into())),
    }
}

/// Opens what the user typed, without looking through it; an archive that is wrapped is what is meant by what is around it.
///
/// # Errors
/// As [`open`].
pub(crate) fn open_container(shown: &str, setting: &Setting<'_>) -> Result<Item> {
    let mut reached = reach(shown, setting)?;
    let is_itself = std::mem::replace(&mut reached.stop, true);
    let item = open_reached(shown, reached, setting)?;
    let is_wrapper = item.opened.identity.role == Role::Wrapper && item.opened.holds.tracks.is_empty();
    let only =
        item.opened.holds.tree.as_ref().and_then(|tree| tree.files().next()).filter(|_| is_wrapper && !is_itself);
    let is_archive = |source: &SourceRef| match REGISTRY.detect(&Head::glance(source.as_ref())) {
        Ok(format) => Ok(format.is_some_and(|f| f.role() == Role::Archive)),
        Err(Error::Cancelled) => Err(Error::Cancelled),
        // What cannot be read is told where it is opened for itself.
        Err(_) => Ok(false),
    };
    if let Some((node, file)) = only
        && let Ok(source) = file.source()
        && is_archive(source)?
    {
        let inner = format!("{shown}{INSIDE}{}", node.path);
        let mut reached = reach(&inner, setting)?;
        reached.stop = true;
        return open_reached(&inner, reached, setting).map(|item| Item { shown: shown.to_owned(), ..item });
    }
    Ok(item)
}

/// Opens what the user typed only as far as is needed to know what it is: no headers are parsed, and a file of no
/// known format is as good as any.
///
/// # Errors
/// A [`Failure`] that names the source.
pub(crate) fn open_lightly(shown: &str, verb: &str, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let fail = |e| Failure::new(format!("cannot {verb} \"{shown}\""), e);
    let reached = reach(shown, setting).map_err(fail)?;
    let Found::Place(place) = &reached.found else {
        return Err(fail(Error::Usage("it is a folder, which has no bytes of its own".into())).hint("give a file"));
    };
    let format = REGISTRY.detect(&Head::new(place.source.as_ref())).map_err(fail)?;
    let role = format.map_or(Role::Unknown, |f| f.role());
    if role == Role::Wrapper || (role == Role::Archive && !reached.stop) {
        return open_reached(shown, reached, setting).map_err(fail);
    }
    let (id, name) = format.map_or(("unknown", UNKNOWN), |f| (f.id(), f.name()));
    Ok(Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: reached.host,
        stem: stem_of(&place.name),
        around: reached.kinds,
        source: Some(place.source.clone()),
        opened: Opened::new(id, name).with_role(role),
        keyring: reached.around.keyring(setting),
        unfinished: reached.unfinished,
        through: reached.through,
        sealed_around: Vec::new(),
        others: None,
        descriptions: Vec::new(),
    })
}

fn open_quietly(shown: &str, setting: &Setting<'_>) -> Result<Item> {
    let reached = reach(shown, setting)?;
    open_reached(shown, reached, setting)
}

fn open_reached(shown: &str, reached: Reached<'_>, setting: &Setting<'_>) -> Result<Item> {
    let Reached {
        host,
        found,
        mut around,
        mut carried,
        mut near,
        mut names,
        mut kinds,
        unfinished,
        mut through,
        gap,
        stop,
    } = reached;
    let mut place = match found {
        Found::Folder(tree) => return Ok(folder_item(shown, &host, tree, &around, setting)),
        Found::Place(place) => place,
    };
    let (mut address, mut others) = (shown.to_owned(), None);
    let mut notices = Vec::new();
    notices.extend(gap.as_ref().map(|part| {
        Notice::damage(format!("a part of the split image is missing: there is no {part}, though later ones are there"))
    }));
    // What the containers on the way say of the bytes in them.
    let (mut sealed, mut settled, mut on_reading) = (Vec::new(), Vec::new(), Vec::new());
    loop {
        names.push(stem_of(&place.name));
        names.reverse();
        let ring = match &carried {
            Some(keys) => (**keys).clone(),
            None => around.keyring(setting),
        };
        let opener = setting.opener(&ring).with_names(&names).at_depth(kinds.len()).with_beside(&near);
        let mut opened = opener
            .open(place.source.clone())
            .map_err(|e| part_missing(too_short(e, &place.name, place.source.len()), gap.as_deref()))?;
        names.reverse();
        let inner = match &opened.holds.tree {
            Some(tree)
                if is_looked_through(&opened) && !stop && kinds.len() + 1 < decanter_core::format::MOST_DEPTH =>
            {
                match only_image(tree, opened.identity.role == Role::Wrapper, setting.watch) {
                    // Damage that hides what is inside is told by the digests of what is around it.
                    Err(e) if e.blame() == Blame::Source && opened.proof.sealed.iter().any(|s| s.examine.is_some()) => {
                        opened.told.notices.push(Notice::new(format!("what is inside cannot be told: {e}")));
                        None
                    }
                    inner => inner?,
                }
            }
            _ => None,
        };
        let Some(Only { path, place: inner, others: met }) = inner else {
            opened.told.notices.splice(0..0, notices);
            let sealed_around = sealed.clone();
            opened.proof.sealed.splice(0..0, sealed);
            opened.proof.settled.splice(0..0, settled);
            opened.proof.on_reading.splice(0..0, on_reading);
            let descriptions = around.descriptions(opened.identity.id.as_deref());
            return Ok(Item {
                shown: shown.to_owned(),
                address,
                host,
                stem: stem_of(&place.name),
                around: kinds,
                source: Some(place.source),
                opened,
                keyring: ring,
                unfinished,
                through,
                sealed_around,
                others: others.flatten(),
                descriptions,
            });
        };
        if let Some(tree) = &opened.holds.tree {
            around.look_inside(&place.name, tree, &path);
            near = Near::inside(tree, &path);
        }
        notices.append(&mut opened.told.notices);
        sealed.append(&mut opened.proof.sealed);
        settled.append(&mut opened.proof.settled);
        on_reading.append(&mut opened.proof.on_reading);
        address = format!("{}{INSIDE}{path}", address.trim_end_matches(INSIDE));
        carried = opened.holds.keys.or(carried);
        kinds.push(opened.identity);
        setting.owes(&inner.source);
        through.push(inner.source.clone());
        // Those of the archive that was named; what is in an archive within is told where that is looked into.
        others.get_or_insert(met);
        place = inner;
    }
}

/// What is an image or a ROM itself is what was asked for, whatever files are in it.
fn is_looked_through(opened: &Opened) -> bool {
    let is_itself = opened.identity.role.is_dump() && opened.identity.role != Role::Wrapper;
    opened.holds.tree.is_some() && !is_itself && opened.holds.tracks.is_empty()
}

/// What a part after a missing one holds is known to nobody.
fn part_missing(error: Error, gap: Option<&str>) -> Error {
    match (error, gap) {
        (Error::NotUnderstood { .. }, Some(part)) => {
            Error::Unreadable { why: format!("a part of the split image is missing: there is no {part}") }
        }
        (error, _) => error,
    }
}

/// A file that no format knows, but whose name is that of a ROM, may be cut off before its header ends.
fn too_short(error: Error, name: &str, len: u64) -> Error {
    let Error::NotUnderstood { .. } = error else { return error };
    let extension = name.rsplit_once('.').map_or("", |(_, e)| e).to_lowercase();
    let named = |f: &&&'static dyn decanter_core::Format| f.extensions().contains(&extension.as_str());
    match REGISTRY.formats().iter().find(named).filter(|f| len < f.least_len()) {
        Some(format) => {
            let what = format!("too short for its header, which ends at {:#x}: the file ends", format.least_len());
            Error::malformed(format.id(), what, len)
        }
        None => match decanter_formats::disk::odd_size(&extension, len) {
            Some(what) => Error::malformed("disk", what, len),
            None => error,
        },
    }
}

fn folder_item(shown: &str, host: &Path, tree: Tree, around: &Around, setting: &Setting<'_>) -> Item {
    let mut opened = Opened::new("folder", "folder").with_role(Role::Folder);
    opened.holds.tree = Some(tree);
    Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: host.to_owned(),
        stem: stem_of(&name_of_folder(host)),
        around: Vec::new(),
        source: None,
        opened,
        keyring: around.keyring(setting),
        unfinished: None,
        through: Vec::new(),
        sealed_around: Vec::new(),
        others: None,
        descriptions: Vec::new(),
    }
}

/// What a folder is called, also where it was typed as `.` or `..`.
fn name_of_folder(host: &Path) -> String {
    let real = || host.canonicalize().ok().and_then(|path| path.file_name().map(native::text));
    host.file_name().map(native::text).or_else(real).unwrap_or_default()
}

/// Files that were gathered from several sources, as one folder.
pub(crate) fn gathered(shown: &str, stem: &str, tree: Tree, setting: &Setting<'_>) -> Item {
    Item { stem: stem.to_owned(), ..folder_item(shown, &native::path(shown), tree, &Around::default(), setting) }
}

/// Opens bytes that were put together on the way: joined parts, a header and what follows it.
///
/// # Errors
/// When they are of no known format, or broken.
pub(crate) fn open_bytes(shown: &str, source: SourceRef, setting: &Setting<'_>) -> Result<Item> {
    let keyring = Around::default().keyring(setting);
    let names = [stem_of_address(shown)];
    let opened = setting.opener(&keyring).with_names(&names).open(source.clone())?;
    Ok(of_bytes(shown, source, opened, keyring))
}

/// Such bytes, whatever they are.
pub(crate) fn unknown_bytes(shown: &str, source: SourceRef, setting: &Setting<'_>) -> Item {
    of_bytes(shown, source, Opened::new("unknown", UNKNOWN), Around::default().keyring(setting))
}

fn stem_of_address(shown: &str) -> String {
    stem_of(decanter_core::catalogue::last_name(shown.rsplit(INSIDE).next().unwrap_or(shown)))
}

fn of_bytes(shown: &str, source: SourceRef, opened: Opened, keyring: Keyring) -> Item {
    Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: native::path(shown),
        stem: stem_of_address(shown),
        around: Vec::new(),
        source: Some(source),
        opened,
        keyring,
        unfinished: None,
        through: Vec::new(),
        sealed_around: Vec::new(),
        others: None,
        descriptions: Vec::new(),
    }
}

impl Item {
    /// Name of the innermost file.
    pub fn file_name(&self) -> String {
        let inner = self.address.rsplit(INSIDE).next().unwrap_or(&self.address);
        inner.rsplit('/').next().unwrap_or(inner).to_owned()
    }

    /// Whether there may be one thing in it that it stands for.
    pub fn may_be_looked_through(&self) -> bool {
        is_looked_through(&self.opened)
    }

    /// The same with other bytes, opened as `opened`: what is known of the source's place and keys stays.
    pub(crate) fn with_source(&self, source: SourceRef, opened: Opened) -> Self {
        Self {
            shown: self.shown.clone(),
            address: self.address.clone(),
            host: self.host.clone(),
            stem: self.stem.clone(),
            around: Vec::new(),
            source: Some(source),
            opened,
            keyring: self.keyring.clone(),
            unfinished: None,
            through: Vec::new(),
            sealed_around: Vec::new(),
            others: None,
            descriptions: Vec::new(),
        }
    }

    /// Everything that was noticed on the way in.
    pub fn notices(&self) -> &[Notice] {
        &self.opened.told.notices
    }
}

#[cfg(test)]
mod tests {
    use super::address::split_address;
    use super::*;

    #[test]
    fn an_address_is_cut_at_double_colons() {
        let typed = "no such/box.zip::a b.iso::PS3_GAME/PARAM.SFO";
        let (host, inside) = split_address(typed, &Setting::new(&()));
        assert_eq!(host, "no such/box.zip");
        assert_eq!(inside, ["a b.iso", "PS3_GAME/PARAM.SFO"]);
    }
}
