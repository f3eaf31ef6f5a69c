//! What lies beside a source: the files of its folder, in a store and in containers; and folders as trees.

use super::INSIDE;
use super::listing::{KEYS, Listing, MOST_FILES};
use super::piped::PIPE;
use crate::key_files::{self, Gathering};
use crate::{Setting, attributes};
use decanter_core::format::Beside;
use decanter_core::keyring::plain;
use decanter_core::source::SourceRef;
use decanter_core::store::{self, MetKind, Store};
use decanter_core::tree::{Content, File, Kind, Node, Tree, below};
use decanter_core::{Error, Keyring, Notice, Result};
use std::collections::BTreeSet;
use std::sync::Arc;

/// What is known of the surroundings of a source: files in the same folder, on this machine and in containers.
#[derive(Default)]
pub struct Around {
    /// Small files next to it: where they are, their name, their bytes.
    pub files: Vec<(String, String, SourceRef)>,
    /// Folders on this machine that were looked into.
    pub folders: Vec<String>,
}

/// The files of the folder that a source stands in.
pub(super) enum Near<'a> {
    /// In a store: the folder, and the names in it.
    Store(Arc<dyn Store + 'a>, String, Arc<Vec<String>>),
    /// In a container.
    Inside(Tree, String),
}

impl Near<'_> {
    pub(super) fn inside(tree: &Tree, path: &str) -> Self {
        let folder = path.trim_matches('/').rsplit_once('/').map_or("", |(f, _)| f);
        // What is beside it, and what is in the folders beside it.
        let parent = |path: &str| path.rfind('/');
        let inside = |n: &Node| {
            let own = parent(&n.path).map_or("", |at| &n.path[..at]);
            own == folder || !own.is_empty() && parent(own).map_or("", |at| &own[..at]) == folder
        };
        let nodes = tree.nodes.iter().filter(|n| inside(n)).cloned().collect();
        Self::Inside(Tree { nodes }, folder.to_owned())
    }
}

impl Beside for Near<'_> {
    fn named(&self, extension: &str) -> Vec<String> {
        let wanted = format!(".{extension}");
        let fits = |name: &str| name.to_lowercase().ends_with(&wanted);
        let mut names: Vec<String> = match self {
            Self::Store(_, _, names) => names.iter().filter(|n| fits(n)).cloned().collect(),
            Self::Inside(tree, folder) => {
                direct(tree, folder).map(|n| n.name().to_owned()).filter(|n| fits(n)).collect()
            }
        };
        names.sort();
        names
    }

    fn folder(&self, name: &str) -> Result<Option<(String, Tree)>> {
        match self {
            Self::Store(store, folder, names) => {
                let Some(found) = one_of(names.iter().map(String::as_str), name) else { return Ok(None) };
                let path = store::join(folder, found);
                if !store.is_folder(&path)? {
                    return Ok(None);
                }
                let mut tree = Tree::default();
                for name in store.names(&path, MOST_FILES) {
                    let path = store::join(&path, &name);
                    if !store.is_folder(&path)? {
                        let file = File::of(store.open_later(&path)?);
                        tree.nodes.push(Node::new(name, Kind::File(file), None));
                    }
                }
                Ok(Some((found.to_owned(), tree)))
            }
            Self::Inside(tree, folder) => {
                // Archives need not name their folders.
                let below_it = |path: &str| {
                    let rest = if folder.is_empty() { path } else { path.strip_prefix(folder)?.strip_prefix('/')? };
                    rest.split_once('/').map(|(f, n)| (f.to_owned(), n.to_owned()))
                };
                let unique: BTreeSet<String> =
                    tree.files().filter_map(|(n, _)| below_it(&n.path)).map(|(f, _)| f).collect();
                let Some(found) = one_of(unique.iter().map(String::as_str), name) else { return Ok(None) };
                let own = |(n, file): (&Node, &File)| {
                    let (_, name) = below_it(&n.path).filter(|(f, _)| f == found)?;
                    Some(Node::new(name, Kind::File(file.clone()), n.modified))
                };
                Ok(Some((found.to_owned(), Tree { nodes: tree.files().filter_map(own).collect() })))
            }
        }
    }

    fn find(&self, name: &str) -> Result<Option<(String, SourceRef)>> {
        // A sheet may name a path on the machine where it was made: only the last name can be next to it here.
        let name = decanter_core::catalogue::last_name(name);
        match self {
            Self::Store(store, folder, names) => {
                let Some(found) = one_of(names.iter().map(String::as_str), name) else { return Ok(None) };
                Ok(Some((found.to_owned(), store.open(&store::join(folder, found))?)))
            }
            Self::Inside(tree, folder) => {
                let Some(found) = one_of(direct(tree, folder).map(Node::name), name) else { return Ok(None) };
                let path = below(folder, found);
                let file = tree.find(&path).and_then(Node::file);
                file.map(|f| Ok((found.to_owned(), f.source()?.clone()))).transpose()
            }
        }
    }
}

