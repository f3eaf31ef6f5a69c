//! The file system of Xbox family discs: a volume descriptor in sector 32, folders as binary search trees.
//!
//! All numbers are little-endian. Layout, checks and what is not sure: docs/formats/xdvdfs.md.

mod compose;
mod raw;
mod walk;

pub use compose::{Placed, compose_placed};

use crate::raw::read_at;
use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::{Disc, Opened};
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef, read_array};
use decanter_core::tree::{Content, Tree};
use decanter_core::view::Slice;
use decanter_core::{Error, Result, SECTOR};
use std::sync::Arc;

const ID: &str = "xdvdfs";
/// Sector of the volume descriptor, counted from the beginning of the partition.
const DESCRIPTOR: u64 = 32;
/// At both ends of the descriptor.
const MAGIC: &[u8; 20] = b"MICROSOFT*XBOX*MEDIA";
/// Byte offset of the second magic in the descriptor's sector.
const SECOND_MAGIC: usize = 0x7ec;

/// A place on a full disc where the game partition begins.
pub struct PartitionPlace {
    /// Byte offset.
    pub offset: u64,
    /// Which discs have it there.
    pub discs: &'static str,
}

/// Where the partition may begin: on its own, or behind the video partition of each kind of disc.
pub const PLACES: [PartitionPlace; 5] = [
    PartitionPlace { offset: 0, discs: "the partition alone" },
    PartitionPlace { offset: 0x1830_0000, discs: "a full Xbox disc" },
    PartitionPlace { offset: 0x0fd9_0000, discs: "a full Xbox 360 disc" },
    PartitionPlace { offset: 0x0208_0000, discs: "a full Xbox 360 disc, third layout" },
    PartitionPlace { offset: 0x89d8_0000, discs: "a full Xbox 360 disc, hybrid" },
];

/// Whether an image of `len` bytes is no more than what a video player shows of a full disc: a volume with nothing but
/// a video, that ends where a game partition would begin, or before.
pub fn is_video_part(tree: Option<&Tree>, len: u64) -> bool {
    let folder = |path: &str| path.split('/').next().is_some_and(|f| f == "VIDEO_TS" || f == "AUDIO_TS");
    let mut files = tree.into_iter().flat_map(|t| t.files()).peekable();
    len <= PLACES[1].offset && files.peek().is_some() && files.all(|(node, _)| folder(&node.path))
}

/// Programs that the consoles start, and what their discs are called.
const PROGRAMS: [(&str, &str); 2] = [("default.xbe", "Xbox disc image"), ("default.xex", "Xbox 360 disc image")];

/// The format.
pub struct Xdvdfs;

impl Format for Xdvdfs {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "Xbox family disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["xiso", "iso"]
    }

    fn reads(&self) -> &'static str {
        "game partitions alone, full discs with the partition behind a video partition, rebuilt images"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok(find(source)?.map(|_| 90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let Some(place) = find(source.as_ref())? else {
            return Err(Error::malformed(ID, "the volume descriptor is missing", DESCRIPTOR * SECTOR));
        };
        let mut opened = Opened::new(ID, self.name());
        opened.holds.disc = Some(Disc::Dvd);
        let base = place.offset;
        let at = base + DESCRIPTOR * SECTOR;
        let descriptor: raw::Descriptor = read_at(source.as_ref(), at)?;
        if &descriptor.second_magic != MAGIC {
            opened.damage(format!(
                "the second magic of the volume descriptor is missing at offset {:#x}",
                at + SECOND_MAGIC as u64
            ));
        }
        let root = walk::Table { sector: descriptor.root_sector.get(), len: descriptor.root_len.get() };
        let walked = walk::walk(&source, base, root, opener)?;
        opened.told.notices.extend(walked.notices);
        let tree = walked.tree;
        opened.extent.structure = walked.structure;
        opened.extent.structure.push(at..at + SECTOR);
        let end = tree
            .files()
            .flat_map(|(_, f)| f.spans.iter().map(|s| s.end))
            .chain(opened.extent.structure.iter().map(|s| s.end));
        opened.extent.promised_len = end.max();
        tell(&mut opened, &tree, opener)?;
        opened.fact(
            "layout",
            if base == 0 {
                place.discs.to_owned()
            } else {
                format!("{}: the game partition begins at sector {}", place.discs, base / SECTOR)
            },
        );
        if base > 0 {
            opened.holds.volume = Some(Arc::new(Slice::new(source.clone(), base, source.len() - base)?));
        }
        opened.holds.tree = Some(tree);
        Ok(opened)
    }

    fn compose(&self, tree: &Tree, _label: &str) -> Result<Blueprint> {
        compose_placed(tree).map(|placed| placed.blueprint)
    }
}

/// Where the partition begins in `source`, if it has one.
///
/// # Errors
/// What reading fails with.
pub fn find(source: &dyn Source) -> Result<Option<&'static PartitionPlace>> {
    for place in &PLACES {
        let at = place.offset + DESCRIPTOR * SECTOR;
        if source.len() >= at + SECTOR && &read_array::<20>(source, at)? == MAGIC {
            return Ok(Some(place));
        }
    }
    Ok(None)
}

/// Title, id and so on, from the program that the console starts.
fn tell(opened: &mut Opened, tree: &Tree, opener: &Opener<'_>) -> Result<()> {
    let found = PROGRAMS.iter().find_map(|(path, kind)| Some((path, kind, tree.find(path)?.file()?)));
    let Some((path, kind, file)) = found else {
        opened.notice("there is neither default.xbe nor default.xex, so it will not start by itself");
        return Ok(());
    };
    opened.identity.kind = (*kind).to_owned();
    opened.fact("starts", *path);
    let Content::Whole(program) = &file.content else {
        opened.damage(format!("{path} is not all there"));
        return Ok(());
    };
    match opener.inside()?.open(program.clone()) {
        Ok(program) => {
            opened.told.facts.extend(program.told.facts);
            opened.told.label = program.told.label;
        }
        Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
        Err(e) => opened.damage(format!("{path} cannot be used: {e}")),
    }
    Ok(())
}
