//! The tracks of a CD.

use crate::source::SourceRef;
use serde::Serialize;

/// A track of a CD image.
#[derive(Clone)]
pub struct Track {
    /// Number, from 1.
    pub number: u8,
    /// What its sectors hold.
    pub kind: TrackKind,
    /// The file it stands in, as the cue sheet names it; empty for an image without one.
    pub file: String,
    /// Address on the disc of the first sector of `source`, in sectors after 00:02:00.
    pub first_sector: u64,
    /// Sectors at the beginning of `source` that belong to the gap before the track (index 0).
    pub gap_sectors: u64,
    /// Sectors of silence before the track that no file has (`PREGAP`).
    pub pregap_sectors: u64,
    /// Its sectors: `sector_len` bytes each.
    pub source: SourceRef,
    /// Bytes of a sector as stored.
    pub sector_len: u64,
}

/// What the sectors of a track hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum TrackKind {
    /// Sound: 2,352 bytes of samples.
    Audio,
    /// Data of mode 1: 2,048 bytes with EDC and ECC.
    Mode1,
    /// Data of mode 2: with subheader, form 1 or 2 by sector.
    Mode2,
}
