//! Patches: what turns one file into another.
//!
//! Applying one is a view on the file before; making one holds both files in memory, but for those of [`large`] files.

pub mod bps;
pub mod delta;
pub mod ips;
pub mod large;
pub mod ups;
pub mod vcdiff;
mod vli;

use decanter_core::patch::End;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::{Concat, Fill, Slice};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// The largest patch.
pub const MOST_PATCH: u64 = 1 << 30;
/// The largest file that is compared to make a patch: both are held in memory.
pub const MOST_FILE: u64 = 1 << 30;
/// Bytes of the three checksums at the end of UPS and BPS.
const TRAILER: usize = 12;

fn load(source: &SourceRef) -> Result<Vec<u8>> {
    read_vec(source.as_ref(), 0, source.len(), "a patch", MOST_PATCH)
}

/// The checksums at the end: of the file before, the file after, and of the patch itself, which has to hold.
fn trailer(format: &'static str, bytes: &[u8]) -> Result<(u32, u32)> {
    let at = bytes.len().checked_sub(TRAILER).ok_or_else(|| Error::malformed(format, "the patch is cut short", 0))?;
    let word = |i: usize| u32::from_le_bytes([0, 1, 2, 3].map(|j| bytes[at + 4 * i + j]));
    let found = crc32fast::hash(&bytes[..bytes.len() - 4]);
    if found != word(2) {
        return Err(Error::Checksum {
            what: "the patch itself".into(),
            expected: format!("CRC-32 {:08x}", word(2)),
            found: format!("{found:08x}"),
        });
    }
    Ok((word(0), word(1)))
}

/// Both ends with lengths and checksums.
fn end(len: u64, crc32: u32) -> End {
    End { len: Some(len), crc32: Some(crc32) }
}

/// Sorts ranges and joins those that touch.
fn joined(mut ranges: Vec<Range<u64>>) -> Vec<Range<u64>> {
    ranges.retain(|r| r.start < r.end);
    ranges.sort_unstable_by_key(|r| r.start);
    let mut all: Vec<Range<u64>> = Vec::new();
    for range in ranges {
        match all.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => all.push(range),
        }
    }
    all
}

/// `source` cut off, or with zeros after it, so that it has `len` bytes.
fn of_len(source: &SourceRef, len: u64) -> Result<SourceRef> {
    let own = source.len();
    Ok(match own.cmp(&len) {
        std::cmp::Ordering::Equal => source.clone(),
        std::cmp::Ordering::Greater => Arc::new(Slice::new(source.clone(), 0, len)?),
        std::cmp::Ordering::Less => {
            Arc::new(Concat::new(vec![source.clone(), Arc::new(Fill { byte: 0, len: len - own })])?)
        }
    })
}

/// Fails for a file that this machine could not address, which no disk holds either.
fn addressed(what: &'static str, asked: u64) -> Result<()> {
    match asked <= isize::MAX as u64 / 2 {
        true => Ok(()),
        false => Err(Error::Limit { what, asked, limit: isize::MAX as u64 / 2 }),
    }
}

/// A length that a patch asks for, if it is granted.
fn granted(what: &'static str, asked: u64) -> Result<usize> {
    if asked > MOST_FILE {
        return Err(Error::Limit { what, asked, limit: MOST_FILE });
    }
    Ok(asked as usize)
}

#[cfg(test)]
mod testing {
    //! What the tests of all patch formats share.

    use decanter_core::patch::Patch;
    use decanter_core::source::{Bytes, SourceRef};
    use std::sync::Arc;

    fn all(source: &SourceRef) -> Vec<u8> {
        let mut bytes = vec![0; source.len() as usize];
        source.read_at(0, &mut bytes).unwrap();
        bytes
    }

    /// Bytes without a pattern.
    pub(super) fn noise(seed: u32, len: usize) -> Vec<u8> {
        (0..len as u32).map(|i| ((i ^ seed).wrapping_mul(2_654_435_761).wrapping_add(seed) >> 15) as u8).collect()
    }

    pub(super) fn applied(patch: &dyn Patch, source: &[u8]) -> Vec<u8> {
        let source: SourceRef = Arc::new(Bytes(source.to_vec()));
        all(&patch.apply(&source).unwrap())
    }

    pub(super) fn undone(patch: &dyn Patch, target: &[u8]) -> Vec<u8> {
        let target: SourceRef = Arc::new(Bytes(target.to_vec()));
        all(&patch.undo(&target).unwrap())
    }
}
