//! From what the user typed to an opened source: paths, `::` addresses, split images, and archives that are looked
//! through because they hold exactly one image.

use crate::below::walk_error;
use crate::dump::map::Map;
use crate::{Failure, Setting, attributes, keys};
use decanter_core::error::Blame;
use decanter_core::format::{Beside, Context, Opened};
use decanter_core::keyring::plain;
use decanter_core::native;
use decanter_core::seal::Sealed;
use decanter_core::source::{FileSource, PathSource, Source, SourceRef};
use decanter_core::split;
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Concat, Gaps, Glance, MOST_HELD, held};
use decanter_core::{Error, Guard, Keyring, Notice, Result, Watch};
use decanter_formats::REGISTRY;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use walkdir::WalkDir;

/// What separates a container from the path inside it.
pub(crate) const INSIDE: &str = "::";
/// Entries of an archive that are looked at: the largest, and as many as are as large as the last of these.
const MOST_PROBES: usize = 32;
/// Beyond this, a file of unknown kind may be a disc whose volume begins far behind its beginning.
const FAR: u64 = 32 << 20;
/// What is damaged counts as another candidate if it has at least one in so many bytes of the one that is not.
const LEAST_SHARE: u64 = 16;
/// Anything smaller is no image of a disc and no ROM.
const LEAST_IMAGE: u64 = 1 << 10;
/// Key files and descriptions next to a source that are read; whoever has more keeps them in a folder of their own.
const MOST_NEAR: usize = 500;
/// Files in a folder that is a source.
const MOST_FILES: usize = 1 << 20;

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
    /// What stands around it, outermost first: "zip archive".
    pub around: Vec<String>,
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
    /// Paths of other dumps that were met in the archive that was looked through for it.
    pub others: Vec<String>,
    /// Descriptions of this very disc that lie next to it: where they are, and their bytes.
    pub descriptions: Vec<(String, SourceRef)>,
}

/// What is known of the surroundings of a source: files in the same folder, on this machine and in containers.
#[derive(Default)]
pub struct Around {
    /// Small files next to it: where they are, their name, their bytes.
    pub files: Vec<(String, String, SourceRef)>,
    /// Folders on this machine that were looked into.
    pub folders: Vec<String>,
}

/// A step of the way in.
struct Place {
    source: SourceRef,
    name: String,
}

/// The files of the folder that a source stands in.
enum Near<'a> {
    Host(PathBuf, Arc<Vec<String>>, &'a Guard),
    Inside(Tree, String),
}

impl Near<'_> {
    fn inside(tree: &Tree, path: &str) -> Self {
        let folder = path.trim_matches('/').rsplit_once('/').map_or("", |(f, _)| f);
        let inside = |n: &Node| n.path.rsplit_once('/').map_or("", |(f, _)| f) == folder;
        let nodes = tree.nodes.iter().filter(|n| inside(n)).cloned().collect();
        Self::Inside(Tree { nodes }, folder.to_owned())
    }
}

impl Beside for Near<'_> {
    fn named(&self, extension: &str) -> Vec<String> {
        let wanted = format!(".{extension}");
        let fits = |name: &str| name.to_lowercase().ends_with(&wanted);
        let mut names: Vec<String> = match self {
            Self::Host(_, names, _) => names.iter().filter(|n| fits(n)).cloned().collect(),
            Self::Inside(tree, _) => tree.files().map(|(n, _)| n.name().to_owned()).filter(|n| fits(n)).collect(),
        };
        names.sort();
        names
    }

    fn find(&self, name: &str) -> Result<Option<(String, SourceRef)>> {
        // A sheet may name a path on the machine where it was made: only the last name can be next to it here.
        let name = decanter_core::catalogue::last_name(name);
        match self {
            Self::Host(folder, names, guard) => {
                let Some(found) = one_of(names.iter().map(String::as_str), name) else { return Ok(None) };
                Ok(Some((found.to_owned(), Arc::new(FileSource::open(&folder.join(native::os(found)), guard)?))))
            }
            Self::Inside(tree, folder) => {
                let Some(found) = one_of(tree.nodes.iter().map(Node::name), name) else { return Ok(None) };
                let path = if folder.is_empty() { found.to_owned() } else { format!("{folder}/{found}") };
                let file = tree.find(&path).and_then(Node::file);
                file.map(|f| Ok((found.to_owned(), f.source()?.clone()))).transpose()
            }
        }
    }
}

