//! Copies of one dump.

use crate::{Failure, Item, Setting, locate};
use decanter_core::SECTOR;
use decanter_core::error::Blame;
use decanter_core::source::SourceRef;
use decanter_formats::optical::cd::sector::RAW;

/// The most copies.
pub(super) const MOST_COPIES: usize = 16;

/// A copy.
pub(super) struct Copy {
    /// As it was typed.
    pub(super) shown: String,
    pub(super) item: Item,
    pub(super) source: SourceRef,
}

impl Copy {
    /// Opens a copy: its bytes, whatever packs them.
    ///
    /// # Errors
    /// When it has none.
    pub(super) fn open(shown: &str, setting: &Setting<'_>) -> Result<Self, Failure> {
        let item = match locate::open(shown, "repair", setting) {
            // What is too damaged to be known is still a copy.
            Err(f) if f.blame() == Blame::Source => locate::open_lightly(shown, "repair", setting)?,
            opened => opened?,
        };
        let source = item.source.clone().ok_or_else(|| {
            Failure::usage(format!("cannot repair \"{shown}\""), "it is a folder: copies are files")
                .hint("give the images themselves")
        })?;
        Ok(Self { shown: shown.to_owned(), item, source })
    }

    /// Whether a sector of a dump that is not finished was read.
    pub(super) fn has_read(&self, unit: u64) -> bool {
        self.item.unfinished.as_ref().is_none_or(|map| map.state_of(unit).is_content())
    }
}

/// Bytes of a sector of what copies are of.
pub(super) fn unit_of(copies: &[Copy]) -> u64 {
    let is_raw = copies.iter().any(|copy| {
        let tracks = &copy.item.opened.holds.tracks;
        !tracks.is_empty() && tracks.iter().all(|track| track.sector_len == RAW as u64)
    });
    match is_raw {
        true => RAW as u64,
        false if copies.iter().any(|c| c.item.opened.identity.role.is_image()) => SECTOR,
        // What has no sectors is compared in small pieces.
        false => 512,
    }
}
