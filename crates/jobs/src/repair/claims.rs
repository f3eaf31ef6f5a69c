//! What a description says of a dump, as claims that hold or do not for a dump that is put together of copies.

use super::copies::Copy;
use crate::{Failure, Setting, locate};
use decanter_core::catalogue::{Catalogue, Status, last_name};
use decanter_core::digest::{Algorithm, Digest, of_source};
use decanter_core::expectation::{Expectation, ExpectedFile, ExpectedRange, RangeCheck};
use decanter_core::opened::Opened;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// Entries of a catalogue that may be meant.
const MOST_ENTRIES: usize = 64;

/// What descriptions say.
#[derive(Default)]
pub(super) struct Claims {
    /// Of a single disc.
    pub(super) expectation: Option<(String, Arc<Expectation>)>,
    /// Of the whole dump, by lists: each may be it.
    pub(super) wholes: Vec<Whole>,
}

/// What a list says of a whole dump.
#[derive(Clone)]
pub(super) struct Whole {
    /// Which entry of which list.
    pub(super) name: String,
    /// Its digests.
    pub(super) digests: Vec<Digest>,
}

impl Whole {
    /// The digest that says most.
    pub(super) fn strongest(&self) -> Option<&Digest> {
        self.digests.iter().max_by_key(|d| d.algorithm)
    }
}

/// A part of a dump with a digest.
pub(super) struct Claim<'a> {
    pub(super) name: String,
    /// Where it lies in the dump, in bytes.
    pub(super) spans: Vec<Range<u64>>,
    of: Of<'a>,
}

enum Of<'a> {
    File(&'a ExpectedFile),
    Range(&'a ExpectedRange),
}

impl Claims {
    /// Reads descriptions, and finds what they say of a dump of `len` bytes.
    ///
    /// # Errors
    /// When one cannot be read, or says nothing of such a dump.
    pub(super) fn read(
        against: &[String],
        copies: &[Copy],
        len: u64,
        setting: &Setting<'_>,
    ) -> std::result::Result<Self, Failure> {
        let mut own = Self::default();
        for path in against {
            let item = locate::open(path, "use", setting)?;
            let holds = &item.opened.holds;
            match (&holds.expectation, &holds.catalogue) {
                (Some(expectation), _) => own.expectation = Some((path.clone(), expectation.clone())),
                (None, Some(catalogue)) => own.wholes.extend(wholes(path, catalogue, copies, len)),
                (None, None) => {
                    let kind = crate::failure::with_article(&item.opened.identity.kind);
                    let why = format!("it is {kind}, and describes nothing");
                    return Err(Failure::usage(format!("cannot hold anything against \"{path}\""), why)
                        .hint("give a disc description, a DAT file or a checksum list"));
                }
            }
        }
        if !against.is_empty() && own.expectation.is_none() && own.wholes.is_empty() {
            let why = format!("none of its entries has {} bytes or the name of a copy", crate::grouped(len));
            return Err(Failure::new("cannot repair by this list", Error::WrongDescription { text: why })
                .hint("give the list that this dump is in; a copy may also be too long or too short"));
        }
        Ok(own)
    }
}

/// The entries of a catalogue that may be of this dump: those of its length, or of its name where lengths are not said.
fn wholes(path: &str, catalogue: &Catalogue, copies: &[Copy], len: u64) -> Vec<Whole> {
    let names: Vec<String> = copies.iter().map(|copy| copy.item.file_name().to_lowercase()).collect();
    let is_named = |name: &str| names.iter().any(|own| own == &last_name(name).to_lowercase());
    let good = || catalogue.entries().iter().filter(|entry| entry.status == Status::Good);
    let of_len: Vec<_> = good().filter(|entry| entry.len == Some(len)).collect();
    let unsaid: Vec<_> = good().filter(|entry| entry.len.is_none()).collect();
    let named: Vec<_> = of_len.iter().chain(&unsaid).filter(|entry| is_named(&entry.name)).copied().collect();
    let chosen = match named.is_empty() {
        false => named,
        true => of_len.into_iter().chain(if unsaid.len() == 1 { unsaid } else { Vec::new() }).collect(),
    };
    chosen
        .into_iter()
        .take(MOST_ENTRIES)
        .map(|entry| Whole {
            name: format!("\"{}\" in {path}", entry.name),
            digests: Algorithm::ALL
                .iter()
                .filter_map(|a| Some(Digest { algorithm: *a, bytes: entry.sums.get(*a)?.to_vec() }))
                .collect(),
        })
        .collect()
}

/// The parts that a description names, smallest first, where they lie in a dump that is opened as `opened`.
pub(super) fn parts<'a>(expectation: &'a Expectation, opened: &Opened, len: u64) -> Vec<Claim<'a>> {
    let tree = opened.holds.tree.as_ref();
    let spans = |file: &ExpectedFile| {
        let node = match (&file.path, file.offset) {
            (Some(path), _) => tree?.find(path)?.file(),
            (None, Some(offset)) => {
                tree?.files().map(|(_, f)| f).find(|f| f.spans.first().is_some_and(|s| s.start == offset))
            }
            (None, None) => None,
        };
        Some(node?.spans.clone())
    };
    let files = expectation.files.iter().filter_map(|file| {
        let spans = spans(file)?;
        let name = file.path.clone().unwrap_or_else(|| format!("the file at {:#x}", file.offset.unwrap_or(0)));
        Some(Claim { name, spans, of: Of::File(file) })
    });
    let ranges =
        expectation.ranges.iter().filter(|range| range.offset.saturating_add(range.len) <= len).map(|range| Claim {
            name: range.name.clone(),
            spans: std::iter::once(range.offset..range.offset + range.len).collect(),
            of: Of::Range(range),
        });
    let mut all: Vec<Claim<'a>> = files.chain(ranges).collect();
    all.sort_by_key(Claim::bytes);
    all
}