/// The files of a folder in a container.
fn direct<'a>(tree: &'a Tree, folder: &'a str) -> impl Iterator<Item = &'a Node> + Clone {
    let parent = move |n: &&Node| n.path.rsplit_once('/').map_or("", |(f, _)| f) == folder;
    tree.nodes.iter().filter(|n| n.file().is_some()).filter(parent)
}

/// The name that is `wanted`, or else the only one that differs in case alone.
pub(super) fn one_of<'a>(names: impl Iterator<Item = &'a str> + Clone, wanted: &str) -> Option<&'a str> {
    if let Some(exact) = names.clone().find(|n| *n == wanted) {
        return Some(exact);
    }
    let folded = wanted.to_lowercase();
    let mut alike = names.filter(|n| n.to_lowercase() == folded);
    alike.next().filter(|_| alike.next().is_none())
}

/// The files next to one in a store.
pub(crate) fn beside<'a>(path: &str, setting: &'a Setting<'_>) -> impl Beside + use<'a> {
    let names = Around::default().look_at(path, setting);
    Near::Store(setting.store(path), store::folder_of(path).to_owned(), names)
}

/// A folder as a tree. Links in it are not followed; what cannot be looked into is a broken file of it, and told; what is
/// no file is told.
pub(super) fn folder_tree(root: &str, setting: &Setting<'_>) -> Result<Tree> {
    let mut tree = Tree::default();
    let store = setting.store(root);
    store.walk(root, &mut |met| {
        if tree.nodes.len() >= MOST_FILES {
            let limit = MOST_FILES as u64;
            return Err(Error::Limit { what: "files in a folder", asked: limit + 1, limit });
        }
        let kind = match met.kind {
            MetKind::Folder => Kind::Folder,
            MetKind::File => Kind::File(File::of(store.open_later(&met.path)?)),
            MetKind::Link(target) => Kind::Link(target),
            MetKind::Closed(error) => {
                setting.watch.unread(&met.path, &error);
                // The folder itself was met before what is in it could not be.
                tree.nodes.retain(|n| n.path != met.below);
                Kind::File(File::broken(0, error.to_string()))
            }
            MetKind::Odd(what) => {
                setting.watch.notice(&Notice::new(format!("{} is passed over: it is {what}", met.path)));
                return Ok(());
            }
        };
        tree.nodes.push(Node::new(met.below, kind, None));
        Ok(())
    })?;
    attributes::apply(&mut tree)?;
    Ok(tree)
}

impl Around {
    /// All keys for a source with these surroundings. What lies next to it goes before what the user keeps elsewhere.
    pub(crate) fn keyring(&self, setting: &Setting<'_>) -> Keyring {
        let mut gathering = Gathering::begin(setting.key.as_ref(), setting.passcode.as_ref(), &self.folders);
        for (at, name, source) in &self.files {
            gathering.file(at, name, source);
        }
        gathering.append(setting.kept_keys.get_or_init(|| Gathering::of_places(&setting.key_places, &setting.guard)));
        gathering.finish()
    }

    /// Adds the small files next to what stands at `path` in its store; all names there.
    pub(super) fn look_at(&mut self, path: &str, setting: &Setting<'_>) -> Arc<Vec<String>> {
        if path == PIPE {
            return Arc::default();
        }
        let folder = match store::folder_of(path) {
            "" => ".",
            folder => folder,
        };
        self.folders.push(folder.to_owned());
        let mut kept = setting.folders.lock().unwrap_or_else(|e| e.into_inner());
        let of = || Listing::of(folder, setting.store(path).as_ref());
        let listing = kept.entry(folder.to_owned()).or_insert_with(of).clone();
        self.files.extend(listing.files);
        // Keys of their own folder: beside the source, or beside the folder of its title.
        let own = if folder == "." { "" } else { folder };
        let around = (!own.is_empty() && own != "/").then(|| store::folder_of(own));
        for place in std::iter::once(own).chain(around) {
            let slot = format!("{}/", store::join(place, KEYS));
            let known = kept.get(&slot).cloned();
            let keys = known.or_else(|| Listing::of_keys(place, setting.store(path).as_ref()));
            if let Some(keys) = keys {
                self.folders.push(store::join(place, KEYS));
                self.files.extend(keys.files.iter().cloned());
                kept.entry(slot).or_insert(keys);
            }
        }
        listing.names
    }

