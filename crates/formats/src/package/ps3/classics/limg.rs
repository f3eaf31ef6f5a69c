//! The segment at the end of an image that says what it was pressed on.

use super::header::SEGMENT;
use decanter_core::Result;
use decanter_core::source::{Bytes, Source, SourceRef, read_array};
use decanter_core::view::{Concat, Fill};
use std::sync::Arc;

const MAGIC: [u8; 4] = *b"LIMG";
const DVD: u32 = 1;
const CD: u32 = 2;
/// Where it says that Decanter added it, and how long the disc was.
const ADDED_AT: usize = 0x3ff0;
const ADDED: [u8; 8] = *b"decanter";

/// What a disc is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kind {
    /// A CD; else a DVD.
    pub is_cd: bool,
    /// Bytes of a sector.
    pub sector: u32,
}

/// What the segment at the end of an image says, if it has one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Told {
    /// What it was pressed on.
    pub kind: Kind,
    /// Sectors of the disc.
    pub sectors: u32,
    /// Bytes of the disc before the segment was added, where Decanter did that.
    pub before: Option<u64>,
}

/// Looks for the segment at the end of an image.
///
/// # Errors
/// What reading fails with.
pub fn read(image: &dyn Source) -> Result<Option<Told>> {
    if image.len() < SEGMENT || !image.len().is_multiple_of(SEGMENT) {
        return Ok(None);
    }
    let at = image.len() - SEGMENT;
    let head: [u8; 16] = read_array(image, at)?;
    if head[..4] != MAGIC {
        return Ok(None);
    }
    let word = |n: usize| u32::from_be_bytes([head[n], head[n + 1], head[n + 2], head[n + 3]]);
    let end: [u8; 16] = read_array(image, at + ADDED_AT as u64)?;
    let (mark, len) = end.split_at(8);
    let before = u64::from_be_bytes(std::array::from_fn(|i| len[i]));
    // What it was filled up with is less than a segment.
    let before = (mark == ADDED && before <= at && at - before < SEGMENT).then_some(before);
    let kind = Kind { is_cd: word(4) == CD, sector: word(12) };
    Ok(Some(Told { kind, sectors: word(8), before }))
}

/// The image of a disc with such a segment at its end; an image that has one is taken as it is.
///
/// # Errors
/// What reading fails with.
pub fn with(disc: SourceRef, kind: Kind) -> Result<SourceRef> {
    if read(disc.as_ref())?.is_some() {
        return Ok(disc);
    }
    let mut bytes = MAGIC.to_vec();
    bytes.extend(if kind.is_cd { CD } else { DVD }.to_be_bytes());
    bytes.extend(((disc.len() / u64::from(kind.sector)) as u32).to_be_bytes());
    bytes.extend(kind.sector.to_be_bytes());
    bytes.resize(ADDED_AT, 0);
    bytes.extend(ADDED);
    bytes.extend(disc.len().to_be_bytes());
    let fill = disc.len().next_multiple_of(SEGMENT) - disc.len();
    Ok(Arc::new(Concat::new(vec![disc, Arc::new(Fill { byte: 0, len: fill }), Arc::new(Bytes(bytes))])?))
}
