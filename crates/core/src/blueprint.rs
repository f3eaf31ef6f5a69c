//! The description of an output: what stands in it, in which order. Writing it is [`crate::pour`]'s work.

use crate::digest::{Algorithm, Digest};
use crate::error::{Error, Result};
use crate::source::SourceRef;
use crate::view::{Concat, Fill};
use std::sync::Arc;

/// Number of a part within its blueprint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PartId(usize);

impl PartId {
    /// Counted from 0 in the order of the output.
    pub fn index(self) -> usize {
        self.0
    }
}

/// Number of a run of parts whose blocks are hashed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BlocksId(usize);

/// A run of parts whose bytes are hashed block by block, or as a whole without a length of blocks.
#[derive(Debug, Clone)]
pub(crate) struct BlockRun {
    pub(crate) first: usize,
    pub(crate) last: usize,
    pub(crate) block: Option<usize>,
}

/// Turns the bytes of a source into fewer, chunk by chunk, on many threads.
pub trait Packer: Send + Sync {
    /// Bytes of the source that one thread packs at a time. Memory grows with it.
    fn batch_len(&self) -> usize;

    /// What one thread needs, made once a thread.
    ///
    /// # Errors
    /// When it cannot be set up.
    fn worker(&self) -> Result<Box<dyn PackWorker>>;

    /// Who takes out of the packed batches what stands in an earlier one already; `None` where nothing is looked for.
    fn weeder(&self) -> Option<Box<dyn Weeder>> {
        None
    }
}

/// Sees all batches in their order before they are written.
pub trait Weeder {
    /// Changes a batch and its marks. What it does must depend on nothing but the batches so far.
    ///
    /// # Errors
    /// When the marks are not those of its packer.
    fn weed(&mut self, packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()>;
}

/// One thread of a [`Packer`].
pub trait PackWorker {
    /// Appends what the batch `raw`, which begins at byte `at` of the source, becomes to `packed`, and one mark a chunk to
    /// `marks`: its packed length in bytes, with whatever flags the format that made the packer puts into the upper bits.
    ///
    /// # Errors
    /// When the library that packs fails.
    fn pack(&mut self, at: u64, raw: &[u8], packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()>;
}

/// What is already known of other parts when a late part is computed.
pub struct Known<'a> {
    pub(crate) digests: &'a [Option<Vec<Digest>>],
    pub(crate) marks: &'a [Vec<u32>],
    pub(crate) blocks: &'a [Vec<u8>],
}

impl Known<'_> {
    /// The digest of `part`, which must have been added with [`Blueprint::measure`] for that algorithm.
    ///
    /// # Errors
    /// [`Error::Usage`] when it is not known: a mistake in the format that made the blueprint.
    pub fn digest(&self, part: PartId, algorithm: Algorithm) -> Result<&[u8]> {
        let found = self.digests.get(part.0).and_then(Option::as_ref);
        let found = found.and_then(|all| all.iter().find(|d| d.algorithm == algorithm));
        found
            .map(|d| d.bytes.as_slice())
            .ok_or_else(|| Error::Usage(format!("the {} of part {} was not asked for", algorithm.name(), part.0)))
    }

    /// The SHA-256 of a part as it was before its beginning was changed, asked for with [`Blueprint::measure_before`].
    ///
    /// # Errors
    /// [`Error::Usage`] when it is not known.
    pub fn digest_before(&self, part: PartId) -> Result<&[u8]> {
        // It stands behind the digests of the part itself.
        let found = self.digests.get(part.0).and_then(Option::as_ref).and_then(|all| all.last());
        found.map(|d| d.bytes.as_slice()).ok_or_else(|| Error::Usage(format!("no digest of part {} before", part.0)))
    }

    /// The digests of a run that was added with [`Blueprint::measure_blocks`]: SHA-256, 32 bytes each, in order.
    pub fn blocks(&self, run: BlocksId) -> &[u8] {
        self.blocks.get(run.0).map_or(&[], Vec::as_slice)
    }

    /// The marks of a packed part, one a chunk, in order; none for other parts.
    pub fn marks(&self, part: PartId) -> &[u32] {
        self.marks.get(part.0).map_or(&[], Vec::as_slice)
    }
}

