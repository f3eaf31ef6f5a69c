//! 3DS family: cartridge images, contents, packages, icon blocks, GBA mode titles.
//! Layouts: docs/formats/n3ds-cartridge.md and its neighbours.

pub mod banner;
pub mod cia;
pub mod gba_mode;
pub mod gba_title;
pub mod keys;
pub mod lz;
pub mod ncch;
pub mod ncsd;
pub mod smdh;
pub mod tiles;
pub mod title;

pub(crate) use super::digest;
pub use super::sha256;
use decanter_core::Result;
use decanter_core::digest::{Algorithm, Hasher};
use decanter_core::source::{Source, check_range};
use std::ops::Range;

/// Bytes of a media unit, unless the flags say otherwise.
pub const UNIT: u64 = 0x200;
/// Bytes that are hashed in one go while a source is opened.
const STRETCH: u64 = 1 << 20;

/// SHA-256 of a stretch of a source, read piece by piece.
pub(crate) fn sha256_of(source: &dyn Source, range: Range<u64>) -> Result<[u8; 32]> {
    check_range(source.len(), range.start, range.end - range.start)?;
    let mut hasher = Hasher::new(Algorithm::Sha256);
    let mut buf = vec![0; STRETCH.min(range.end - range.start) as usize];
    let mut at = range.start;
    while at < range.end {
        let here = STRETCH.min(range.end - at) as usize;
        source.read_at(at, &mut buf[..here])?;
        hasher.update(&buf[..here]);
        at += here as u64;
    }
    let mut out = [0; 32];
    out.copy_from_slice(&hasher.finish().bytes);
    Ok(out)
}
