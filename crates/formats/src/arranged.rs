//! A tree as folders that hold folders and files, each by its number: what every writer of a file system begins with.

use decanter_core::source::SourceRef;
use decanter_core::tree::{About, Kind, Tree};
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::sync::Arc;

/// What a folder and a file have in common.
pub(crate) struct Named {
    /// Its path in the tree, for errors.
    pub(crate) path: String,
    pub(crate) name: String,
    /// Number of the folder around it; the root is its own.
    pub(crate) parent: usize,
    /// When it was last changed, in seconds since 1970.
    pub(crate) modified: Option<i64>,
    pub(crate) about: Option<Arc<About>>,
}

pub(crate) struct Folder {
    pub(crate) named: Named,
    /// Folders around it and itself: 1 for the root.
    pub(crate) level: usize,
    /// Numbers of what stands in it, in the order of the tree.
    pub(crate) folders: Vec<usize>,
    pub(crate) files: Vec<usize>,
}

pub(crate) struct Item {
    pub(crate) named: Named,
    pub(crate) source: SourceRef,
}

/// A folder or file by its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Member {
    Folder(usize),
    File(usize),
}

/// A tree whose folders and files know each other.
pub(crate) struct Arranged {
    /// The root, which has no name, then the others in the order of the tree.
    pub(crate) folders: Vec<Folder>,
    pub(crate) files: Vec<Item>,
    /// Both in the order of the tree, without the root.
    pub(crate) members: Vec<Member>,
    /// Paths of links.
    pub(crate) links: Vec<String>,
    /// When the newest of all was changed.
    pub(crate) newest: Option<i64>,
}

impl Arranged {
    /// Arranges `tree`, whose folders stand before what is in them.
    ///
    /// # Errors
    /// [`Error::Usage`] for a file without its folder, and what a file that cannot be read fails with.
    pub(crate) fn of(tree: &Tree) -> Result<Self> {
        let newest = tree.nodes.iter().filter_map(|n| n.modified).max();
        let root = Named { path: String::new(), name: String::new(), parent: 0, modified: newest, about: None };
        let mut own = Self {
            folders: vec![Folder { named: root, level: 1, folders: Vec::new(), files: Vec::new() }],
            files: Vec::new(),
            members: Vec::new(),
            links: Vec::new(),
            newest,
        };
        let mut by_path: HashMap<&str, usize> = HashMap::from([("", 0)]);
        for node in &tree.nodes {
            let (parent, name) = node.path.rsplit_once('/').unwrap_or(("", &node.path));
            let Some(&parent) = by_path.get(parent) else {
                return Err(Error::Usage(format!("the folder of {} is missing in the tree", node.path)));
            };
            let (path, name, about) = (node.path.clone(), name.to_owned(), node.about.clone());
            let named = Named { path, name, parent, modified: node.modified, about };
            match &node.kind {
                Kind::Folder => {
                    let (number, level) = (own.folders.len(), own.folders[parent].level + 1);
                    by_path.insert(&node.path, number);
                    own.folders[parent].folders.push(number);
                    own.folders.push(Folder { named, level, folders: Vec::new(), files: Vec::new() });
                    own.members.push(Member::Folder(number));
                }
                Kind::File(file) => {
                    let number = own.files.len();
                    own.folders[parent].files.push(number);
                    own.files.push(Item { named, source: file.source()?.clone() });
                    own.members.push(Member::File(number));
                }
                Kind::Link(_) => own.links.push(node.path.clone()),
            }
        }
        Ok(own)
    }

    /// What a member is called, and where.
    pub(crate) fn named(&self, member: Member) -> &Named {
        match member {
            Member::Folder(f) => &self.folders[f].named,
            Member::File(f) => &self.files[f].named,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use decanter_core::tree::{File, Node};

    fn file(path: &str, modified: Option<i64>) -> Node {
        Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(vec![7])))), modified)
    }

    fn folder(path: &str) -> Node {
        Node::new(path.into(), Kind::Folder, None)
    }

    #[test]
    fn folders_and_files_know_each_other() {
        let link = Node::new("sea/link".into(), Kind::Link("a".into()), None);
        let nodes = vec![file("a", Some(5)), folder("sea"), file("sea/b", Some(9)), folder("sea/bed"), link];
        let own = Arranged::of(&Tree { nodes }).unwrap();
        assert_eq!((own.folders.len(), own.files.len(), own.newest), (3, 2, Some(9)));
        assert_eq!((&own.folders[0].folders, &own.folders[0].files), (&vec![1], &vec![0]));
        assert_eq!((&own.folders[1].folders, &own.folders[1].files), (&vec![2], &vec![1]));
        assert_eq!(own.folders.iter().map(|f| (f.named.parent, f.level)).collect::<Vec<_>>(), [(0, 1), (0, 2), (1, 3)]);
        assert_eq!(own.members, [Member::File(0), Member::Folder(1), Member::File(1), Member::Folder(2)]);
        assert_eq!(own.named(own.members[3]).name, "bed");
        assert_eq!(own.links, ["sea/link"]);
    }

    #[test]
    fn a_file_without_its_folder_is_refused() {
        let why = |nodes| Arranged::of(&Tree { nodes }).err().unwrap().to_string();
        assert!(why(vec![file("sea/b", None), folder("sea")]).contains("sea/b"), "the folder comes too late");
        let broken = Node::new("x".into(), Kind::File(File::broken(1, "gone")), None);
        assert!(why(vec![broken]).contains("gone"));
    }
}
