//! Files chosen by name: filled with zeros in place, or left out.

use super::made::LeftOut;
use crate::extract::{globs, matches};
use decanter_core::source::SourceRef;
use decanter_core::tree::{Content, File, Kind, Tree};
use decanter_core::view::{Fill, Overlay};
use decanter_core::{Error, Result};
use std::sync::Arc;

/// The files that match, and those only: a pattern without a match is a mistake.
fn chosen(tree: &Tree, patterns: &[String]) -> Result<Vec<usize>> {
    let mut all = Vec::new();
    for pattern in patterns {
        let globs = globs(std::slice::from_ref(pattern)).map_err(Error::Usage)?;
        let fits = |path: &str| globs.as_ref().is_some_and(|g| matches(g, path));
        let found: Vec<usize> = (0..tree.nodes.len()).filter(|&i| fits(&tree.nodes[i].path)).collect();
        if found.is_empty() {
            return Err(Error::Usage(format!("nothing matches \"{pattern}\"")));
        }
        all.extend(found);
    }
    all.sort_unstable();
    all.dedup();
    Ok(all)
}

/// `source` with zeros where the chosen files stand, and what that hits.
pub(super) fn blank(source: &SourceRef, tree: &Tree, patterns: &[String]) -> Result<(SourceRef, Vec<LeftOut>)> {
    if patterns.is_empty() {
        return Ok((source.clone(), Vec::new()));
    }
    let (mut patches, mut hit) = (Vec::new(), Vec::new());
    for index in chosen(tree, patterns)? {
        let Some(file) = tree.nodes[index].file() else { continue };
        if file.spans.is_empty() && file.len > 0 {
            return Err(Error::Usage(format!("{} does not stand in the image itself", tree.nodes[index].path)));
        }
        for span in file.spans.iter().filter(|s| !s.is_empty()) {
            patches.push((span.start, Arc::new(Fill { byte: 0, len: span.end - span.start }) as SourceRef));
        }
        hit.push(LeftOut { what: tree.nodes[index].path.clone(), bytes: file.len, why: "filled with zeros".into() });
    }
    patches.sort_by_key(|(at, _)| *at);
    patches.dedup_by_key(|(at, _)| *at);
    Ok((Arc::new(Overlay::new(source.clone(), patches)?), hit))
}

/// The tree with zeros as the content of the chosen files.
pub(super) fn blank_files(tree: &mut Tree, patterns: &[String]) -> Result<Vec<LeftOut>> {
    let mut hit = Vec::new();
    for index in if patterns.is_empty() { Vec::new() } else { chosen(tree, patterns)? } {
        let node = &mut tree.nodes[index];
        if let Kind::File(file) = &mut node.kind {
            hit.push(LeftOut { what: node.path.clone(), bytes: file.len, why: "filled with zeros".into() });
            let zeros: SourceRef = Arc::new(Fill { byte: 0, len: file.len });
            *file = File { content: Content::Whole(zeros), ..file.clone() };
        }
    }
    Ok(hit)
}

/// The tree without the chosen files and folders.
pub(super) fn without(tree: &mut Tree, patterns: &[String]) -> Result<Vec<LeftOut>> {
    if patterns.is_empty() {
        return Ok(Vec::new());
    }
    let gone = chosen(tree, patterns)?;
    let left_out = |&i: &usize| {
        let node = &tree.nodes[i];
        node.file().map(|f| LeftOut { what: node.path.clone(), bytes: f.len, why: "left out on request".into() })
    };
    let list = gone.iter().filter_map(left_out).collect();
    let mut index = 0;
    tree.nodes.retain(|_| {
        index += 1;
        gone.binary_search(&(index - 1)).is_err()
    });
    Ok(list)
}
