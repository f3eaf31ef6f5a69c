//! The codes of blocks: HMAC-SHA256 under a key of the image.

mod lanes;

use decanter_core::digest::MacKey;
use decanter_core::keyring::Key;
use lanes::States;
use std::sync::OnceLock;

/// Blocks from which on several are worked on side by side.
const LEAST: usize = 5;

/// What codes are made with.
#[derive(Clone)]
pub(super) struct Mac {
    own: MacKey,
    states: States,
}

/// Whether several side by side are faster than one after the other: not where there are instructions for SHA-256.
fn is_worth_it() -> bool {
    static WORTH_IT: OnceLock<bool> = OnceLock::new();
    // Wide words that were not optimised are slower than a library that was.
    #[cfg(all(target_arch = "x86_64", not(debug_assertions)))]
    let look = || !std::arch::is_x86_feature_detected!("sha") && std::arch::is_x86_feature_detected!("avx2");
    #[cfg(not(all(target_arch = "x86_64", not(debug_assertions))))]
    let look = || false;
    *WORTH_IT.get_or_init(look)
}

impl Mac {
    pub(super) fn new(key: &Key) -> Self {
        Self { own: MacKey::new(key.bytes()), states: States::new(key.bytes()) }
    }

    /// The code of some bytes.
    pub(super) fn code(&self, bytes: &[u8]) -> [u8; 32] {
        self.own.code(bytes)
    }

    /// The codes of all blocks of `len` bytes, a multiple of 64, that `bytes` consist of.
    pub(super) fn codes(&self, bytes: &[u8], len: usize) -> Vec<[u8; 32]> {
        match bytes.len() >= LEAST * len && is_worth_it() {
            true => self.states.codes(bytes, len),
            false => bytes.chunks(len).map(|block| self.own.code(block)).collect(),
        }
    }
}
