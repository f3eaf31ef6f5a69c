//! What the file systems of home computers keep of a file and those of today do not: in a text beside the files, so that it
//! is there again on the way back.

use crate::toml_text;
use decanter_core::native;
use decanter_core::source::Bytes;
use decanter_core::tree::{About, Node, Tree};
use decanter_core::{Error, Result, SourceRef};
use decanter_formats::disk::amiga::describe;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

/// Name of the text, at the top of an extracted folder. Its layout: docs/formats/attributes.md.
pub(crate) const NAME: &str = "decanter-attributes.toml";
/// The longest text that is read.
const MOST_LEN: u64 = 16 << 20;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Text {
    version: u32,
    #[serde(default)]
    entry: Vec<Entry>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    /// Path below the folder.
    path: String,
    /// Protection bits, as the Amiga stores them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    protection: Option<u32>,
    /// Comment.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    comment: String,
    /// When it was last changed, in seconds since 1970-01-01.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    date: Option<i64>,
}

/// The text for these nodes, each with its path below the folder; `None` if there is nothing to keep.
pub(crate) fn text(nodes: &[(&Node, &Path)]) -> Option<SourceRef> {
    let keeps = |node: &Node| node.about.as_ref().is_some_and(|a| a.protection.is_some() || !a.comment.is_empty());
    if !nodes.iter().any(|(n, _)| keeps(n)) {
        return None;
    }
    let entry = |(node, path): &(&Node, &Path)| Entry {
        path: native::text(path),
        protection: node.about.as_ref().and_then(|a| a.protection),
        comment: node.about.as_ref().map(|a| a.comment.iter().map(|b| char::from(*b)).collect()).unwrap_or_default(),
        date: node.modified,
    };
    let mut entries: Vec<Entry> = nodes.iter().map(entry).collect();
    entries.sort_by(|a, b| a.path.cmp(&b.path));
    let text = toml::to_string(&Text { version: 1, entry: entries }).ok()?;
    let head = "# Protection bits, comments and dates of these files; convert puts them back.\n";
    Some(Arc::new(Bytes(format!("{head}{text}").into_bytes())))
}

/// Gives the files of a folder back what the text in it has of them, and takes the text out of the tree.
///
/// # Errors
/// [`Error::Usage`] for a text that is none.
pub(crate) fn apply(tree: &mut Tree) -> Result<()> {
    let Some(bytes) = tree.read(NAME, MOST_LEN)? else { return Ok(()) };
    let wrong = |e: &dyn std::fmt::Display| Error::Usage(format!("{NAME} in it cannot be used: {e}"));
    let text = String::from_utf8(bytes).map_err(|e| wrong(&e))?;
    let text: Text = toml_text::parse(&text).map_err(|e| wrong(&e))?;
    if text.version != 1 {
        return Err(wrong(&format!("it is of version {}", text.version)));
    }
    tree.nodes.retain(|n| n.path != NAME);
    let mut entries: HashMap<String, Entry> = text.entry.into_iter().map(|e| (e.path.clone(), e)).collect();
    for node in &mut tree.nodes {
        let Some(entry) = entries.remove(&node.path) else { continue };
        let comment: Option<Vec<u8>> = entry.comment.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect();
        let about: About = describe(entry.protection.unwrap_or(0), &comment.unwrap_or_default());
        node.modified = entry.date;
        node.about = (about != About::default()).then(|| Arc::new(about));
    }
    Ok(())
}