/// The name that is `wanted`, or else the only one that differs in case alone.
fn one_of<'a>(names: impl Iterator<Item = &'a str> + Clone, wanted: &str) -> Option<&'a str> {
    if let Some(exact) = names.clone().find(|n| *n == wanted) {
        return Some(exact);
    }
    let folded = wanted.to_lowercase();
    let mut alike = names.filter(|n| n.to_lowercase() == folded);
    alike.next().filter(|_| alike.next().is_none())
}

/// What was found in a folder on this machine: read once, however many sources stand in it.
#[derive(Clone)]
pub(crate) struct Listing {
    names: Arc<Vec<String>>,
    files: Vec<(String, String, SourceRef)>,
}

/// Opens what the user typed; an archive with exactly one image in it is looked through.
///
/// # Errors
/// A [`Failure`] that names the source.
pub fn open(shown: &str, verb: &str, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let what = || format!("cannot {verb} \"{shown}\"");
    open_quietly(shown, setting).map_err(|e| Failure::new(what(), e))
}

/// The files next to one on this machine.
pub(crate) fn beside<'a>(host: &Path, setting: &'a Setting<'_>) -> impl Beside + use<'a> {
    let listing = Around::default().look_at(host, setting);
    Near::Host(host.parent().map(Path::to_owned).unwrap_or_default(), listing, &setting.guard)
}

/// What an address leads to, before anything is looked through.
struct Reached<'a> {
    host: PathBuf,
    found: Found,
    around: Around,
    near: Near<'a>,
    names: Vec<String>,
    kinds: Vec<String>,
    /// The map of the dump on this machine, if that is not finished.
    unfinished: Option<Arc<Map>>,
    through: Vec<SourceRef>,
    /// A part of a split image that is not there, though later ones are.
    gap: Option<String>,
    /// True when the address ends in `::`, which asks for the container itself.
    stop: bool,
}

/// Follows an address.
fn reach<'a>(shown: &str, setting: &'a Setting<'_>) -> Result<Reached<'a>> {
    let (host, inside) = entry_of_folder(split_address(shown));
    let mut around = Around::default();
    let listing = around.look_at(&host, setting);
    let folder = host.parent().map(Path::to_owned).unwrap_or_default();
    let mut near = Near::Host(folder, listing, &setting.guard);
    let (mut names, mut kinds) = (Vec::new(), Vec::new());
    let stop = inside.last().is_some_and(String::is_empty);
    let gap = match &near {
        Near::Host(_, names, _) => host.file_name().and_then(|n| split::gap(&native::text(n), names)),
        Near::Inside(..) => None,
    };
    let meta = std::fs::metadata(&host).map_err(|e| Error::io("open", &host, e))?;
    let mut parts = inside.iter().filter(|p| !p.is_empty());
    let (mut unfinished, mut through) = (None, Vec::new());
    let mut found = if meta.is_dir() {
        follow(&folder_tree(&host, setting)?, parts.next().map_or("", String::as_str))?
    } else {
        let (place, map) = host_file(&host, &near, setting)?;
        unfinished = map;
        Found::Place(place)
    };
    for (depth, part) in parts.enumerate() {
        let Found::Place(place) = found else { return Err(no_inside("a folder")) };
        let ring = keys::gather(setting, &around);
        names.push(stem_of(&place.name));
        let (watch, beside) = (setting.watch, &near);
        let context = Context { registry: &REGISTRY, keys: &ring, names: &names, watch, depth, beside };
        let mut opened = REGISTRY.open(place.source, &context, &[])?;
        // A path that a compressed image does not have may lead on in the image inside.
        while let Some((name, inner)) = packed_inside(&opened, part) {
            let names = [stem_of(&name)];
            let context = Context { names: &names, beside: &(), ..context.inside()? };
            kinds.push(opened.kind);
            opened = REGISTRY.open(inner, &context, &[])?;
        }
        let tree = opened.tree.ok_or_else(|| no_inside(&place.name))?;
        around.look_inside(&place.name, &tree, part);
        kinds.push(opened.kind);
        if let Some(source) = tree.find(part.trim_matches('/')).and_then(Node::file).and_then(|f| f.source().ok()) {
            setting.owes(source);
            through.push(source.clone());
        }
        found = follow(&tree, part)?;
        near = Near::inside(&tree, part);
    }
    Ok(Reached { host, found, around, near, names, kinds, unfinished, through, gap, stop })
}

