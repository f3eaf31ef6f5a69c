//! Archives that are looked through: the one image that they stand for, and the ROMs in them.

use super::address::Place;
use super::{INSIDE, Item};
use crate::Setting;
use decanter_core::error::Blame;
use decanter_core::head::Head;
use decanter_core::names::stem_of;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tree::{Content, Node, Tree, below};
use decanter_core::view::{Concat, MOST_HELD, held};
use decanter_core::{Error, Result, Watch, native, split};
use decanter_formats::REGISTRY;
use std::collections::HashMap;
use std::sync::Arc;

/// Entries of an archive that are looked at: the largest, and as many as are as large as the last of these.
pub(super) const MOST_PROBES: usize = 32;

/// Beyond this, a file of unknown kind may be a disc whose volume begins far behind its beginning.
pub(super) const FAR: u64 = 32 << 20;

/// What is damaged counts as another candidate if it has at least one in so many bytes of the one that is not.
pub(super) const LEAST_SHARE: u64 = 16;

/// Anything smaller is no image of a disc and no ROM.
pub(super) const LEAST_IMAGE: u64 = 1 << 10;

/// The one image in a tree, if there is exactly one.
///
/// Of what is wrapped, an archive is meant, too: `x.tar.gz` is one as much as `x.tar`.
pub(super) fn only_image(tree: &Tree, is_wrapped: bool, watch: &dyn Watch) -> Result<Option<Only>> {
    if let Some((path, place)) = only_sheet(tree)? {
        return Ok(Some(Only { path, place, others: Some(Vec::new()) }));
    }
    let mut candidates = candidates(tree);
    // The largest ones, in the order of the archive: what was packed together is then unpacked once.
    let mut lens: Vec<u64> = candidates.iter().map(|(_, place)| place.source.len()).collect();
    lens.sort_unstable_by_key(|len| std::cmp::Reverse(*len));
    let least = lens.get(MOST_PROBES - 1).copied().unwrap_or(0);
    candidates.retain(|(_, place)| place.source.len() >= least);
    // A compressed image has nothing else inside.
    let is_alone = tree.files().count() == 1;
    let mut seen = Seen { is_alone, is_wrapped, ..Seen::default() };
    let (mut unknown, mut doubtful) = (Vec::new(), Vec::new());
    for (path, place) in candidates {
        let detected = REGISTRY.detect(&Head::glance(place.source.as_ref()));
        if detected.is_ok() {
            seen.whole = seen.whole.max(place.source.len());
        }
        match detected {
            Ok(Some(format)) => seen.add(format, path, place),
            Ok(None) => {
                if is_named_as_dump(&path) {
                    doubtful.push(place.source.clone());
                }
                unknown.push((path, place));
            }
            Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
            // What cannot be read may be the image that is looked for: nothing else is shown in its place.
            Err(e) if is_alone || is_named_as_dump(&path) => seen.damaged.push((place.source.len(), e)),
            // Other files of an archive are told when they are read.
            Err(_) => {}
        }
    }
    // Some discs show what they are only far behind their beginning.
    let largest = unknown.into_iter().max_by_key(|(_, place)| place.source.len());
    if let Some((path, place)) = largest.filter(|(_, p)| p.source.prefers_sequential() && p.source.len() > FAR)
        && seen.images.is_empty()
        && let Some(format) = REGISTRY.detect(&Head::new(place.source.as_ref()))?
    {
        seen.add(format, path, place);
    }
    // What is called as dumps are and is none may be one whose beginning is damaged: its own checksum tells.
    doubtful.retain(|s| seen.is_one_beside(s.len()));
    for source in doubtful {
        match source.settle(watch) {
            Err(e) if e.blame() == Blame::Source => {
                seen.damaged.push((source.len(), e));
            }
            settled => settled?,
        }
    }
    seen.only()
}

/// Whether a file is called as dumps are.
pub(super) fn is_named_as_dump(path: &str) -> bool {
    let extension = path.rsplit_once('.').map_or("", |(_, e)| e).to_lowercase();
    let known = REGISTRY.formats().iter().filter(|f| f.role().is_dump()).flat_map(|f| f.extensions());
    known.chain(&["bin", "img", "iso", "cue"]).any(|e| *e == extension)
}

