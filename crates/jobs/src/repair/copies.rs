//! Copies of one dump, and the dump that is put together of them.

use super::compare::Compared;
use crate::{Failure, Item, Setting, locate};
use decanter_core::error::Blame;
use decanter_core::source::SourceRef;
use decanter_core::view::{Concat, Slice};
use decanter_core::{Result, SECTOR};
use decanter_formats::optical::cd::sector::RAW;
use std::ops::Range;
use std::sync::Arc;

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
    pub(super) fn open(shown: &str, setting: &Setting<'_>) -> std::result::Result<Self, Failure> {
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

/// The dump that comes of choosing a copy for each stretch; where nothing differs, that is the first that is long enough.
///
/// # Errors
/// When a copy is too short for what is taken from it.
pub(super) fn assembled(copies: &[Copy], compared: &Compared, chosen: &[Option<usize>]) -> Result<SourceRef> {
    let base = copies.iter().position(|copy| copy.source.len() == compared.len).unwrap_or(0);
    let mut parts: Vec<(usize, Range<u64>)> = Vec::new();
    let mut add = |copy: usize, span: Range<u64>| match parts.last_mut() {
        _ if span.is_empty() => {}
        Some(last) if last.0 == copy && last.1.end == span.start => last.1.end = span.end,
        _ => parts.push((copy, span)),
    };
    let mut at = 0;
    for (stretch, copy) in compared.stretches.iter().zip(chosen) {
        let span = compared.span(stretch);
        add(base, at..span.start);
        at = span.end;
        add(copy.unwrap_or(base), span);
    }
    add(base, at..compared.len);
    if let [(only, span)] = parts.as_slice()
        && *span == (0..copies[*only].source.len())
    {
        return Ok(copies[*only].source.clone());
    }
    let slice = |(copy, span): (usize, Range<u64>)| -> Result<SourceRef> {
        Ok(Arc::new(Slice::new(copies[copy].source.clone(), span.start, span.end - span.start)?))
    };
    Ok(Arc::new(Concat::new(parts.into_iter().map(slice).collect::<Result<Vec<_>>>()?)?))
}
