//! Making of VCDIFF patches of files that are held: copies out of the file before and out of what was made.

use super::code::MAGIC;
use super::write::{Piece, Writer};
use crate::patch::delta::{self, Step};
use crate::patch::granted;
use decanter_core::Result;

/// Makes a patch.
///
/// # Errors
/// [`decanter_core::Error::Limit`] for files that are too large, [`decanter_core::Error::Cancelled`].
pub fn make(old: &[u8], new: &[u8]) -> Result<Vec<u8>> {
    granted("the old file", old.len() as u64)?;
    granted("the new file", new.len() as u64)?;
    let mut out = MAGIC.to_vec();
    out.push(0);
    let mut writer = Writer::new(old.len(), new, 0);
    delta::steps(old, new, &mut |step| match step {
        Step::Same(len) => writer.take(&mut out, len, &|at, len| Piece::Old(at, len)),
        Step::Literal(range) => writer.take(&mut out, range.len(), &|at, len| Piece::Add(at..at + len)),
        Step::Source(from, len) => {
            let begin = writer.place();
            writer.take(&mut out, len, &|at, len| Piece::Old(from + (at - begin), len));
        }
        Step::Target(from, len) => {
            let begin = writer.place();
            writer.take(&mut out, len, &|at, len| Piece::New(from + (at - begin), len));
        }
    })?;
    writer.flush(&mut out);
    Ok(out)
}