/// A file in a folder of this machine is as good as its own path, and so are the keys and parts beside it.
fn entry_of_folder((host, mut inside): (PathBuf, Vec<String>)) -> (PathBuf, Vec<String>) {
    let Some(first) = inside.iter().position(|p| !p.is_empty()).filter(|_| host.is_dir()) else {
        return (host, inside);
    };
    let entry = host.join(native::os(inside[first].trim_matches('/')));
    let stays_inside = native::path(&inside[first]).components().all(|c| !matches!(c, std::path::Component::ParentDir));
    if stays_inside && entry.is_file() {
        inside.remove(first);
        return (entry, inside);
    }
    (host, inside)
}

/// The one file of a compressed image, if `part` is not the way to it.
fn packed_inside(opened: &Opened, part: &str) -> Option<(String, SourceRef)> {
    let is_packed = REGISTRY.get(opened.format).is_some_and(|f| f.is_packed_image()) && opened.tracks.is_empty();
    let tree = opened.tree.as_ref().filter(|tree| is_packed && tree.find(part.trim_matches('/')).is_none())?;
    let (node, file) = tree.files().next()?;
    Some((node.name().to_owned(), file.source().ok()?.clone()))
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

/// Why an unfinished dump is not worked on as if it were a disc.
pub(crate) fn unfinished() -> Error {
    Error::Unreadable { why: "it is a dump that is not finished: some of its sectors were not read".into() }
}

/// Opens what the user typed, without looking through it.
///
/// # Errors
/// As [`open`].
pub(crate) fn open_container(shown: &str, setting: &Setting<'_>) -> Result<Item> {
    let mut reached = reach(shown, setting)?;
    reached.stop = true;
    open_reached(shown, reached, setting)
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
    let format = REGISTRY.detect(place.source.as_ref(), &[]).map_err(fail)?;
    let holds_it = |f: &&'static dyn decanter_core::Format| (f.is_archive() && !reached.stop) || f.is_packed_image();
    if format.is_some_and(|f| holds_it(&f)) {
        return open_reached(shown, reached, setting).map_err(fail);
    }
    let (id, name) = format.map_or(("unknown", "file of unknown kind"), |f| (f.id(), f.name()));
    Ok(Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: reached.host,
        stem: stem_of(&place.name),
        around: reached.kinds,
        source: Some(place.source.clone()),
        opened: Opened::new(id, name),
        keyring: keys::gather(setting, &reached.around),
        unfinished: reached.unfinished,
        through: reached.through,
        sealed_around: Vec::new(),
        others: Vec::new(),
        descriptions: Vec::new(),
    })
}

fn open_quietly(shown: &str, setting: &Setting<'_>) -> Result<Item> {
    let reached = reach(shown, setting)?;
    open_reached(shown, reached, setting)
}