    /// Adds the small files that stand next to `path` in a container.
    pub(super) fn look_inside(&mut self, container: &str, tree: &Tree, path: &str) {
        let folder = path.rsplit_once('/').map_or("", |(f, _)| f);
        for (node, file) in tree.files() {
            let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
            if parent == folder
                && key_files::may_matter(name)
                && file.len <= decanter_core::keyring::MOST_LIST_BYTES
                && let Content::Whole(source) = &file.content
            {
                self.files.push((format!("{container}{INSIDE}{}", node.path), name.to_owned(), source.clone()));
            }
        }
    }

    /// The descriptions among them that are of the disc with this id.
    pub(super) fn descriptions(&self, id: Option<&str>) -> Vec<(String, SourceRef)> {
        let Some(id) = id.map(plain) else { return Vec::new() };
        let fits = |source: &SourceRef| key_files::description(source).is_some_and(|d| plain(&d.id) == id);
        self.files.iter().filter(|(_, _, s)| fits(s)).map(|(at, _, s)| (at.clone(), s.clone())).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::native;
    use decanter_core::source::Bytes;

    #[test]
    fn the_exact_name_goes_first_and_case_alone_must_be_clear() {
        let names = ["a.BIN", "A.bin", "Track 1.bin"];
        let found = |wanted| one_of(names.iter().copied(), wanted);
        assert_eq!((found("A.bin"), found("a.BIN")), (Some("A.bin"), Some("a.BIN")));
        assert_eq!((found("a.bin"), found("TRACK 1.BIN"), found("b.bin")), (None, Some("Track 1.bin"), None));
    }

    fn file(path: &str) -> Node {
        let source: SourceRef = Arc::new(Bytes(path.as_bytes().to_vec()));
        Node::new(path.to_owned(), Kind::File(File::of(source)), None)
    }

    #[test]
    fn what_is_beside_an_entry_is_in_its_own_folder_and_no_deeper() {
        let tree = Tree { nodes: ["in/a.cue", "in/a.bin", "in/deep/b.bin", "c.bin"].map(file).to_vec() };
        let near = Near::inside(&tree, "in/a.cue");
        assert_eq!(near.named("bin"), ["a.bin"]);
        let (name, source) = near.find("A.BIN").unwrap().unwrap();
        assert_eq!((name.as_str(), source.len()), ("a.bin", 8));
        // A sheet may name a path of the machine where it was made: its last name counts.
        assert!(near.find("C:\\dumps\\a.bin").unwrap().is_some());
        assert!(near.find("b.bin").unwrap().is_none() && near.find("c.bin").unwrap().is_none());
        assert_eq!(Near::inside(&tree, "c.bin").named("bin"), ["c.bin"]);
    }

    #[test]
    fn keys_beside_a_source_go_before_those_that_are_kept_elsewhere() {
        let folder = tempfile::tempdir().unwrap();
        let (own, kept) = (folder.path().join("own"), folder.path().join("kept"));
        for (place, digit) in [(&own, "1"), (&kept, "2")] {
            std::fs::create_dir(place).unwrap();
            std::fs::write(place.join("DCNT-10001.key"), digit.repeat(32)).unwrap();
        }
        let mut setting = Setting::new(&());
        setting.key_places.push(kept);
        let mut around = Around::default();
        around.look_at(&native::text(own.join("disc.iso")), &setting);
        let ring = around.keyring(&setting);
        let entry = ring.named("DCNT-10001").unwrap();
        assert!(entry.origin.contains("own") && entry.key.bytes() == [0x11; 16]);
        let looked = ring.looked();
        assert!(looked.iter().any(|l| l.ends_with("own")) && looked.iter().any(|l| l.ends_with("kept")), "{looked:?}");
    }
}
