//! Whether a source is encrypted, and what can be done about it.

use crate::blueprint::Blueprint;
use crate::error::KeyTrouble;
use crate::transform::Transform;
use serde::Serialize;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

/// Whether the bytes that a format may encrypt are encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// They are ciphertext.
    Encrypted,
    /// They are plaintext.
    Decrypted,
    /// There is nothing to tell it by, or the signs contradict each other.
    Unclear,
}

/// How a source is encrypted, and what can be done about it.
#[derive(Clone)]
pub struct Protection {
    /// Whether it is.
    pub state: State,
    /// How that is known.
    pub evidence: String,
    /// The key.
    pub key: KeyState,
    /// From the bytes as stored to plaintext, once the key is known and the source is encrypted.
    pub unseal: Option<Arc<dyn Transform>>,
    /// From plaintext to the bytes as they are on the medium, if the source is decrypted and the key is known.
    pub seal: Option<Arc<dyn Transform>>,
    /// Whether such a container may stand without encryption at all; else only the files in it are decrypted.
    pub has_clear_form: bool,
    /// The same container with nothing encrypted in it.
    pub clear: Option<Blueprint>,
    /// The same, if `clear` refuses what was plainly never read: here it is decrypted like anything else.
    pub clear_as_it_is: Option<AsItIs>,
}

/// A decrypted container in which sectors that were never read are decrypted like all others.
#[derive(Clone)]
pub struct AsItIs {
    /// The container.
    pub clear: Blueprint,
    /// How many such sectors have been read out of it so far.
    pub blank: Arc<AtomicU64>,
}

/// What is known of the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyState {
    /// Nothing is encrypted.
    NotNeeded,
    /// It was found.
    Found {
        /// Where.
        origin: String,
        /// What proves it right, where there is something to prove it by.
        proof: Option<String>,
    },
    /// It is missing, or what was found is wrong.
    Trouble(KeyTrouble),
}
