//! Titles of consoles, as they are packed to be installed.

pub mod n3ds;
pub mod nx;
pub mod ps3;
pub mod ps4;
pub mod x360;

use decanter_core::Digest;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::opened::Opened;
use decanter_core::source::SourceRef;
use decanter_core::tell::grouped;

/// Tells of bytes behind `end`, where a package ends.
pub(crate) fn trailing(opened: &mut Opened, source: &SourceRef, end: u64) {
    let more = source.len().saturating_sub(end);
    if more > 0 {
        opened.notice(format!("{} bytes follow after its end and belong to nothing", grouped(more)));
    }
}

/// Tells of bytes that are not there before `end`.
pub(crate) fn cut_short(opened: &mut Opened, source: &SourceRef, end: u64) {
    let less = end.saturating_sub(source.len());
    if less > 0 {
        opened.damage(format!("{} bytes of it are missing at its end", grouped(less)));
    }
}

/// SHA-256 of bytes in memory.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut out = [0; 32];
    out.copy_from_slice(&of_bytes(Algorithm::Sha256, bytes).bytes);
    out
}

/// A SHA-256 out of a header, or what one begins with, as a digest.
pub(crate) fn digest(bytes: &[u8]) -> Digest {
    Digest { algorithm: Algorithm::Sha256, bytes: bytes.to_vec() }
}
