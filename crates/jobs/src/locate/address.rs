//! Addresses: a path in a store, and what comes after each `::`.

use super::INSIDE;
use super::kept::Container;
use super::near::{Around, Near, folder_tree};
use super::piped::{self, PIPE};
use crate::Setting;
use crate::dump::map::Map;
use decanter_core::names::stem_of;
use decanter_core::opened::Identity;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::store;
use decanter_core::tree::{Node, Tree};
use decanter_core::view::{Concat, Gaps, held};
use decanter_core::{Error, Keyring, Opener, Result, native, split};
use std::path::PathBuf;
use std::sync::Arc;

/// A step of the way in.
pub(super) struct Place {
    pub(super) source: SourceRef,
    pub(super) name: String,
}

/// What an address leads to, before anything is looked through.
pub(super) struct Reached<'a> {
    pub(super) host: PathBuf,
    pub(super) found: Found,
    pub(super) around: Around,
    /// Keys that what was gone through carries for what is in it, with all others.
    pub(super) carried: Option<Arc<Keyring>>,
    pub(super) near: Near<'a>,
    pub(super) names: Vec<String>,
    pub(super) kinds: Vec<Identity>,
    /// The map of the dump on this machine, if that is not finished.
    pub(super) unfinished: Option<Arc<Map>>,
    pub(super) through: Vec<SourceRef>,
    /// A part of a split image that is not there, though later ones are.
    pub(super) gap: Option<String>,
    /// True when the address ends in `::`, which asks for the container itself.
    pub(super) stop: bool,
}

/// Follows an address.
pub(super) fn reach<'a>(shown: &str, setting: &'a Setting<'_>) -> Result<Reached<'a>> {
    let (host, inside) = entry_of_folder(split_address(shown, setting), setting);
    let store = setting.store(&host);
    let mut around = Around::default();
    let siblings = around.look_at(&host, setting);
    let gap = split::gap(store::name_of(&host), &siblings);
    let (mut names, mut kinds) = (Vec::new(), Vec::new());
    let stop = inside.last().is_some_and(String::is_empty);
    let mut parts = inside.iter().filter(|p| !p.is_empty());
    let (mut unfinished, mut through) = (None, Vec::new());
    let mut carried: Option<Arc<Keyring>> = None;
    let mut at = host.clone();
    let mut found = if store.is_folder(&host)? {
        let part = parts.next().map_or("", String::as_str);
        at = format!("{at}{INSIDE}{part}");
        follow(&folder_tree(&host, setting)?, part)?
    } else {
        let (place, map) = host_file(&host, &siblings, setting)?;
        unfinished = map;
        Found::Place(place)
    };
    let mut near = Near::Store(store, store::folder_of(&host).to_owned(), siblings);
    for (depth, part) in parts.enumerate() {
        let Found::Place(place) = found else { return Err(no_inside("a folder")) };
        names.push(stem_of(&place.name));
        let kept = setting.containers.find(&at).filter(|kept| carried.is_none() && kept.has(part));
        let container = match kept {
            Some(kept) => kept,
            None => {
                let ring = match &carried {
                    Some(keys) => keys.clone(),
                    None => Arc::new(around.keyring(setting)),
                };
                let innermost_first: Vec<String> = names.iter().rev().cloned().collect();
                let opener = setting.opener(&ring).with_names(&innermost_first).at_depth(depth).with_beside(&near);
                let (container, keys) = open_for(&place, part, &opener)?;
                let container = Arc::new(container);
                if keys.is_none() && carried.is_none() && container.may_be_kept() {
                    setting.containers.keep(&at, &container);
                }
                carried = keys.or(carried);
                container
            }
        };
        let tree = &container.tree;
        around.look_inside(&place.name, tree, part);
        kinds.extend(container.kinds.iter().cloned());
        if let Some(source) = tree.find(part.trim_matches('/')).and_then(Node::file).and_then(|f| f.source().ok()) {
            setting.owes(source);
            through.push(source.clone());
        }
        found = follow(tree, part)?;
        near = Near::inside(tree, part);
        at = format!("{at}{INSIDE}{part}");
    }
    let host = native::path(&host);
    Ok(Reached { host, found, around, carried, near, names, kinds, unfinished, through, gap, stop })
}

/// Opens a container for what is at `part` in it; also the keys that it carries for that.
fn open_for(place: &Place, part: &str, opener: &Opener<'_>) -> Result<(Container, Option<Arc<Keyring>>)> {
    let mut kinds = Vec::new();
    let mut opened = opener.open(place.source.clone())?;
    // A path that a compressed image does not have may lead on in the image inside.
    while let Some((name, inner)) = packed_inside(&opened, part) {
        let names = [stem_of(&name)];
        let opener = opener.inside()?.with_names(&names);
        kinds.push(opened.identity);
        opened = opener.open(inner)?;
    }
    if opened.holds.tree.as_ref().is_some_and(|tree| tree.find(part.trim_matches('/')).is_none()) {
        opened.look_inside()?;
    }
    let tree = opened.holds.tree.ok_or_else(|| no_inside(&place.name))?;
    kinds.push(opened.identity);
    Ok((Container { kinds, tree }, opened.holds.keys))
}

