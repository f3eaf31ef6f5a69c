//! PFSC: an image in blocks that are packed each by itself, with a table of where they begin. Layout: docs/formats/pfs.md.

mod compose;
mod raw;
mod view;

pub(super) use compose::BLOCK;
pub use compose::{Plan, Stream, plan, stored};
pub use view::View;

use decanter_core::Result;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tell::{count, grouped};
use decanter_core::tree::{File, Kind, Node, Tree};
use std::sync::Arc;

const ID: &str = "pfsc";
const MAGIC: &[u8; 4] = b"PFSC";

/// The format.
pub struct Pfsc;
/// The one instance.
pub static PACKED: Pfsc = Pfsc;

/// Whether a source is one.
///
/// # Errors
/// What reading fails with.
pub(super) fn is_packed(source: &dyn Source) -> Result<bool> {
    Ok(source.len() >= size_of::<raw::Head>() as u64 && &read_array::<4>(source, 0)? == MAGIC)
}

/// What is in it.
///
/// # Errors
/// As [`View::new`].
pub(super) fn unpacked(source: SourceRef) -> Result<SourceRef> {
    Ok(Arc::new(View::new(source)?))
}

impl Format for Pfsc {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PFSC compressed image"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["pfsc"]
    }

    fn reads(&self) -> &'static str {
        "stored and deflated blocks, in any order of reading"
    }

    fn least_len(&self) -> u64 {
        size_of::<raw::Head>() as u64
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        Ok((head.len() >= self.least_len()).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let view = View::new(source.clone())?;
        let mut opened = Opened::new(ID, self.name());
        opened.holds.has_own_names = false;
        let (stored, all) = view.stored_blocks();
        opened.fact("compressed", format!("{} bytes of {}", grouped(source.len()), grouped(view.len())));
        opened.fact("blocks", format!("{}, {} of them stored", count(all, "block", "blocks"), grouped(stored)));
        opened.extent.promised_len = Some(view.end());
        let name = opener.names().first().map_or("image", String::as_str);
        let inside: SourceRef = Arc::new(view);
        let node = Node::new(format!("{name}.pfs"), Kind::File(File::of(inside)), None);
        opened.holds.tree = Some(Tree { nodes: vec![node] });
        Ok(opened)
    }
}
