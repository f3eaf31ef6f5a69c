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

/// The digests of parts that are already known when a late part is computed.
pub struct Known<'a> {
    pub(crate) digests: &'a [Option<Vec<Digest>>],
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
}

/// Computes a late part.
pub type Make = Arc<dyn Fn(&Known<'_>) -> Result<Vec<u8>> + Send + Sync>;

#[derive(Clone)]
pub(crate) enum Content {
    Source(SourceRef),
    Late { len: u64, needs: Vec<PartId>, make: Option<Make> },
}

#[derive(Clone)]
pub(crate) struct Part {
    pub(crate) content: Content,
    pub(crate) measure: Vec<Algorithm>,
}

impl Part {
    pub(crate) fn len(&self) -> u64 {
        match &self.content {
            Content::Source(source) => source.len(),
            Content::Late { len, .. } => *len,
        }
    }
}

/// An ordered list of parts: sources, fills, and bytes that are computed late from other parts' digests.
#[derive(Clone, Default)]
pub struct Blueprint {
    pub(crate) parts: Vec<Part>,
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

    /// Length of the output in bytes.
    pub fn len(&self) -> u64 {
        self.parts.iter().map(Part::len).sum()
    }

    /// True when the output has no bytes.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn push(&mut self, content: Content) -> PartId {
        self.parts.push(Part { content, measure: Vec::new() });
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

    /// Adds `len` bytes that are computed late: [`Blueprint::compute`] says how, once the parts they need have
    /// been added. They are written back in place, so a header may describe what comes after it.
    pub fn late(&mut self, len: u64) -> PartId {
        self.push(Content::Late { len, needs: Vec::new(), make: None })
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
            Content::Source(_) => Err(Error::Usage(format!("part {} is not late", part.0))),
        }
    }

    /// Asks for the digest of a part by itself.
    pub fn measure(&mut self, part: PartId, algorithm: Algorithm) {
        let wanted = &mut self.parts[part.0].measure;
        if !wanted.contains(&algorithm) {
            wanted.push(algorithm);
        }
    }

    /// The output as a source, without writing it.
    ///
    /// # Errors
    /// [`Error::Usage`] when it has late parts, which exist only once it is written.
    pub fn as_source(&self) -> Result<SourceRef> {
        let parts = self.parts.iter().map(|p| match &p.content {
            Content::Source(source) => Ok(source.clone()),
            Content::Late { .. } => Err(Error::Usage("an output with late parts has to be written first".into())),
        });
        Ok(Arc::new(Concat::new(parts.collect::<Result<_>>()?)?))
    }
}