/// A file in a folder of a store is as good as its own path, and so are the keys and parts beside it.
pub(super) fn entry_of_folder(
    (host, mut inside): (String, Vec<String>),
    setting: &Setting<'_>,
) -> (String, Vec<String>) {
    let Some(first) = inside.iter().position(|p| !p.is_empty()).filter(|_| setting.is_folder(&host)) else {
        return (host, inside);
    };
    let name = inside[first].trim_matches('/');
    let entry = store::join(host.trim_end_matches('/'), name);
    let stays_inside = name.split('/').all(|part| part != "..");
    if stays_inside && setting.store(&entry).is_folder(&entry).is_ok_and(|is_folder| !is_folder) {
        inside.remove(first);
        return (entry, inside);
    }
    (host, inside)
}

/// The one file of a compressed image, if `part` is not the way to it.
pub(super) fn packed_inside(opened: &Opened, part: &str) -> Option<(String, SourceRef)> {
    let is_packed = opened.identity.role == Role::Wrapper && opened.holds.tracks.is_empty();
    let tree = opened.holds.tree.as_ref().filter(|tree| is_packed && tree.find(part.trim_matches('/')).is_none())?;
    let (node, file) = tree.files().next()?;
    Some((node.name().to_owned(), file.source().ok()?.clone()))
}

/// Why an unfinished dump is not worked on as if it were a disc.
pub(crate) fn unfinished() -> Error {
    Error::Unreadable { why: "it is a dump that is not finished: some of its sectors were not read".into() }
}

/// The path in its store, and what comes after each `::`. A path that exists as it stands is taken as it stands.
pub(super) fn split_address(shown: &str, setting: &Setting<'_>) -> (String, Vec<String>) {
    if !shown.contains(INSIDE) || setting.store(shown).is_folder(shown).is_ok() {
        // A folder with a slash behind it is the folder, and what is beside it is not what is in it.
        let bare = shown.trim_end_matches('/');
        return (if bare.is_empty() || bare.ends_with(':') { shown } else { bare }.to_owned(), Vec::new());
    }
    let mut parts = shown.split(INSIDE);
    let host = parts.next().unwrap_or_default();
    (host.to_owned(), parts.map(str::to_owned).collect())
}

/// A file in a store, with the other parts of a split image. `siblings` are the names in its folder.
fn host_file(path: &str, siblings: &[String], setting: &Setting<'_>) -> Result<(Place, Option<Arc<Map>>)> {
    let (folder, name) = (store::folder_of(path), store::name_of(path));
    if path == PIPE {
        return Ok((Place { source: setting.store(path).open(path)?, name: piped::NAME.to_owned() }, None));
    }
    if split::is_numbered(name)
        && let Some(parts) = split::parts(name, siblings)
    {
        let store = setting.store(path);
        let parts = parts.iter().map(|part| store.open(&store::join(folder, part))).collect::<Result<_>>()?;
        return Ok((Place { source: Arc::new(Concat::new(parts)?), name: split::whole_name(name).to_owned() }, None));
    }
    let (source, map) = file_and_map(path, setting)?;
    let name = if map.is_some() { name.strip_suffix(".incomplete").unwrap_or(name) } else { name };
    Ok((Place { source, name: name.to_owned() }, map))
}

/// The bytes of a file in a store, whatever it is a part of; and the map of a dump that is not finished, whose gaps are
/// errors unless zeros may stand for them.
pub(crate) fn file_and_map(path: &str, setting: &Setting<'_>) -> Result<(SourceRef, Option<Arc<Map>>)> {
    let store = setting.store(path);
    let source = store.open(path)?;
    // Dumps are made on this machine: nowhere else does one lie unfinished.
    let map = store.local(path).map(|path| Map::beside(&path)).transpose()?.flatten();
    let Some(mut map) = map else { return Ok((source, None)) };
    map.cut_to(source.len());
    if map.missing() == 0 {
        return Ok((source, None));
    }
    let len = map.sector_len;
    let gaps = map.gaps().iter().map(|r| r.first * len..((r.first + r.count) * len)).collect();
    let source = if setting.incomplete { source } else { Arc::new(Gaps::new(source, gaps, len)?) };
    Ok((source, Some(Arc::new(map))))
}

pub(super) enum Found {
    Place(Place),
    Folder(Tree),
}

/// What stands at the path in the tree: a file, or a folder as a tree of its own.
pub(super) fn follow(tree: &Tree, path: &str) -> Result<Found> {
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
        let why = std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such entry in what is around it");
        return Err(Error::Io { op: "open", path: Some(path.into()), offset: None, source: why });
    }
    Ok(Found::Folder(Tree { nodes }))
}