/// The one image that an archive stands for.
pub(super) struct Only {
    pub(super) path: String,
    pub(super) place: Place,
    /// Other dumps that were met; `None` if there is nothing else in it.
    pub(super) others: Option<Vec<String>>,
}

/// What the files of a tree are, as far as somebody may look for one of them.
#[derive(Default)]
pub(super) struct Seen {
    pub(super) images: Vec<(String, Place)>,
    pub(super) roms: Vec<(String, Place)>,
    pub(super) archives: Vec<String>,
    /// Whether there is one file only.
    pub(super) is_alone: bool,
    /// Whether that is all that anything there could be.
    pub(super) is_wrapped: bool,
    /// The length of the largest file that can be read.
    pub(super) whole: u64,
    /// Lengths of what cannot be read, and why.
    pub(super) damaged: Vec<(u64, Error)>,
}

impl Seen {
    pub(super) fn add(&mut self, format: &'static dyn decanter_core::Format, path: String, place: Place) {
        match format.role() {
            Role::Rom => self.roms.push((path, place)),
            Role::Archive if self.is_wrapped => self.images.push((path, place)),
            Role::Archive => self.archives.push(path),
            role if role.is_dump() => self.images.push((path, place)),
            _ => {}
        }
    }

    /// Whether one was found that something of this length could be beside.
    pub(super) fn is_one_beside(&self, len: u64) -> bool {
        let found = if self.images.is_empty() { &self.roms } else { &self.images };
        matches!(&found[..], [(_, place)] if len.saturating_mul(LEAST_SHARE) >= place.source.len())
    }

    /// The one that is meant, if there is exactly one. Beside an image, what looks like a ROM is one of its files.
    pub(super) fn only(mut self) -> Result<Option<Only>> {
        let (mut found, aside) =
            if self.images.is_empty() { (self.roms, Vec::new()) } else { (self.images, self.roms) };
        let len = found.first().map_or(0, |(_, place)| place.source.len());
        // A damaged text beside an image is no other image.
        self.damaged.retain(|(own, _)| own.saturating_mul(LEAST_SHARE) >= len);
        match (found.len(), self.damaged.pop()) {
            // Beside files as large that are whole, it is one of several, and not what the archive stands for.
            (0, Some((len, damage))) if self.damaged.is_empty() && self.whole.saturating_mul(LEAST_SHARE) < len => {
                Err(damage)
            }
            (1, None) => {
                let (path, place) = found.remove(0);
                let source = held(&place.source);
                let met = self.archives.into_iter().chain(aside.into_iter().map(|(path, _)| path)).collect();
                let others = (!self.is_alone).then_some(met);
                Ok(Some(Only { path, place: Place { source, ..place }, others }))
            }
            _ => Ok(None),
        }
    }
}

/// The ROMs in an archive, in its own order, and the files that cannot be read, with their addresses: `each` is given
/// one after the other. True if there is also something that may be an image, which then comes first.
///
/// # Errors
/// [`Error::Cancelled`].
pub(crate) fn each_rom(
    item: &Item,
    setting: &Setting<'_>,
    each: &mut dyn FnMut(std::result::Result<Item, (String, Error)>),
) -> Result<bool> {
    let mut has_image = false;
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        decanter_core::watch::check(setting.watch)?;
        let Content::Whole(source) = &file.content else { continue };
        has_image |= source.len() > MOST_HELD || node.path.to_lowercase().ends_with(".cue");
        match inner(item, &node.path, source, setting) {
            Ok(Inner::Rom(rom)) => each(Ok(*rom)),
            Ok(Inner::Image) => has_image = true,
            Ok(Inner::Other) => {}
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            Err(e) => each(Err((format!("{}{INSIDE}{}", item.address.trim_end_matches(INSIDE), node.path), e))),
        }
    }
    Ok(has_image)
}

/// What a file in an archive or folder is.
pub(crate) enum Inner {
    /// A ROM.
    Rom(Box<Item>),
    /// An image, compressed or not.
    Image,
    /// Anything else.
    Other,
}

