//! Late parts: each is computed once everything it needs is known.

use crate::blueprint::{Blueprint, Content, Known};
use crate::digest::{Digest, of_bytes};
use crate::error::{Error, Result};

/// What was found out of the parts while they passed by.
pub(super) struct Found {
    /// Digests that were asked for, by part; none yet for late ones.
    pub(super) digests: Vec<Option<Vec<Digest>>>,
    /// Marks of packed parts.
    pub(super) marks: Vec<Vec<u32>>,
    /// Digests of runs and of the blocks in them.
    pub(super) blocks: Vec<Vec<u8>>,
}

impl Found {
    fn known(&self) -> Known<'_> {
        Known { digests: &self.digests, marks: &self.marks, blocks: &self.blocks }
    }
}

/// Computes all late parts and hands them to `write` with their numbers; then makes the checks of the blueprint.
///
/// # Errors
/// What computing, writing and checking fail with; [`Error::Usage`] for parts that need each other in a circle.
pub(super) fn resolve(
    blueprint: &Blueprint,
    found: &mut Found,
    write: &mut dyn FnMut(usize, &[u8]) -> Result<()>,
) -> Result<()> {
    loop {
        let (mut waiting, mut made) = (0, 0);
        for (number, part) in blueprint.parts.iter().enumerate() {
            let Content::Late { len, needs, make, may_be_shorter } = &part.content else { continue };
            if found.digests[number].is_some() {
                continue;
            }
            if needs.iter().any(|n| found.digests[n.index()].is_none()) {
                waiting += 1;
                continue;
            }
            let Some(make) = make else {
                return Err(Error::Usage(format!("nobody said how late part {number} is computed")));
            };
            let bytes = make(&found.known())?;
            let is_last = number + 1 == blueprint.parts.len();
            if bytes.len() as u64 != *len && !(*may_be_shorter && is_last && (bytes.len() as u64) < *len) {
                let text = format!("late part {number} has {} bytes instead of {len}", bytes.len());
                return Err(Error::Usage(text));
            }
            write(number, &bytes)?;
            found.digests[number] = Some(part.measure.iter().map(|&a| of_bytes(a, &bytes)).collect());
            made += 1;
        }
        if waiting == 0 {
            break;
        }
        if made == 0 {
            return Err(Error::Usage("late parts need each other in a circle".into()));
        }
    }
    blueprint.checks.iter().try_for_each(|check| check(&found.known()))
}
