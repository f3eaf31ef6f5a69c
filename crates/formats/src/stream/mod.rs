//! One file, packed as a stream: it is looked through like an archive with one file in it. docs/formats/gz-bz2-xz.md.

mod bz2;
mod gz;
mod measured;
mod xz;

pub use bz2::Bz2;
pub use gz::Gz;
pub(crate) use measured::{Unpack, measured};
pub use xz::Xz;

use crate::archive::tar::ID as TAR;
use decanter_core::Result;
use decanter_core::format::Opener;
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::source::SourceRef;
use decanter_core::tree::{File, Kind, Node, Tree};

/// Says what is inside: one file, under the name that the stream carries, or else under its own.
fn hold(opened: &mut Opened, inside: SourceRef, carried: Option<String>, opener: &Opener<'_>) -> Result<()> {
    let own = opener.names().first().cloned().unwrap_or_else(|| "content".into());
    let mut name = carried.unwrap_or(own);
    // An archive that was called .tgz and the like lost its kind with its extension.
    let is_tar = opener.registry().detect(&Head::glance(inside.as_ref()))?.is_some_and(|f| f.id() == TAR);
    if is_tar && !name.to_lowercase().ends_with(".tar") {
        name.push_str(".tar");
    }
    opened.holds.tree = Some(Tree { nodes: vec![Node::new(name, Kind::File(File::of(inside)), None)] });
    Ok(())
}
