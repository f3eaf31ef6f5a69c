//! Files of several sources over each other, by their paths without case, as the console compares them.

use super::Source;
use crate::convert::add_folders;
use crate::merge::report::{Dropped, Taken};
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::{Error, Format, Result};
use decanter_formats::package::ps4::{self, PARAMETERS, entry, pfs::paths::folded};
use std::collections::HashMap;

/// What came of laying sources over each other.
pub(super) struct Over {
    pub(super) tree: Tree,
    pub(super) taken: Vec<Taken>,
    pub(super) dropped: Vec<Dropped>,
}

/// Where a file of the result is from.
struct Place {
    source: usize,
    node: usize,
}

/// Lays the files of sources over each other, in their order, and takes their trees for that: there may be a hundred thousand
/// files. A file keeps the spelling of the first source that has it.
///
/// # Errors
/// For files that cannot be read, or links.
pub(super) fn lay_over(all: &mut [Source]) -> Result<Over> {
    let mut taken: Vec<Taken> = all.iter().map(of).collect();
    let mut dropped = Vec::new();
    let mut tree = Tree::default();
    let mut places: HashMap<String, Place> = HashMap::new();
    for (number, source) in all.iter_mut().enumerate() {
        let is_package = ps4::PACKAGE.is_of(&source.item.opened);
        for node in source.item.opened.holds.tree.take().unwrap_or_default().nodes {
            let file = match &node.kind {
                Kind::Folder => continue,
                Kind::Link(target) => {
                    let why = format!("\"{}\" in \"{}\" is a link (to {target})", node.path, source.item.shown);
                    return Err(Error::Unreadable { why });
                }
                Kind::File(file) => file,
            };
            if folded(&node.path) == folded(PARAMETERS) {
                continue;
            }
            // What somebody put into a folder is meant; what a package carries of itself is its own.
            if let Some(why) = entry::why_not_kept(&node.path).filter(|_| is_package) {
                let (source, path) = (source.item.address.clone(), node.path.clone());
                dropped.push(Dropped { source, path, bytes: file.len, why: why.to_owned() });
                continue;
            }
            file.source().map_err(|e| match e {
                e if e.blame() == decanter_core::error::Blame::Source => {
                    Error::Unreadable { why: format!("{} in \"{}\" cannot be read: {e}", node.path, source.item.shown) }
                }
                e => e,
            })?;
            match places.get_mut(&folded(&node.path)) {
                None => {
                    places.insert(folded(&node.path), Place { source: number, node: tree.nodes.len() });
                    let len = file.len;
                    tree.nodes.push(Node::new(node.path, node.kind, None));
                    taken[number].added += 1;
                    taken[number].bytes += len;
                }
                Some(place) => {
                    let before = &mut tree.nodes[place.node];
                    let old = before.file().map_or(0, |f| f.len);
                    taken[number].bytes += file.len;
                    before.kind = node.kind;
                    taken[place.source].files -= 1;
                    taken[place.source].bytes -= old;
                    taken[place.source].superseded += 1;
                    taken[number].replaced += 1;
                    place.source = number;
                }
            }
            taken[number].files += 1;
        }
    }
    spell_folders_alike(&mut tree);
    add_folders(&mut tree);
    Ok(Over { tree, taken, dropped })
}

fn of(source: &Source) -> Taken {
    Taken {
        source: source.item.address.clone(),
        what: source.layer.what(),
        files: 0,
        bytes: 0,
        replaced: 0,
        added: 0,
        superseded: 0,
    }
}

/// Folders that differ in case alone are one for the console: all files in them get the spelling of the first.
fn spell_folders_alike(tree: &mut Tree) {
    let mut known: HashMap<String, String> = HashMap::new();
    for node in &mut tree.nodes {
        let Some((folder, name)) = node.path.rsplit_once('/') else { continue };
        let mut spelled = String::new();
        for part in folder.split('/') {
            let path = decanter_core::tree::below(&spelled, part);
            spelled = known.entry(folded(&path)).or_insert(path).clone();
        }
        if spelled != folder {
            node.path = format!("{spelled}/{name}");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use decanter_core::tree::File;
    use std::sync::Arc;

    #[test]
    fn folders_get_the_spelling_of_the_first() {
        let file = |path: &str| Node::new(path.into(), Kind::File(File::of(Arc::new(Bytes(Vec::new())))), None);
        let mut tree = Tree { nodes: ["Media/Sea/a", "media/SEA/b", "MEDIA/c", "d"].map(file).to_vec() };
        spell_folders_alike(&mut tree);
        let paths: Vec<&str> = tree.nodes.iter().map(|n| n.path.as_str()).collect();
        assert_eq!(paths, ["Media/Sea/a", "Media/Sea/b", "Media/c", "d"]);
    }
}