fn open_reached(shown: &str, reached: Reached<'_>, setting: &Setting<'_>) -> Result<Item> {
    let Reached { host, found, mut around, mut near, mut names, mut kinds, unfinished, mut through, gap, stop } =
        reached;
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
    let (mut sealed, mut settled) = (Vec::new(), Vec::new());
    loop {
        names.push(stem_of(&place.name));
        names.reverse();
        let ring = keys::gather(setting, &around);
        let (watch, beside, depth) = (setting.watch, &near, kinds.len());
        let context = Context { registry: &REGISTRY, keys: &ring, names: &names, watch, depth, beside };
        let mut opened = REGISTRY
            .open(place.source.clone(), &context, &[])
            .map_err(|e| part_missing(too_short(e, &place.name, place.source.len()), gap.as_deref()))?;
        names.reverse();
        // What is an image or a ROM itself is what was asked for, whatever files are in it.
        let is_image = REGISTRY.get(opened.format).is_some_and(|f| f.is_image() || f.is_rom() || f.is_package());
        let is_image = is_image || !opened.tracks.is_empty();
        let inner = match &opened.tree {
            Some(tree) if !is_image && !stop && kinds.len() + 1 < decanter_core::format::MOST_DEPTH => {
                match only_image(tree, setting.watch) {
                    // Damage that hides what is inside is told by the digests of what is around it.
                    Err(e) if e.blame() == Blame::Source && opened.sealed.iter().any(|s| s.examine.is_some()) => {
                        opened.notices.push(Notice::new(format!("what is inside cannot be told: {e}")));
                        None
                    }
                    inner => inner?,
                }
            }
            _ => None,
        };
        let Some(Only { path, place: inner, others: met }) = inner else {
            opened.notices.splice(0..0, notices);
            let sealed_around = sealed.clone();
            opened.sealed.splice(0..0, sealed);
            opened.settled.splice(0..0, settled);
            let descriptions = around.descriptions(opened.get("id"));
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
                others: others.unwrap_or_default(),
                descriptions,
            });
        };
        if let Some(tree) = &opened.tree {
            around.look_inside(&place.name, tree, &path);
            near = Near::inside(tree, &path);
        }
        notices.append(&mut opened.notices);
        sealed.append(&mut opened.sealed);
        settled.append(&mut opened.settled);
        address = format!("{}{INSIDE}{path}", address.trim_end_matches(INSIDE));
        kinds.push(opened.kind);
        setting.owes(&inner.source);
        through.push(inner.source.clone());
        // Those of the archive that was named; what is in an archive within is told where that is looked into.
        others.get_or_insert(met);
        place = inner;
    }
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
    let mut opened = Opened::new("folder", "folder");
    opened.tree = Some(tree);
    Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: host.to_owned(),
        stem: stem_of(&host.file_name().map(native::text).unwrap_or_default()),
        around: Vec::new(),
        source: None,
        opened,
        keyring: keys::gather(setting, around),
        unfinished: None,
        through: Vec::new(),
        sealed_around: Vec::new(),
        others: Vec::new(),
        descriptions: Vec::new(),
    }
}

/// Files that were gathered from several sources, as one folder.
pub(crate) fn gathered(shown: &str, stem: &str, tree: Tree, setting: &Setting<'_>) -> Item {
    Item { stem: stem.to_owned(), ..folder_item(shown, &native::path(shown), tree, &Around::default(), setting) }
}

/// The path on this machine, and what comes after each `::`. A path that exists as it stands is taken as it stands.
fn split_address(shown: &str) -> (PathBuf, Vec<String>) {
    if native::path(shown).exists() {
        return (native::path(shown), Vec::new());
    }
    let mut parts = shown.split(INSIDE);
    let host = parts.next().unwrap_or_default();
    (native::path(host), parts.map(str::to_owned).collect())
}

/// A file on this machine, with the other parts of a split image.
fn host_file(path: &Path, near: &Near<'_>, setting: &Setting<'_>) -> Result<(Place, Option<Arc<Map>>)> {
    let guard = &setting.guard;
    let name = path.file_name().map(native::text).unwrap_or_default();
    let folder = path.parent().unwrap_or(Path::new(""));
    if split::is_numbered(&name)
        && let Near::Host(_, names, _) = near
        && let Some(parts) = split::parts(&name, names)
    {
        let open = |part: &String| Ok(Arc::new(FileSource::open(&folder.join(native::os(part)), guard)?) as SourceRef);
        let source = Arc::new(Concat::new(parts.iter().map(open).collect::<Result<_>>()?)?);
        return Ok((Place { source, name: split::whole_name(&name).to_owned() }, None));
    }
    let source: SourceRef = Arc::new(FileSource::open(path, guard)?);
    let Some(mut map) = Map::beside(path)? else { return Ok((Place { source, name }, None)) };
    map.cut_to(source.len());
    if map.missing() == 0 {
        return Ok((Place { source, name }, None));
    }
    let name = name.strip_suffix(".incomplete").unwrap_or(&name).to_owned();
    let len = map.sector_len;
    let gaps = map.gaps().iter().map(|r| r.first * len..((r.first + r.count) * len)).collect();
    let source = if setting.incomplete { source } else { Arc::new(Gaps::new(source, gaps, len)?) };
    Ok((Place { source, name }, Some(Arc::new(map))))
}

fn names_in(folder: &Path) -> Vec<String> {
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let read = std::fs::read_dir(folder).into_iter().flatten().flatten();
    read.take(MOST_FILES).map(|e| native::text(e.file_name())).collect()
}

