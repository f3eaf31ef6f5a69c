//! Images compressed in blocks, so that any part of them can be read by itself.

pub mod chd;
pub mod cso;
pub mod zst;

use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::SourceRef;
use decanter_core::tell::{grouped, share};
use decanter_core::tree::{Content, File, Kind, Node, Tree};

/// What a compressed image opens as: a container with one file in it, which is then looked through.
pub(crate) fn container(opened: &mut Opened, inside: SourceRef, name: Option<String>, opener: &Opener<'_>) {
    let stem = opener.names().first().cloned().unwrap_or_else(|| "image".into());
    let path = name.unwrap_or_else(|| if stem.contains('.') { stem.clone() } else { format!("{stem}.iso") });
    let file = File { len: inside.len(), spans: Vec::new(), content: Content::Whole(inside) };
    opened.holds.tree = Some(Tree { nodes: vec![Node::new(path, Kind::File(file), None)] });
}

/// How much room something takes, compressed.
pub(crate) fn ratio(packed: u64, len: u64) -> String {
    match share(packed, len) {
        Some(share) => format!("{share} of {} bytes", grouped(len)),
        None => format!("larger than the {} bytes in it", grouped(len)),
    }
}
