//! Seals: the digests that a source carries of its own bytes, as its format found them while opening.

use crate::digest::Digest;
use crate::error::KeyTrouble;
use crate::source::SourceRef;
use crate::transform::Transform;
use crate::{Result, Watch};
use std::ops::Range;
use std::sync::Arc;

/// A stretch of a source that is read once for all seals on it.
#[derive(Clone)]
pub struct Sealed {
    /// What it is: "content 0, the game".
    pub name: String,
    /// Its bytes, as the seals on stored bytes see them.
    pub source: SourceRef,
    /// From those to plaintext, where something in it is encrypted.
    pub transform: Option<Arc<dyn Transform>>,
    /// Stretches whose plaintext is out of reach.
    pub locked: Vec<Range<u64>>,
    /// Why.
    pub trouble: Option<KeyTrouble>,
    /// The seals.
    pub seals: Vec<Seal>,
    /// Names what is damaged, once reading has failed.
    pub examine: Option<Examine>,
}

/// Finds the damage in a stretch that cannot be read to its end: what is hit, in words.
pub type Examine = Arc<dyn Fn(&dyn Watch) -> Result<Vec<String>> + Send + Sync>;

/// A digest that a source carries.
#[derive(Clone)]
pub struct Seal {
    /// What is sealed: "RomFS, level 3".
    pub name: String,
    /// Where it is, in bytes of [`Sealed::source`].
    pub range: Range<u64>,
    /// Whether the digest is of plaintext; else it is of the bytes as stored.
    pub of_plaintext: bool,
    /// The digest.
    pub expected: Expected,
    /// What it means if it does not hold, and what to do.
    pub matters: &'static str,
    /// Names what lies in it, for blocks that do not hold. Called only when there are some.
    pub inside: Option<Inside>,
}

/// The files in a sealed stretch, each with its bytes of [`Sealed::source`].
pub type Inside = Arc<dyn Fn() -> Vec<(Range<u64>, String)> + Send + Sync>;

/// What a seal says.
#[derive(Clone)]
pub enum Expected {
    /// One digest of all of it.
    Digest(Digest),
    /// What the digest of all of it begins with: fewer bytes than the algorithm has.
    Beginning(Digest),
    /// A SHA-256 for every block.
    Blocks {
        /// The digests, 32 bytes each, in order.
        digests: SourceRef,
        /// Bytes of a block.
        block: u64,
        /// Whether the last block is filled up with zeros before it is hashed.
        is_filled_up: bool,
    },
}

/// Something that was settled while opening, because it takes headers only.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// What: "title metadata, content records".
    pub name: String,
    /// Whether it is as it should be.
    pub holds: bool,
    /// What was found.
    pub note: Option<String>,
    /// What it means if it does not hold; `None` where it changes nothing for those who load the source.
    pub matters: Option<&'static str>,
    /// Whether digests of content were compared, and not only what a structure says of itself.
    pub is_digest: bool,
}

impl Settled {
    /// Something that holds.
    pub fn holds(name: impl Into<String>) -> Self {
        Self { name: name.into(), holds: true, note: None, matters: None, is_digest: false }
    }

    /// Something that does not hold: what was found, and what it means.
    pub fn fails(name: impl Into<String>, note: impl Into<String>, matters: &'static str) -> Self {
        Self { name: name.into(), holds: false, note: Some(note.into()), matters: Some(matters), is_digest: false }
    }

    /// The same, by digests of content.
    #[must_use]
    pub fn by_digests(self) -> Self {
        Self { is_digest: true, ..self }
    }

    /// Something that holds unless there is a fault to tell.
    pub fn of(name: impl Into<String>, faults: &[String], matters: &'static str) -> Self {
        match faults {
            [] => Self::holds(name),
            [only] => Self::fails(name, only, matters),
            [first, more @ ..] => Self::fails(name, format!("{first}; and {} more like it", more.len()), matters),
        }
    }
}
