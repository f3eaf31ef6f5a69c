//! In which form a description hashes what is encrypted: nobody is sure, and hashing both takes twice as long. So the shortest
//! region is hashed in both first, and the others in the one that it has shown.

use super::sweep::Outcome;
use decanter_core::digest::{self, Algorithm, Digest};
use decanter_core::transform::Transform;
use decanter_core::view::Slice;
use decanter_core::{Result, SourceRef, Watch};
use std::ops::Range;
use std::sync::Arc;

/// Regions that are shorter than this in all are not worth a read of their own.
const LEAST: u64 = 1 << 20;

/// A form of encrypted bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// As they stand in the source.
    Stored,
    /// After the transform: decrypted, or encrypted again.
    Turned,
}

/// An encrypted stretch that is described in one form or the other.
pub(super) struct Region<'a> {
    /// Its number among all stretches.
    pub(super) index: usize,
    pub(super) span: Range<u64>,
    pub(super) expected: &'a Digest,
}

/// What was learned: which region was hashed, and which form it has.
pub(super) struct Learned {
    pub(super) index: usize,
    pub(super) form: Form,
    pub(super) outcome: Outcome,
}

/// Finds out the form by the shortest region; `None` where that is not worth it, or the region has neither.
///
/// # Errors
/// What reading fails with; [`decanter_core::Error::Cancelled`].
pub(super) fn learn(
    source: &SourceRef,
    transform: &Arc<dyn Transform>,
    regions: &[Region<'_>],
    watch: &dyn Watch,
) -> Result<Option<Learned>> {
    let Some(shortest) = regions.iter().min_by_key(|region| region.span.end - region.span.start) else {
        return Ok(None);
    };
    let others = regions.iter().filter(|region| region.index != shortest.index);
    if others.map(|region| region.span.end - region.span.start).sum::<u64>() < LEAST {
        return Ok(None);
    }
    let both = std::thread::scope(|scope| {
        let hash = |form| hash(source, transform, &shortest.span, form, shortest.expected.algorithm, watch);
        let stored = scope.spawn(move || hash(Form::Stored));
        let turned = hash(Form::Turned);
        let lost = |_| Err(decanter_core::Error::Usage("a hashing thread ended early".into()));
        [(Form::Stored, stored.join().unwrap_or_else(lost)), (Form::Turned, turned)]
    });
    for (form, found) in both {
        let found = found?;
        if found == *shortest.expected {
            return Ok(Some(Learned { index: shortest.index, form, outcome: Outcome::Digest(found) }));
        }
    }
    Ok(None)
}

/// The digest of a stretch in one form.
///
/// # Errors
/// What reading fails with; [`decanter_core::Error::Cancelled`].
pub(super) fn hash(
    source: &SourceRef,
    transform: &Arc<dyn Transform>,
    span: &Range<u64>,
    form: Form,
    algorithm: Algorithm,
    watch: &dyn Watch,
) -> Result<Digest> {
    let whole: SourceRef = match form {
        Form::Stored => source.clone(),
        Form::Turned => Arc::new(Turned { inner: source.clone(), transform: transform.clone() }),
    };
    let part: SourceRef = Arc::new(Slice::new(whole, span.start, span.end - span.start)?);
    let digests = digest::of_source(&part, &[algorithm], &CancelOnly(watch))?;
    digests.into_iter().next().ok_or_else(|| decanter_core::Error::Usage("a digest was lost".into()))
}

/// A source through a transform.
struct Turned {
    inner: SourceRef,
    transform: Arc<dyn Transform>,
}

impl decanter_core::Source for Turned {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.inner.read_at(offset, buf)?;
        self.transform.apply(offset, buf);
        Ok(())
    }
}

/// Sees cancellation, but not the bytes, which were counted before.
pub(super) struct CancelOnly<'a>(pub(super) &'a dyn Watch);

impl Watch for CancelOnly<'_> {
    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
}