/// Refuses an output whose parts have not the digests that they should have.
pub type Check = Arc<dyn Fn(&Known<'_>) -> Result<()> + Send + Sync>;

/// Computes a late part.
pub type Make = Arc<dyn Fn(&Known<'_>) -> Result<Vec<u8>> + Send + Sync>;

#[derive(Clone)]
pub(crate) enum Content {
    Source(SourceRef),
    Packed { source: SourceRef, packer: Arc<dyn Packer> },
    Late { len: u64, needs: Vec<PartId>, make: Option<Make>, may_be_shorter: bool },
}

#[derive(Clone)]
pub(crate) struct Part {
    pub(crate) content: Content,
    pub(crate) measure: Vec<Algorithm>,
    /// What it began with before its first bytes were changed: the SHA-256 of those bytes is wanted too.
    pub(crate) before: Option<Arc<[u8]>>,
}

impl Part {
    /// Length in bytes; of a packed part that of what goes in.
    pub(crate) fn len(&self) -> u64 {
        match &self.content {
            Content::Source(source) | Content::Packed { source, .. } => source.len(),
            Content::Late { len, .. } => *len,
        }
    }
}

/// An ordered list of parts: sources, fills, and bytes that are computed late from other parts' digests.
#[derive(Clone, Default)]
pub struct Blueprint {
    pub(crate) parts: Vec<Part>,
    pub(crate) block_runs: Vec<BlockRun>,
    pub(crate) checks: Vec<Check>,
}

impl Blueprint {
    /// One with nothing in it.
    pub fn new() -> Self {
        Self::default()
    }

    /// One that is a single source.
    pub fn of(source: SourceRef) -> Self {
        let mut blueprint = Self::new();
        blueprint.source(source);
        blueprint
    }

    /// Length of the output in bytes; packed parts count with their length before packing.
    pub fn len(&self) -> u64 {
        self.parts.iter().map(Part::len).sum()
    }

    /// True when the output has no bytes.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn push(&mut self, content: Content) -> PartId {
        self.parts.push(Part { content, measure: Vec::new(), before: None });
        PartId(self.parts.len() - 1)
    }

    /// Adds the bytes of `source`.
    pub fn source(&mut self, source: SourceRef) -> PartId {
        self.push(Content::Source(source))
    }

    /// Adds `len` bytes of value `byte`; zeros become a hole where the file system has holes.
    pub fn fill(&mut self, byte: u8, len: u64) -> PartId {
        self.push(Content::Source(Arc::new(Fill { byte, len })))
    }

    /// Adds what `packer` makes of the bytes of `source`. Its length is known only once it is written; a digest
    /// asked for with [`Blueprint::measure`] is that of the bytes before packing.
    pub fn packed(&mut self, source: SourceRef, packer: Arc<dyn Packer>) -> PartId {
        self.push(Content::Packed { source, packer })
    }

    /// Adds `len` bytes that are computed late: [`Blueprint::compute`] says how, once the parts they need have
    /// been added. They are written back in place, so a header may describe what comes after it.
    pub fn late(&mut self, len: u64) -> PartId {
        self.push(Content::Late { len, needs: Vec::new(), make: None, may_be_shorter: false })
    }

    /// Adds the last part: a late one of at most `most` bytes. The output ends where it ends.
    pub fn tail(&mut self, most: u64) -> PartId {
        self.push(Content::Late { len: most, needs: Vec::new(), make: None, may_be_shorter: true })
    }

    /// Says how a late part is computed: by `make`, once the digests of the parts in `needs` are known.
    ///
    /// # Errors
    /// [`Error::Usage`] when `part` is no late part.
    pub fn compute(&mut self, part: PartId, needs: &[PartId], make: Make) -> Result<()> {
        match &mut self.parts[part.0].content {
            Content::Late { needs: own, make: slot, .. } => {
                *own = needs.to_vec();
                *slot = Some(make);
                Ok(())
            }
            _ => Err(Error::Usage(format!("part {} is not late", part.0))),
        }
    }

    /// The first packed part, if there is one.
    pub fn packed_part(&self) -> Option<PartId> {
        self.parts.iter().position(|p| matches!(p.content, Content::Packed { .. })).map(PartId)
    }

    /// Asks for the digest of a part by itself.
    pub fn measure(&mut self, part: PartId, algorithm: Algorithm) {
        let wanted = &mut self.parts[part.0].measure;
        if !wanted.contains(&algorithm) {
            wanted.push(algorithm);
        }
    }

    /// Asks for the SHA-256 of a part as it was when it began with `head`, where the part has other bytes: so both are held
    /// against what they should be in one read.
    pub fn measure_before(&mut self, part: PartId, head: Vec<u8>) {
        self.parts[part.0].before = Some(head.into());
    }

    /// Asks for the SHA-256 of every `block` bytes of the parts from `first` to `last`, the last block filled up with
    /// zeros: what hash trees are made of. A late part that uses them needs `last`.
    ///
    /// # Errors
    /// [`Error::Usage`] for blocks of no bytes, and for a run with late or packed parts, whose bytes do not pass by.
    pub fn measure_blocks(&mut self, first: PartId, last: PartId, block: usize) -> Result<BlocksId> {
        self.measure_run(first, last, Some(block))
    }

    /// Asks for the one SHA-256 of all parts from `first` to `last`; [`Known::blocks`] has it.
    ///
    /// # Errors
    /// As [`Blueprint::measure_blocks`].
    pub fn measure_whole(&mut self, first: PartId, last: PartId) -> Result<BlocksId> {
        self.measure_run(first, last, None)
    }

    fn measure_run(&mut self, first: PartId, last: PartId, block: Option<usize>) -> Result<BlocksId> {
        let run = self.parts.get(first.0..=last.0).filter(|_| block != Some(0));
        if !run.is_some_and(|parts| parts.iter().all(|p| matches!(p.content, Content::Source(_)))) {
            return Err(Error::Usage("only a run of sources can be hashed as it passes by".into()));
        }
        self.block_runs.push(BlockRun { first: first.0, last: last.0, block });
        Ok(BlocksId(self.block_runs.len() - 1))
    }

    /// Adds something that has to hold once everything has passed by: if it does not, nothing is kept.
    pub fn check(&mut self, check: Check) {
        self.checks.push(check);
    }

    /// The output as a source, without writing it.
    ///
    /// # Errors
    /// [`Error::Usage`] when it has late parts, which exist only once it is written.
    pub fn as_source(&self) -> Result<SourceRef> {
        let parts = self.parts.iter().map(|p| match &p.content {
            Content::Source(source) => Ok(source.clone()),
            _ => Err(Error::Usage("an output with late or packed parts has to be written first".into())),
        });
        Ok(Arc::new(Concat::new(parts.collect::<Result<_>>()?)?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pour::to_memory;
    use crate::source::Bytes;

    fn bytes(text: &[u8]) -> SourceRef {
        Arc::new(Bytes(text.to_vec()))
    }

    #[test]
    fn parts_follow_each_other() {
        let mut blueprint = Blueprint::of(bytes(b"tide"));
        blueprint.fill(b'-', 3);
        blueprint.fill(0, 0);
        blueprint.source(bytes(b"table"));
        assert_eq!((blueprint.len(), blueprint.is_empty(), Blueprint::new().is_empty()), (12, false, true));
        assert_eq!(to_memory(&blueprint, 100, &()).unwrap(), b"tide---table");
        let source = blueprint.as_source().unwrap();
        let mut some = [0; 6];
        source.read_at(2, &mut some).unwrap();
        assert_eq!(&some, b"de---t");
        assert!(matches!(to_memory(&blueprint, 11, &()), Err(Error::Limit { .. })));
    }

    #[test]
    fn a_late_part_knows_the_digests_that_it_needs() {
        let mut blueprint = Blueprint::new();
        let head = blueprint.late(4);
        let body = blueprint.source(bytes(b"123456789"));
        blueprint.measure(body, Algorithm::Crc32);
        blueprint.measure(body, Algorithm::Crc32);
        blueprint
            .compute(head, &[body], Arc::new(move |known| Ok(known.digest(body, Algorithm::Crc32)?.to_vec())))
            .unwrap();
        // The check value of CRC-32.
        assert_eq!(to_memory(&blueprint, 100, &()).unwrap(), b"\xcb\xf4\x39\x26123456789");
        assert!(blueprint.as_source().is_err(), "it exists only once it is written");
        let wrong = blueprint.compute(body, &[], Arc::new(|_| Ok(Vec::new())));
        assert!(matches!(wrong, Err(Error::Usage(_))), "a source is not computed");
    }

    #[test]
    fn what_was_not_measured_is_not_known() {
        let mut blueprint = Blueprint::new();
        let body = blueprint.source(bytes(b"x"));
        let tail = blueprint.late(4);
        blueprint
            .compute(tail, &[body], Arc::new(move |known| Ok(known.digest(body, Algorithm::Md5)?.to_vec())))
            .unwrap();
        assert!(matches!(to_memory(&blueprint, 100, &()), Err(Error::Usage(_))));
    }

    #[test]
    fn only_sources_are_hashed_block_by_block() {
        let mut blueprint = Blueprint::new();
        let (a, b) = (blueprint.source(bytes(b"a")), blueprint.source(bytes(b"b")));
        let late = blueprint.late(1);
        assert!(blueprint.measure_blocks(a, b, 0).is_err() && blueprint.measure_blocks(a, late, 16).is_err());
        assert!(blueprint.measure_whole(a, b).is_ok() && blueprint.measure_whole(late, late).is_err());
        let run = blueprint.measure_blocks(a, b, 4).unwrap();
        let found = Arc::new(std::sync::Mutex::new(Vec::new()));
        let kept = found.clone();
        blueprint
            .compute(
                late,
                &[b],
                Arc::new(move |known| {
                    *kept.lock().unwrap() = known.blocks(run).to_vec();
                    Ok(vec![0])
                }),
            )
            .unwrap();
        to_memory(&blueprint, 100, &()).unwrap();
        // One block, filled up with zeros.
        assert_eq!(*found.lock().unwrap(), crate::digest::of_bytes(Algorithm::Sha256, b"ab\0\0").bytes);
    }

    #[test]
    fn a_check_that_fails_keeps_nothing() {
        let mut blueprint = Blueprint::of(bytes(b"kelp"));
        blueprint.check(Arc::new(|_| Err(Error::Damaged { what: "it is wrong".into() })));
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("out");
        let guard = crate::guard::Guard::default();
        let door = crate::guard::Door { guard: &guard, replace: false };
        let poured = crate::pour::pour(crate::pour::Output::new(&blueprint, &target), door, &());
        assert!(matches!(poured, Err(Error::Damaged { .. })) && !target.exists());
    }
}
