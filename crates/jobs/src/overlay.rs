//! Replacement files laid over what is copied out: which are replaced, which are new, which are there already.

use crate::{Setting, locate};
use decanter_core::compare::first_difference;
use decanter_core::tree::{Content, Kind, Node, Tree};
use decanter_core::{Error, Result};
use serde::Serialize;
use std::collections::HashMap;

/// What came of the replacement files.
#[derive(Debug, Default, Serialize)]
pub struct OverlayReport {
    /// The folders or archives with them, in the order in which they were laid over.
    pub from: Vec<String>,
    /// Files that took the place of others.
    pub replaced: Vec<String>,
    /// Files that were not there before.
    pub added: Vec<String>,
    /// Files that are the same already.
    pub matching: Vec<String>,
}

/// Where the paths of a tree are. One that is spelled exactly so goes first; then the only one that differs in case alone,
/// as old disks and their fixes do not agree on that.
#[derive(Default)]
struct Places {
    exact: HashMap<String, usize>,
    /// `None` for what several paths have in common.
    folded: HashMap<String, Option<usize>>,
}

impl Places {
    fn add(&mut self, path: &str, index: usize) {
        self.exact.entry(path.to_owned()).or_insert(index);
        self.folded.entry(path.to_lowercase()).and_modify(|place| *place = None).or_insert(Some(index));
    }

    fn find(&self, path: &str) -> Option<usize> {
        let folded = || self.folded.get(&path.to_lowercase()).copied().flatten();
        self.exact.get(path).copied().or_else(folded)
    }
}

/// The tree with everything of `overlays` laid over it, what was done, and the nodes that were replaced.
///
/// # Errors
/// When an overlay cannot be opened, has no files, or cannot be read.
pub(crate) fn lay(
    mut tree: Tree,
    overlays: &[String],
    setting: &Setting<'_>,
) -> std::result::Result<(Tree, OverlayReport, Vec<Node>), crate::Failure> {
    let mut report = OverlayReport { from: overlays.to_vec(), ..OverlayReport::default() };
    let mut replaced = Vec::new();
    for overlay in overlays {
        let item = locate::open(overlay, "use", setting)?;
        let fail = |e| crate::Failure::new(format!("cannot lay \"{overlay}\" over it"), e);
        let files = item.opened.holds.tree.filter(|t| t.files().next().is_some());
        let files = files.ok_or_else(|| fail(Error::Usage("there are no files in it".into())))?;
        let mut places = Places::default();
        for (index, node) in tree.nodes.iter().enumerate() {
            places.add(&node.path, index);
        }
        for node in files.nodes {
            if !matches!(node.kind, Kind::File(_)) {
                continue;
            }
            let place = places.find(&node.path);
            match place.map(|p| (p, &tree.nodes[p])) {
                Some((_, there)) if is_same(there, &node, setting).map_err(fail)? => {
                    report.matching.push(there.path.clone())
                }
                Some((index, there)) => {
                    report.replaced.push(there.path.clone());
                    let path = there.path.clone();
                    let old = std::mem::replace(&mut tree.nodes[index], Node { path, ..node });
                    // Of a file that is replaced twice the first is the original.
                    if !replaced.iter().any(|r: &Node| r.path == old.path) {
                        replaced.push(old);
                    }
                }
                None => {
                    report.added.push(node.path.clone());
                    places.add(&node.path, tree.nodes.len());
                    tree.nodes.push(node);
                }
            }
        }
    }
    replaced.retain(|n| matches!(n.kind, Kind::File(_)) && !report.added.contains(&n.path));
    Ok((tree, report, replaced))
}

/// Whether two files have the same bytes.
fn is_same(one: &Node, other: &Node, setting: &Setting<'_>) -> Result<bool> {
    let (Some(one), Some(other)) = (one.file(), other.file()) else { return Ok(false) };
    let (Content::Whole(one), Content::Whole(other)) = (&one.content, &other.content) else { return Ok(false) };
    Ok(one.len() == other.len() && first_difference(one.as_ref(), other.as_ref(), setting.watch)?.is_none())
}

#[cfg(test)]
mod tests {
    use super::Places;

    #[test]
    fn the_exact_name_goes_first_and_case_alone_must_be_clear() {
        let mut places = Places::default();
        for (index, path) in ["README.TXT", "readme.txt", "LEVELS/PIER.DAT"].iter().enumerate() {
            places.add(path, index);
        }
        assert_eq!(places.find("readme.txt"), Some(1));
        assert_eq!(places.find("README.TXT"), Some(0));
        assert_eq!(places.find("Readme.txt"), None, "two could be meant");
        assert_eq!(places.find("levels/pier.dat"), Some(2));
        assert_eq!(places.find("fog.dat"), None);
    }
}