impl Claim<'_> {
    /// Bytes that have to be read to ask it.
    pub(super) fn bytes(&self) -> u64 {
        self.spans.iter().map(|span| span.end - span.start).sum()
    }

    /// Whether it is about any of these bytes.
    pub(super) fn touches(&self, span: &Range<u64>) -> bool {
        self.spans.iter().any(|own| own.start < span.end && span.start < own.end)
    }

    /// Whether it holds for a dump.
    ///
    /// # Errors
    /// [`Error::Cancelled`] and what the machine fails with: what cannot be read does not hold.
    pub(super) fn holds(&self, dump: &SourceRef, like: &Copy, setting: &Setting<'_>) -> Result<bool> {
        match self.asked(dump, like, setting) {
            Err(e @ (Error::Cancelled | Error::Io { .. })) => Err(e),
            Err(_) => Ok(false),
            asked => asked,
        }
    }

    fn asked(&self, dump: &SourceRef, like: &Copy, setting: &Setting<'_>) -> Result<bool> {
        let opened = || {
            let names = [like.item.stem.clone()];
            setting.opener(&like.item.keyring).with_names(&names).open(dump.clone())
        };
        let is = |source: &SourceRef, digest: &Digest| -> Result<bool> {
            Ok(of_source(source, &[digest.algorithm], setting.watch)?.first() == Some(digest))
        };
        match self.of {
            Of::File(file) => {
                let opened = opened()?;
                let tree = opened.holds.tree.as_ref();
                let found = match (&file.path, file.offset) {
                    (Some(path), _) => tree.and_then(|tree| tree.find(path)).and_then(|node| node.file()),
                    (None, Some(offset)) => tree.and_then(|tree| {
                        tree.files().map(|(_, f)| f).find(|f| f.spans.first().is_some_and(|s| s.start == offset))
                    }),
                    (None, None) => None,
                };
                found.map_or(Ok(false), |found| is(found.source()?, &file.digest))
            }
            Of::Range(range) => {
                let part = |source: &SourceRef| -> Result<SourceRef> {
                    Ok(Arc::new(Slice::new(source.clone(), range.offset, range.len)?))
                };
                match &range.check {
                    RangeCheck::Bytes(bytes) => {
                        let found = read_vec(dump.as_ref(), range.offset, range.len, "a stretch", u64::MAX)?;
                        Ok(found == **bytes)
                    }
                    RangeCheck::EitherForm(digest) => {
                        if is(&part(dump)?, digest)? {
                            return Ok(true);
                        }
                        let clear = opened()?.protection.and_then(|p| p.clear).and_then(|clear| clear.as_source().ok());
                        clear.map_or(Ok(false), |clear| is(&part(&clear)?, digest))
                    }
                }
            }
        }
    }
}
