//! A source: immutable bytes that can be read at any offset.

mod bytes;
mod file;
mod path;
mod reader;

pub use bytes::Bytes;
pub use file::FileSource;
pub use path::PathSource;
pub use reader::Reader;

use crate::error::{Error, Result};
use crate::watch::Watch;
use std::fs::File;
use std::sync::Arc;

/// A source that is shared between views and threads.
pub type SourceRef = Arc<dyn Source>;

/// Immutable bytes of a known length.
///
/// Reads carry their own offset, so any number of threads may read at once and views can be stacked.
pub trait Source: Send + Sync {
    /// Length in bytes.
    fn len(&self) -> u64;

    /// True when there is not a single byte.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Fills all of `buf` from byte `offset`, or fails. There are no short reads.
    ///
    /// # Errors
    /// [`Error::PastEnd`] when `offset + buf.len()` is larger than [`Source::len`]; whatever the layers
    /// below report otherwise.
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()>;

    /// Where the bytes from `offset` on physically are, and for how long that holds. `offset` must be
    /// smaller than the length; the extent found never reaches past the end.
    ///
    /// # Errors
    /// Only what asking the operating system for holes can fail with.
    fn extent_at(&self, offset: u64) -> Result<Extent> {
        Ok(Extent { place: Place::Computed, len: self.len() - offset })
    }

    /// True when going backwards costs much more than going on, as in a compressed stream. Such a source
    /// is read by one thread, front to back.
    fn prefers_sequential(&self) -> bool {
        false
    }

    /// Whether reading all of it, or settling it, compares a checksum of its bytes.
    fn is_checked(&self) -> bool {
        false
    }

    /// Fails if a checksum that belongs to these bytes does not hold. What of them nobody has read yet is read for it.
    ///
    /// # Errors
    /// [`Error::Checksum`], each time; what reading fails with; [`Error::Cancelled`].
    fn settle(&self, _watch: &dyn Watch) -> Result<()> {
        Ok(())
    }
}

/// A run of bytes in one physical place.
#[derive(Debug, Clone)]
pub struct Extent {
    /// The place.
    pub place: Place,
    /// Length in bytes; at least 1.
    pub len: u64,
}

/// Where bytes come from.
#[derive(Debug, Clone)]
pub enum Place {
    /// They stand in `file` at byte `offset`, unchanged, so the kernel can copy or share them.
    File {
        /// The open file.
        file: Arc<File>,
        /// Byte offset in the file.
        offset: u64,
    },
    /// All of them have this value. Zeros here may be kept as a hole.
    Fill(u8),
    /// They exist only once they are read: decrypted, decompressed.
    Computed,
}

impl Extent {
    /// The same place, for at most `len` bytes.
    pub fn at_most(self, len: u64) -> Self {
        Self { len: self.len.min(len), ..self }
    }
}

/// Fails unless `asked` bytes from `offset` lie within `len`.
///
/// # Errors
/// [`Error::PastEnd`].
pub fn check_range(len: u64, offset: u64, asked: u64) -> Result<()> {
    match offset.checked_add(asked) {
        Some(end) if end <= len => Ok(()),
        _ => Err(Error::PastEnd { offset, asked, len }),
    }
}

/// Reads `len` bytes from `offset` into memory, if `len` is at most `limit`.
///
/// The range is checked before anything is allocated, so a length out of a hostile header costs nothing.
///
/// # Errors
/// [`Error::Limit`], [`Error::PastEnd`], or what reading fails with.
pub fn read_vec(source: &dyn Source, offset: u64, len: u64, what: &'static str, limit: u64) -> Result<Vec<u8>> {
    if len > limit {
        return Err(Error::Limit { what, asked: len, limit });
    }
    check_range(source.len(), offset, len)?;
    let mut buf = vec![0; len as usize];
    source.read_at(offset, &mut buf)?;
    Ok(buf)
}

/// Reads `N` bytes from `offset`.
///
/// # Errors
/// [`Error::PastEnd`], or what reading fails with.
pub fn read_array<const N: usize>(source: &dyn Source, offset: u64) -> Result<[u8; N]> {
    let mut buf = [0; N];
    source.read_at(offset, &mut buf)?;
    Ok(buf)
}