/// Looks at the file at `path` in an archive or folder; `source` has its bytes, held if that matters.
///
/// # Errors
/// What reading fails with.
pub(crate) fn inner(item: &Item, path: &str, source: &SourceRef, setting: &Setting<'_>) -> Result<Inner> {
    if !(LEAST_IMAGE..=MOST_HELD).contains(&source.len()) {
        return Ok(Inner::Other);
    }
    let format = match REGISTRY.detect(&Head::glance(source.as_ref()))? {
        Some(format) if format.role() == Role::Rom => format,
        Some(format) if format.role().is_dump() => return Ok(Inner::Image),
        _ => return Ok(Inner::Other),
    };
    let stem = stem_of(path.rsplit('/').next().unwrap_or(path));
    let names = [stem.clone()];
    let opener = setting.opener(&item.keyring).with_names(&names).at_depth(item.around.len() + 1);
    let source = &held(source);
    let opened = opener.open_as(format, source.clone())?;
    let is_folder = item.opened.identity.role == Role::Folder;
    let address = match is_folder {
        true => native::text(item.host.join(native::os(path))),
        false => format!("{}{INSIDE}{path}", item.address.trim_end_matches(INSIDE)),
    };
    let mut around = item.around.clone();
    if !is_folder {
        around.push(item.opened.identity.clone());
    }
    Ok(Inner::Rom(Box::new(Item {
        shown: address.clone(),
        address,
        host: item.host.clone(),
        stem,
        around,
        source: Some(source.clone()),
        opened,
        keyring: item.keyring.clone(),
        unfinished: item.unfinished.clone(),
        through: item.through.iter().chain([source]).cloned().collect(),
        sealed_around: item.sealed_around.clone(),
        others: None,
        descriptions: Vec::new(),
    })))
}

/// The one cue sheet in a tree, if there is exactly one: the other files are then its tracks.
pub(super) fn only_sheet(tree: &Tree) -> Result<Option<(String, Place)>> {
    let named = |n: &Node| n.path.len() > 4 && n.path.as_bytes()[n.path.len() - 4..].eq_ignore_ascii_case(b".cue");
    let mut sheets = tree.files().filter(|(n, _)| named(n));
    let (Some((node, file)), None) = (sheets.next(), sheets.next()) else { return Ok(None) };
    let Content::Whole(source) = &file.content else { return Ok(None) };
    let is_sheet = REGISTRY.detect(&Head::new(source.as_ref()))?.is_some_and(|f| f.role() == Role::Sheet);
    Ok(is_sheet.then(|| (node.path.clone(), Place { source: source.clone(), name: node.name().to_owned() })))
}

/// Files large enough to be an image, parts of split images joined.
pub(super) fn candidates(tree: &Tree) -> Vec<(String, Place)> {
    let mut by_folder: HashMap<&str, Vec<String>> = HashMap::new();
    for (node, _) in tree.files() {
        let folder = node.path.rsplit_once('/').map_or("", |(f, _)| f);
        by_folder.entry(folder).or_default().push(node.name().to_owned());
    }
    let mut candidates = Vec::new();
    for (node, file) in tree.files() {
        let Content::Whole(source) = &file.content else { continue };
        let folder = node.path.rsplit_once('/').map_or("", |(f, _)| f);
        let parts = if split::is_numbered(node.name()) {
            by_folder.get(folder).and_then(|n| split::parts(node.name(), n))
        } else {
            None
        };
        match parts {
            Some(parts) if parts[0] != node.name() => {}
            Some(parts) => {
                let path = |part: &String| below(folder, part);
                let files = parts.iter().filter_map(|p| tree.find(&path(p))?.file()?.source().ok().cloned());
                if let Ok(joined) = Concat::new(files.collect()) {
                    let name = split::whole_name(node.name()).to_owned();
                    candidates.push((node.path.clone(), Place { source: Arc::new(joined), name }));
                }
            }
            None if file.len >= LEAST_IMAGE => {
                let name = node.name().to_owned();
                candidates.push((node.path.clone(), Place { source: source.clone(), name }));
            }
            None => {}
        }
    }
    candidates
}
