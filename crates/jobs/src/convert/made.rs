//! A conversion that is laid out, and how its result is held against the source.

use super::repair::RepairReport;
use decanter_core::Notice;
use decanter_core::blueprint::{Blueprint, PartId};
use decanter_core::source::SourceRef;
use decanter_core::track::{Track, TrackKind};
use decanter_core::tree::Tree;
use serde::Serialize;

/// Something that the result does not have.
#[derive(Debug, Clone, Serialize)]
pub struct LeftOut {
    /// Path of the file, or name of the area.
    pub what: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Why.
    pub why: String,
}

/// How a result is held against its source.
pub(crate) enum Back {
    /// Read back, it gives these bytes.
    Bytes(SourceRef),
    /// Raw sectors made of its sectors anew are these.
    RawSectors(SourceRef, TrackKind, u64),
    /// It holds these tracks.
    Tracks(Vec<Track>),
    /// It holds these files.
    Files(Tree),
    /// It is a ROM with these bytes, in whatever form.
    Rom(SourceRef),
    /// All digests that it carries of itself hold.
    Seals,
    /// It is a package with its data files, which hold a disc with these files.
    Disc(Tree),
}

/// Makes the bytes of a small file for the name of the main one.
type BesideBytes = Box<dyn Fn(&str) -> Vec<u8>>;

/// A small file beside the main one.
pub(crate) struct Beside {
    pub(crate) extension: &'static str,
    pub(crate) bytes: BesideBytes,
}

/// A conversion that is laid out.
pub(crate) struct Made {
    pub(crate) blueprint: Blueprint,
    pub(crate) beside: Option<Beside>,
    /// Further files, in a folder that is called as the main one with `.data` behind it: their names, and what they hold.
    pub(crate) data: Vec<(String, Blueprint)>,
    pub(crate) preserved: String,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) facts: Vec<(String, String)>,
    pub(crate) back: Back,
    pub(crate) repair: Option<RepairReport>,
    pub(crate) notices: Vec<Notice>,
    /// Bytes that it is made of, for progress and report.
    pub(crate) bytes_before: u64,
    /// The part whose digests are those of the content.
    pub(crate) content: Option<PartId>,
}

impl Made {
    /// One that keeps the bytes of `source`, all of them.
    pub(crate) fn new(blueprint: Blueprint, source: SourceRef, preserved: impl Into<String>) -> Self {
        Self {
            blueprint,
            beside: None,
            data: Vec::new(),
            preserved: preserved.into(),
            left_out: Vec::new(),
            facts: Vec::new(),
            bytes_before: source.len(),
            back: Back::Bytes(source),
            repair: None,
            notices: Vec::new(),
            content: None,
        }
    }

    /// What is packed on the way to it, where that is so; `source` is what it is made of.
    pub(crate) fn packed(&self, source: Option<&SourceRef>) -> Vec<SourceRef> {
        if self.blueprint.packed_part().is_none() {
            return Vec::new();
        }
        match &self.back {
            Back::Tracks(tracks) => tracks.iter().map(|track| track.source.clone()).collect(),
            Back::Bytes(source) | Back::Rom(source) | Back::RawSectors(source, ..) => vec![source.clone()],
            Back::Files(_) | Back::Seals | Back::Disc(_) => source.cloned().into_iter().collect(),
        }
    }

    /// Bytes of all its files but a small one beside the main one.
    pub(crate) fn bytes_after(&self) -> u64 {
        self.blueprint.len() + self.data.iter().map(|(_, blueprint)| blueprint.len()).sum::<u64>()
    }
}
