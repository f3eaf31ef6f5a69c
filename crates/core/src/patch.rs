//! A patch: what turns one file into another.

use crate::Result;
use crate::source::SourceRef;
use std::ops::Range;

/// One end of a patch: what is known of the file before or after it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct End {
    /// Length in bytes.
    pub len: Option<u64>,
    /// CRC-32.
    pub crc32: Option<u32>,
}

/// What turns one file into another.
///
/// The result is a view: nothing is computed before it is read. Checksums are the caller's matter.
pub trait Patch: Send + Sync {
    /// What is known of the file before.
    fn source(&self) -> End;

    /// What is known of the file after.
    fn target(&self) -> End;

    /// Text that the author put in.
    fn metadata(&self) -> &[u8] {
        &[]
    }

    /// How many pieces it consists of.
    fn records(&self) -> u64;

    /// Whether it can also turn the file after into the file before.
    fn can_undo(&self) -> bool {
        false
    }

    /// Ranges of the file after that may differ from the file before at the same place, in order, disjoint.
    fn touches(&self) -> Vec<Range<u64>>;

    /// The file after, made of the file before.
    ///
    /// # Errors
    /// When the file before is too short for it, or cannot be read.
    fn apply(&self, source: &SourceRef) -> Result<SourceRef>;

    /// The file before, made of the file after.
    ///
    /// # Errors
    /// [`crate::Error::Unsupported`] unless [`Patch::can_undo`].
    fn undo(&self, target: &SourceRef) -> Result<SourceRef>;
}
