//! A blueprint poured into memory: for small outputs that are part of another one whose hashes need them first.

use super::blocks::BlockHasher;
use super::late::{self, Found};
use crate::blueprint::{Blueprint, Content};
use crate::digest::{Digest, of_bytes};
use crate::error::{Error, Result};
use crate::watch::{self, Watch};

/// The bytes of an output of at most `limit` bytes.
///
/// # Errors
/// [`Error::Limit`], [`Error::Usage`] for packed parts, and what reading fails with.
pub fn to_memory(blueprint: &Blueprint, limit: u64, watch: &dyn Watch) -> Result<Vec<u8>> {
    let len = blueprint.len();
    if len > limit {
        return Err(Error::Limit { what: "a part that is put together in memory", asked: len, limit });
    }
    let mut out = vec![0; len as usize];
    let mut offsets = Vec::new();
    let mut at = 0;
    for part in &blueprint.parts {
        watch::check(watch)?;
        let end = at + part.len() as usize;
        match &part.content {
            Content::Source(source) => source.read_at(0, &mut out[at..end])?,
            Content::Late { .. } => {}
            Content::Packed { .. } => {
                return Err(Error::Usage("a packed part has no length before it is written".into()));
            }
        }
        offsets.push(at..end);
        at = end;
    }
    let digests = |bytes: &[u8], part: &crate::blueprint::Part| -> Vec<Digest> {
        part.measure.iter().map(|&a| of_bytes(a, bytes)).collect()
    };
    let mut known: Vec<Option<Vec<Digest>>> = Vec::new();
    for (part, range) in blueprint.parts.iter().zip(&offsets) {
        let is_late = matches!(part.content, Content::Late { .. });
        known.push((!is_late).then(|| digests(&out[range.clone()], part)));
    }
    let mut blocks = Vec::new();
    for run in &blueprint.block_runs {
        let mut hasher = BlockHasher::new(run);
        hasher.update(&out[offsets[run.first].start..offsets[run.last].end]);
        blocks.push(hasher.finish());
    }
    let mut found = Found { digests: known, marks: Vec::new(), blocks };
    late::resolve(blueprint, &mut found, &mut |number, bytes| {
        out[offsets[number].clone()].copy_from_slice(bytes);
        Ok(())
    })?;
    Ok(out)
}