/// A folder on this machine as a tree. Links in it are not followed; what cannot be looked into is a broken file of it, and
/// told; what is no file is told.
fn folder_tree(root: &Path, setting: &Setting<'_>) -> Result<Tree> {
    let mut tree = Tree::default();
    setting.guard.reads_folder(root);
    let below = |path: &Path| native::text(path.strip_prefix(root).unwrap_or(path));
    for entry in WalkDir::new(root).min_depth(1).sort_by_file_name() {
        if tree.nodes.len() >= MOST_FILES {
            let limit = MOST_FILES as u64;
            return Err(Error::Limit { what: "files in a folder", asked: limit + 1, limit });
        }
        let entry = match entry {
            Ok(entry) => entry,
            Err(e) if e.depth() > 0 => {
                let path = e.path().unwrap_or(root).to_owned();
                let error = walk_error(e);
                setting.watch.unread(&native::text(&path), &error);
                // The folder itself was met before what is in it could not be.
                tree.nodes.retain(|n| n.path != below(&path));
                let broken = File::broken(0, error.to_string());
                tree.nodes.push(Node::new(below(&path), Kind::File(broken), None));
                continue;
            }
            Err(e) => return Err(walk_error(e)),
        };
        let path = below(entry.path());
        let kind = if entry.file_type().is_dir() {
            Kind::Folder
        } else if entry.file_type().is_file() {
            let meta = entry.metadata().map_err(walk_error)?;
            Kind::File(File::of(Arc::new(PathSource::new(entry.path(), &meta, &setting.guard))))
        } else if entry.file_type().is_symlink() {
            Kind::Link(native::text(std::fs::read_link(entry.path()).unwrap_or_default()))
        } else {
            let kind = entry.metadata().ok().and_then(|meta| decanter_core::guard::odd_kind(&meta));
            let told = format!("{} is passed over: it is {}", native::text(entry.path()), kind.unwrap_or("no file"));
            setting.watch.notice(&Notice::new(told));
            continue;
        };
        tree.nodes.push(Node::new(path, kind, None));
    }
    attributes::apply(&mut tree)?;
    Ok(tree)
}

enum Found {
    Place(Place),
    Folder(Tree),
}

/// What stands at the path in the tree: a file, or a folder as a tree of its own.
fn follow(tree: &Tree, path: &str) -> Result<Found> {
    let path = path.trim_matches('/');
    if path.is_empty() {
        return Ok(Found::Folder(tree.clone()));
    }
    let inside = format!("{path}/");
    if let Some(file) = tree.find(path).and_then(Node::file) {
        let name = path.rsplit('/').next().unwrap_or(path).to_owned();
        return Ok(Found::Place(Place { source: held(file.source()?), name }));
    }
    let below = |n: &Node| n.path.strip_prefix(&inside).map(|p| Node { path: p.to_owned(), ..n.clone() });
    let nodes: Vec<Node> = tree.nodes.iter().filter_map(below).collect();
    if nodes.is_empty() && tree.find(path).is_none() {
        let why = std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such entry in it");
        return Err(Error::Io { op: "open", path: Some(path.into()), offset: None, source: why });
    }
    Ok(Found::Folder(Tree { nodes }))
}

fn no_inside(name: &str) -> Error {
    Error::Usage(format!("\"{name}\" has no files inside that \"{INSIDE}\" could lead to"))
}