pub(super) fn no_inside(name: &str) -> Error {
    Error::Usage(format!("\"{name}\" has no files inside that \"{INSIDE}\" could lead to"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use decanter_core::tree::{File, Kind};
    use proptest::prelude::*;

    fn tree(paths: &[&str]) -> Tree {
        let file = |path: &&str| {
            let content: SourceRef = Arc::new(Bytes(path.as_bytes().to_vec()));
            Node::new((*path).to_owned(), Kind::File(File::of(content)), None)
        };
        Tree { nodes: paths.iter().map(file).collect() }
    }

    fn place(found: Found) -> Place {
        match found {
            Found::Place(place) => place,
            Found::Folder(_) => panic!("a folder"),
        }
    }

    #[test]
    fn a_path_in_a_tree_leads_to_a_file_or_to_a_folder_as_a_tree_of_its_own() {
        let tree = tree(&["a/b/one.bin", "a/two.bin", "three.bin"]);
        assert_eq!(place(follow(&tree, "/a/two.bin").unwrap()).name, "two.bin");
        let Found::Folder(inner) = follow(&tree, "a").unwrap() else { panic!("a file") };
        assert_eq!(inner.nodes.iter().map(|n| n.path.as_str()).collect::<Vec<_>>(), ["b/one.bin", "two.bin"]);
        let Found::Folder(all) = follow(&tree, "/").unwrap() else { panic!("a file") };
        assert_eq!(all.nodes.len(), 3);
        assert!(matches!(follow(&tree, "a/three.bin"), Err(Error::Io { .. })));
        // The beginning of a name is no folder.
        assert!(follow(&tree, "th").is_err());
    }

    #[test]
    fn what_is_in_a_folder_of_this_machine_is_as_good_as_its_own_path() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("in")).unwrap();
        std::fs::write(folder.path().join("in/a.zip"), "x").unwrap();
        let host = native::text(folder.path());
        let setting = Setting::new(&());
        let entry_of_folder = |parts| entry_of_folder((host.clone(), parts), &setting);
        let (path, rest) = entry_of_folder(vec!["in/a.zip".into(), "b.iso".into()]);
        assert_eq!((path, rest), (format!("{host}/in/a.zip"), vec!["b.iso".to_owned()]));
        // What is no file there, or would lead out of it, stays a path inside.
        for inside in ["in", "none.zip", "../a.zip", ""] {
            let parts = vec![inside.to_owned()];
            assert_eq!(entry_of_folder(parts.clone()), (host.clone(), parts));
        }
    }

    fn zip(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for (name, bytes) in files {
            writer.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut writer, bytes).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    #[test]
    fn a_container_is_opened_once_for_all_that_is_in_it() {
        let folder = tempfile::tempdir().unwrap();
        let inner = zip(&[("a.bin", b"kelp"), ("b.bin", b"brine")]);
        std::fs::write(folder.path().join("box.zip"), zip(&[("in.zip", &inner), ("c.bin", b"moth")])).unwrap();
        let host = native::text(folder.path().join("box.zip"));
        let setting = Setting::new(&());
        let read = |inside: &str| {
            let reached = reach(&format!("{host}::{inside}"), &setting).unwrap();
            let depths = (reached.names.len(), reached.kinds.len(), reached.through.len());
            let source = place(reached.found).source;
            let mut bytes = vec![0; source.len() as usize];
            source.read_at(0, &mut bytes).unwrap();
            (bytes, depths)
        };
        assert_eq!(read("in.zip::a.bin"), (b"kelp".to_vec(), (2, 2, 2)));
        let kept = [host.clone(), format!("{host}::in.zip")].map(|at| setting.containers.find(&at).unwrap());
        // Whatever becomes of the file: both are still open.
        std::fs::write(folder.path().join("box.zip"), "nothing").unwrap();
        assert!(reach(&format!("{host}::in.zip::b.bin"), &setting).unwrap().through.len() == 2);
        let again = [host.clone(), format!("{host}::in.zip")].map(|at| setting.containers.find(&at).unwrap());
        assert!(kept.iter().zip(&again).all(|(before, after)| Arc::ptr_eq(before, after)));
        // A run of its own looks for itself.
        assert!(reach(&format!("{host}::c.bin"), &Setting::new(&())).is_err());
    }

    #[test]
    fn a_slash_at_the_end_changes_nothing() {
        let setting = Setting::new(&());
        let host = |typed: &str| split_address(typed, &setting).0;
        assert_eq!((host("shelf/"), host("shelf"), host("/")), ("shelf".into(), "shelf".into(), "/".into()));
        assert_eq!(host("pier://"), "pier://");
    }

    proptest! {
        /// Whatever is typed: the pieces put together again are what was typed, but for slashes behind a single one.
        #[test]
        fn nothing_of_an_address_is_lost(parts in proptest::collection::vec("[a-z/. ]{0,8}", 1..5)) {
            let typed = format!("no such folder/{}", parts.join("::"));
            let (host, inside) = split_address(&typed, &Setting::new(&()));
            let again = std::iter::once(host).chain(inside).collect::<Vec<_>>().join("::");
            let kept = if parts.len() == 1 { typed.trim_end_matches('/') } else { &typed };
            prop_assert_eq!(again, kept);
        }
    }
}
