//! The folders that emulators expect around the files of a content package.

use crate::{Failure, Item};
use decanter_core::Format;
use decanter_core::names::file_name;
use decanter_core::tree::{Kind, Node};
use decanter_formats::package::x360;

/// The folders for a package: `TITLEID`, `KIND`, `NAME`.
///
/// # Errors
/// For what is no content package.
pub(super) fn folders(item: &Item) -> Result<[String; 3], Failure> {
    if !x360::FILES.is_of(&item.opened) && !x360::DISC.is_of(&item.opened) {
        let what = format!("cannot extract \"{}\"", item.shown);
        return Err(Failure::usage(what, "--content-tree is for content packages of the 360 generation")
            .hint("leave it out: the files keep their own paths"));
    }
    let value = |name: &str| {
        let all = &item.opened.told.parameters;
        all.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone()).unwrap_or_default()
    };
    Ok([value("title id"), value("content type"), file_name(&item.stem)])
}

/// Puts these folders in front of every path.
///
/// # Errors
/// As [`folders`].
pub(super) fn lay_out(item: &mut Item) -> Result<(), Failure> {
    let folders = folders(item)?;
    let prefix = folders.join("/");
    let Some(tree) = &mut item.opened.holds.tree else { return Ok(()) };
    for node in &mut tree.nodes {
        node.path = format!("{prefix}/{}", node.path);
    }
    let above = (1..=folders.len()).map(|n| Node::new(folders[..n].join("/"), Kind::Folder, None));
    tree.nodes.splice(0..0, above);
    Ok(())
}