/// The one image in a tree, if there is exactly one.
fn only_image(tree: &Tree, watch: &dyn Watch) -> Result<Option<Only>> {
    if let Some((path, place)) = only_sheet(tree)? {
        return Ok(Some(Only { path, place, others: Vec::new() }));
    }
    let mut candidates = candidates(tree);
    // The largest ones, in the order of the archive: what was packed together is then unpacked once.
    let mut lens: Vec<u64> = candidates.iter().map(|(_, place)| place.source.len()).collect();
    lens.sort_unstable_by_key(|len| std::cmp::Reverse(*len));
    let least = lens.get(MOST_PROBES - 1).copied().unwrap_or(0);
    candidates.retain(|(_, place)| place.source.len() >= least);
    // A compressed image has nothing else inside.
    let is_alone = tree.files().count() == 1;
    let mut seen = Seen::default();
    let (mut unknown, mut doubtful) = (Vec::new(), Vec::new());
    for (path, place) in candidates {
        let detected = REGISTRY.detect(&Glance::new(place.source.clone()), &[]);
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
        && let Some(format) = REGISTRY.detect(&Glance::far(place.source.clone()), &[])?
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
fn is_named_as_dump(path: &str) -> bool {
    let extension = path.rsplit_once('.').map_or("", |(_, e)| e).to_lowercase();
    let is_dump =
        |f: &&&'static dyn decanter_core::Format| f.is_image() || f.is_packed_image() || f.is_package() || f.is_rom();
    let known = REGISTRY.formats().iter().filter(is_dump).flat_map(|f| f.extensions());
    known.chain(&["bin", "img", "iso", "cue"]).any(|e| *e == extension)
}

/// The one image that an archive stands for.
struct Only {
    path: String,
    place: Place,
    /// Other dumps that were met.
    others: Vec<String>,
}

/// What the files of a tree are, as far as somebody may look for one of them.
#[derive(Default)]
struct Seen {
    images: Vec<(String, Place)>,
    roms: Vec<(String, Place)>,
    archives: Vec<String>,
    /// The length of the largest file that can be read.
    whole: u64,
    /// Lengths of what cannot be read, and why.
    damaged: Vec<(u64, Error)>,
}

impl Seen {
    fn add(&mut self, format: &'static dyn decanter_core::Format, path: String, place: Place) {
        if format.is_image() || format.is_packed_image() || format.is_package() {
            self.images.push((path, place));
        } else if format.is_rom() {
            self.roms.push((path, place));
        } else if format.is_archive() {
            self.archives.push(path);
        }
    }

    /// Whether one was found that something of this length could be beside.
    fn is_one_beside(&self, len: u64) -> bool {
        let found = if self.images.is_empty() { &self.roms } else { &self.images };
        matches!(&found[..], [(_, place)] if len.saturating_mul(LEAST_SHARE) >= place.source.len())
    }

    /// The one that is meant, if there is exactly one. Beside an image, what looks like a ROM is one of its files.
    fn only(mut self) -> Result<Option<Only>> {
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
                let others = self.archives.into_iter().chain(aside.into_iter().map(|(path, _)| path)).collect();
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
    for (node, file) in item.opened.tree.iter().flat_map(|t| t.files()) {
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
    let format = match REGISTRY.detect(&Glance::new(source.clone()), &[])? {
        Some(format) if format.is_rom() => format,
        Some(format) if format.is_image() || format.is_packed_image() || format.is_package() => {
            return Ok(Inner::Image);
        }
        _ => return Ok(Inner::Other),
    };
    let stem = stem_of(path.rsplit('/').next().unwrap_or(path));
    let names = [stem.clone()];
    let depth = item.around.len() + 1;
    let (keys, watch) = (&item.keyring, setting.watch);
    let context = Context { registry: &REGISTRY, keys, names: &names, watch, depth, beside: &() };
    let source = &held(source);
    let opened = format.open(source.clone(), &context)?;
    let is_folder = item.opened.format == "folder";
    let address = match is_folder {
        true => native::text(item.host.join(native::os(path))),
        false => format!("{}{INSIDE}{path}", item.address.trim_end_matches(INSIDE)),
    };
    let mut around = item.around.clone();
    if !is_folder {
        around.push(item.opened.kind.clone());
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
        others: Vec::new(),
        descriptions: Vec::new(),
    })))
}

/// Opens bytes that were put together on the way: joined parts, a header and what follows it.
///
/// # Errors
/// When they are of no known format, or broken.
pub(crate) fn open_bytes(shown: &str, source: SourceRef, setting: &Setting<'_>) -> Result<Item> {
    let keyring = keys::gather(setting, &Around::default());
    let name = decanter_core::catalogue::last_name(shown.rsplit(INSIDE).next().unwrap_or(shown));
    let names = [stem_of(name)];
    let context =
        Context { registry: &REGISTRY, keys: &keyring, names: &names, watch: setting.watch, depth: 0, beside: &() };
    let opened = REGISTRY.open(source.clone(), &context, &[])?;
    let [stem] = names;
    Ok(Item {
        shown: shown.to_owned(),
        address: shown.to_owned(),
        host: native::path(shown),
        stem,
        around: Vec::new(),
        source: Some(source),
        opened,
        keyring,
        unfinished: None,
        through: Vec::new(),
        sealed_around: Vec::new(),
        others: Vec::new(),
        descriptions: Vec::new(),
    })
}

/// The one cue sheet in a tree, if there is exactly one: the other files are then its tracks.
fn only_sheet(tree: &Tree) -> Result<Option<(String, Place)>> {
    let named = |n: &Node| n.path.len() > 4 && n.path.as_bytes()[n.path.len() - 4..].eq_ignore_ascii_case(b".cue");
    let mut sheets = tree.files().filter(|(n, _)| named(n));
    let (Some((node, file)), None) = (sheets.next(), sheets.next()) else { return Ok(None) };
    let Content::Whole(source) = &file.content else { return Ok(None) };
    let is_sheet = REGISTRY.detect(source.as_ref(), &[])?.is_some_and(|f| f.id() == "cue");
    Ok(is_sheet.then(|| (node.path.clone(), Place { source: source.clone(), name: node.name().to_owned() })))
}

/// Files large enough to be an image, parts of split images joined.
fn candidates(tree: &Tree) -> Vec<(String, Place)> {
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
                let path = |part: &String| if folder.is_empty() { part.clone() } else { format!("{folder}/{part}") };
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

/// A file name without its last extension.
pub(crate) fn stem_of(name: &str) -> String {
    match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() && extension.len() <= 5 && !extension.contains(' ') => {
            stem.to_owned()
        }
        _ => name.to_owned(),
    }
}

impl Listing {
    fn of(folder: &Path, guard: &Guard) -> Self {
        let names = names_in(folder);
        let mut files: Vec<(String, String, SourceRef)> = Vec::new();
        for name in names.iter().filter(|n| keys::may_matter(n)).take(MOST_NEAR) {
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

impl Around {
    /// Adds the small files next to `host` on this machine.
    fn look_at(&mut self, host: &Path, setting: &Setting<'_>) -> Arc<Vec<String>> {
        let folder = match host.parent() {
            Some(parent) if !parent.as_os_str().is_empty() => parent,
            _ => Path::new("."),
        };
        self.folders.push(native::text(folder));
        let mut kept = setting.folders.lock().unwrap_or_else(|e| e.into_inner());
        let listing = kept.entry(folder.to_owned()).or_insert_with(|| Listing::of(folder, &setting.guard)).clone();
        self.files.extend(listing.files);
        listing.names
    }

    /// Adds the small files that stand next to `path` in a container.
    fn look_inside(&mut self, container: &str, tree: &Tree, path: &str) {
        let folder = path.rsplit_once('/').map_or("", |(f, _)| f);
        for (node, file) in tree.files() {
            let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
            if parent == folder
                && keys::may_matter(name)
                && file.len <= decanter_core::keyring::MOST_LIST_BYTES
                && let Content::Whole(source) = &file.content
            {
                self.files.push((format!("{container}{INSIDE}{}", node.path), name.to_owned(), source.clone()));
            }
        }
    }

    /// The descriptions among them that are of the disc with this id.
    fn descriptions(&self, id: Option<&str>) -> Vec<(String, SourceRef)> {
        let Some(id) = id.map(plain) else { return Vec::new() };
        let fits = |source: &SourceRef| keys::description(source).is_some_and(|d| plain(&d.id) == id);
        self.files.iter().filter(|(_, _, s)| fits(s)).map(|(at, _, s)| (at.clone(), s.clone())).collect()
    }
}

impl Item {
    /// Name of the innermost file.
    pub fn file_name(&self) -> String {
        let inner = self.address.rsplit(INSIDE).next().unwrap_or(&self.address);
        inner.rsplit('/').next().unwrap_or(inner).to_owned()
    }

    /// Whether it is a title that is packed to be installed or started.
    pub fn is_package(&self) -> bool {
        REGISTRY.get(self.opened.format).is_some_and(|f| f.is_package())
    }

    /// Everything that was noticed on the way in.
    pub fn notices(&self) -> &[Notice] {
        &self.opened.notices
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stems_lose_one_short_extension() {
        assert_eq!(stem_of("Kelp Courier.iso"), "Kelp Courier");
        assert_eq!(stem_of("Gullwing GP v1.02 final"), "Gullwing GP v1.02 final");
        assert_eq!(stem_of(".hidden"), ".hidden");
    }

    #[test]
    fn an_address_is_cut_at_double_colons() {
        let (host, inside) = split_address("no such/box.zip::a b.iso::PS3_GAME/PARAM.SFO");
        assert_eq!(host, Path::new("no such/box.zip"));
        assert_eq!(inside, ["a b.iso", "PS3_GAME/PARAM.SFO"]);
    }
}
