//! Titles of consoles, as they are packed to be installed.

pub mod n3ds;
pub mod nx;
pub mod ps3;

use decanter_core::Digest;
use decanter_core::digest::{Algorithm, of_bytes};

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
