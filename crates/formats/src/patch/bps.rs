//! BPS patches: copies out of both files. Layout: docs/formats/bps.md.

use super::delta::{self, Step};
use super::{TRAILER, addressed, end, granted, joined, load, trailer, vli};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::patch::{End, Patch};
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "bps";
const MAGIC: &[u8] = b"BPS1";
/// Metadata that is read at most.
const MOST_METADATA: u64 = 16 << 20;

/// Bytes of the result that may be copies of others in it, runs and patterns aside.
const MOST_KEPT: usize = 256 << 20;
/// Bytes of a pattern that are kept at least.
const PATTERN: usize = 16 << 10;

/// The format.
pub struct Bps;

impl Format for Bps {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "BPS patch"
    }

    fn role(&self) -> Role {
        Role::Patch
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["bps"]
    }

    fn reads(&self) -> &'static str {
        "copies out of both files, metadata; checked against the files before and after"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(80))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let bytes = load(&source)?;
        let sums = trailer(ID, &bytes)?;
        let patch = parse(&bytes[..bytes.len() - TRAILER], sums)?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("records", patch.count.to_string());
        if !patch.metadata.is_empty() {
            opened.fact("metadata", format!("{} bytes", patch.metadata.len()));
        }
        opened.holds.patch = Some(Arc::new(patch));
        Ok(opened)
    }
}

struct BpsPatch {
    /// The instructions.
    bytes: Arc<Vec<u8>>,
    /// Where they begin in the patch, for errors.
    from: usize,
    metadata: Vec<u8>,
    lens: (u64, u64),
    sums: (u32, u32),
    /// Instructions, and what of the file after is not the file before at the same place.
    count: usize,
    touches: Vec<Range<u64>>,
}

/// One instruction, with the numbers as they are meant.
enum Action {
    /// The file before, at the same place.
    Same(usize),
    /// Bytes of the patch.
    Literal(Range<usize>),
    /// The file before, from a place on.
    Source(usize, usize),
    /// The file after, from a place on that is already there.
    Target(usize, usize),
}

/// Goes through the instructions.
struct Actions<'a> {
    bytes: &'a [u8],
    from: usize,
    lens: (usize, usize),
    at: usize,
    /// Bytes of the file after so far.
    out: usize,
    /// Where the last copies ended.
    source: usize,
    target: usize,
}

impl Actions<'_> {
    fn wrong(&self, what: &'static str, at: usize) -> Error {
        Error::malformed(ID, what, (self.from + at) as u64)
    }

    fn next(&mut self) -> Result<Option<Action>> {
        if self.at >= self.bytes.len() {
            let is_whole = self.out == self.lens.1;
            return if is_whole {
                Ok(None)
            } else {
                Err(self.wrong("instructions end before the result does", self.at))
            };
        }
        let start = self.at;
        let word = vli::read(ID, self.bytes, &mut self.at)?;
        let len = usize::try_from((word >> 2) + 1).unwrap_or(usize::MAX);
        if len > self.lens.1 - self.out {
            return Err(self.wrong("an instruction that goes past the end of the result", start));
        }
        let out = self.out;
        self.out += len;
        Ok(Some(match word & 3 {
            0 if out + len <= self.lens.0 => Action::Same(len),
            0 => return Err(self.wrong("a copy from past the end of the file before", start)),
            1 if len <= self.bytes.len() - self.at => {
                self.at += len;
                Action::Literal(self.at - len..self.at)
            }
            1 => return Err(self.wrong("the patch is cut short", start)),
            2 => {
                let from = self.moved(self.source)?.filter(|f| f.checked_add(len).is_some_and(|e| e <= self.lens.0));
                let from = from.ok_or_else(|| self.wrong("a copy from outside the file before", start))?;
                self.source = from + len;
                Action::Source(from, len)
            }
            _ => {
                let from = self.moved(self.target)?.filter(|f| *f < out);
                let from = from.ok_or_else(|| self.wrong("a copy of what is not there yet", start))?;
                self.target = from + len;
                Action::Target(from, len)
            }
        }))
    }

    /// A place, by a signed distance from the last one: the lowest bit is the sign.
    fn moved(&mut self, last: usize) -> Result<Option<usize>> {
        let word = vli::read(ID, self.bytes, &mut self.at)?;
        let distance = usize::try_from(word >> 1).unwrap_or(usize::MAX);
        Ok(if word & 1 == 1 { last.checked_sub(distance) } else { last.checked_add(distance) })
    }
}

fn parse(bytes: &[u8], sums: (u32, u32)) -> Result<BpsPatch> {
    let mut at = MAGIC.len();
    let lens = (vli::read(ID, bytes, &mut at)?, vli::read(ID, bytes, &mut at)?);
    addressed("the file before", lens.0)?;
    addressed("the file after", lens.1)?;
    let len = vli::read(ID, bytes, &mut at)?;
    if len > MOST_METADATA || len > (bytes.len() - at) as u64 {
        return Err(Error::malformed(ID, "metadata that goes past the end of the patch", at as u64));
    }
    let metadata = bytes[at..at + len as usize].to_vec();
    at += len as usize;
    let mut patch =
        BpsPatch { bytes: Arc::new(bytes[at..].to_vec()), from: at, metadata, lens, sums, count: 0, touches: vec![] };
    let (mut count, mut touches, mut out) = (0, Vec::new(), 0u64);
    let mut actions = patch.actions();
    while let Some(action) = actions.next()? {
        count += 1;
        let (len, same) = match action {
            Action::Same(len) => (len, true),
            Action::Source(from, len) => (len, from as u64 == out),
            Action::Literal(range) => (range.len(), false),
            Action::Target(_, len) => (len, false),
        };
        if !same {
            touches.push(out..out + len as u64);
        }
        out += len as u64;
    }
    (patch.count, patch.touches) = (count, joined(touches));
    Ok(patch)
}

impl BpsPatch {
    fn actions(&self) -> Actions<'_> {
        let lens = (self.lens.0 as usize, self.lens.1 as usize);
        Actions { bytes: &self.bytes, from: self.from, lens, at: 0, out: 0, source: 0, target: 0 }
    }
}

impl Patch for BpsPatch {
    fn source(&self) -> End {
        end(self.lens.0, self.sums.0)
    }

    fn target(&self) -> End {
        end(self.lens.1, self.sums.1)
    }

    fn metadata(&self) -> &[u8] {
        &self.metadata
    }

    fn records(&self) -> u64 {
        self.count as u64
    }

    fn touches(&self) -> Vec<Range<u64>> {
        self.touches.clone()
    }

    fn apply(&self, source: &SourceRef) -> Result<SourceRef> {
        if source.len() != self.lens.0 {
            return Err(Error::PastEnd { offset: 0, asked: self.lens.0, len: source.len() });
        }
        let mut made =
            Pieced { source: source.clone(), patch: self.bytes.clone(), kept: Vec::new(), pieces: Vec::new(), len: 0 };
        let mut actions = self.actions();
        while let Some(action) = actions.next()? {
            match action {
                Action::Same(len) => made.push(Origin::Source(made.len), len),
                Action::Literal(range) => made.push(Origin::Patch(range.start), range.len()),
                Action::Source(from, len) => made.push(Origin::Source(from as u64), len),
                Action::Target(from, len) => made.repeat(from as u64, len)?,
            }
        }
        Ok(Arc::new(made))
    }

    fn undo(&self, _: &SourceRef) -> Result<SourceRef> {
        Err(Error::unsupported(ID, "leading back to the file before, of which the patch has no bytes,"))
    }
}

/// A file in pieces: of the file before, of the patch, and what was copied from itself.
struct Pieced {
    source: SourceRef,
    patch: Arc<Vec<u8>>,
    /// Bytes that are copies of earlier ones.
    kept: Vec<u8>,
    /// Where each piece and where its bytes are.
    pieces: Vec<(u64, Origin)>,
    len: u64,
}

#[derive(Clone, Copy)]
enum Origin {
    Source(u64),
    Patch(usize),
    /// From a place on, so many bytes, over and over.
    Kept(usize, usize),
}

impl Pieced {
    fn push(&mut self, from: Origin, len: usize) {
        self.pieces.push((self.len, from));
        self.len += len as u64;
    }

    /// Copies from what is already there; where both overlap, what was just copied is copied on: a pattern, of which
    /// only so much is kept as reading it quickly takes.
    fn repeat(&mut self, from: u64, len: usize) -> Result<()> {
        let period = ((self.len - from) as usize).min(len);
        let unit =
            if period < len { PATTERN.next_multiple_of(period).min(len.next_multiple_of(period)) } else { period };
        let start = self.kept.len();
        if start + unit > MOST_KEPT {
            let (asked, limit) = ((start + unit) as u64, MOST_KEPT as u64);
            return Err(Error::Limit { what: "copies of the result within itself", asked, limit });
        }
        let mut pattern = vec![0; period];
        self.read_at(from, &mut pattern)?;
        for _ in 0..unit / period {
            self.kept.extend_from_slice(&pattern);
        }
        self.push(Origin::Kept(start, unit), len);
        Ok(())
    }
}

impl Source for Pieced {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut index = self.pieces.partition_point(|(start, _)| *start <= offset).saturating_sub(1);
        let mut at = offset;
        while !buf.is_empty() {
            let (start, from) = self.pieces[index];
            let end = self.pieces.get(index + 1).map_or(self.len, |(next, _)| *next);
            let here = usize::try_from(end - at).unwrap_or(usize::MAX).min(buf.len());
            let (now, later) = buf.split_at_mut(here);
            let skip = (at - start) as usize;
            match from {
                Origin::Source(from) => self.source.read_at(from + skip as u64, now)?,
                Origin::Patch(from) => now.copy_from_slice(&self.patch[from + skip..from + skip + here]),
                Origin::Kept(from, unit) => {
                    let pattern = &self.kept[from..from + unit];
                    let first = skip % unit;
                    let head = here.min(unit - first);
                    now[..head].copy_from_slice(&pattern[first..first + head]);
                    now[head..].chunks_mut(unit).for_each(|piece| piece.copy_from_slice(&pattern[..piece.len()]));
                }
            }
            at += here as u64;
            buf = later;
            index += 1;
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.source.prefers_sequential()
    }
}

/// Makes a patch: what of the new file is in either file already is copied.
///
/// # Errors
/// [`Error::Limit`] for files that are too large.
pub fn make(old: &[u8], new: &[u8], metadata: &[u8]) -> Result<Vec<u8>> {
    granted("the old file", old.len() as u64)?;
    granted("the new file", new.len() as u64)?;
    let mut out = MAGIC.to_vec();
    for number in [old.len(), new.len(), metadata.len()] {
        vli::write(&mut out, number as u64);
    }
    out.extend_from_slice(metadata);
    let word = |out: &mut Vec<u8>, kind: u64, len: usize| vli::write(out, ((len as u64 - 1) << 2) | kind);
    let (mut source, mut target) = (0usize, 0usize);
    let place = |out: &mut Vec<u8>, last: usize, from: usize| {
        let (distance, sign) = if from < last { (last - from, 1) } else { (from - last, 0) };
        vli::write(out, (distance as u64) << 1 | sign);
    };
    delta::steps(old, new, &mut |step| match step {
        Step::Same(len) => word(&mut out, 0, len),
        Step::Literal(range) => {
            word(&mut out, 1, range.len());
            out.extend_from_slice(&new[range]);
        }
        Step::Source(from, len) => {
            word(&mut out, 2, len);
            place(&mut out, source, from);
            source = from + len;
        }
        Step::Target(from, len) => {
            word(&mut out, 3, len);
            place(&mut out, target, from);
            target = from + len;
        }
    })?;
    for file in [old, new] {
        out.extend_from_slice(&crc32fast::hash(file).to_le_bytes());
    }
    let own = crc32fast::hash(&out);
    out.extend_from_slice(&own.to_le_bytes());
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::super::testing::applied;
    use super::*;

    #[test]
    fn a_patch_worked_out_by_hand() {
        // 6 bytes become 11: two as they are, "XY" new, "ab" out of the old file, "YabY"... copied on from 3.
        let mut bytes = b"BPS1\x86\x8b\x82me".to_vec();
        bytes.extend([0x84]); // as it is, 2
        bytes.extend([0x85, b'X', b'Y']); // new, 2
        bytes.extend([0x86, 0x80]); // old file from 0, 2
        bytes.extend([0x80 | (4 << 2) | 3, 0x86]); // new file from 3, 5: overlaps with itself
        let patch = parse(&bytes, (0, 0)).unwrap();
        assert_eq!(patch.metadata(), b"me");
        assert_eq!(applied(&patch, b"abcdef"), b"abXYabYabYa");
        assert_eq!(patch.touches(), [2..11]);
    }

    #[test]
    fn instructions_that_lead_outside() {
        let with = |rest: &[u8]| parse(&[b"BPS1\x84\x84\x80", rest].concat(), (0, 0)).err().map(|e| e.to_string());
        assert!(with(&[0x90]).is_some_and(|e| e.contains("past the end of the result")));
        assert!(with(&[0x8d, 1]).is_some_and(|e| e.contains("cut short")));
        assert!(with(&[0x8e, 0x82]).is_some_and(|e| e.contains("outside the file before")));
        assert!(with(&[0x8f, 0x80]).is_some_and(|e| e.contains("not there yet")));
        assert!(with(&[0x88]).is_some_and(|e| e.contains("end before the result")));
    }

    #[test]
    fn a_made_patch_is_as_small_as_it_should_be() {
        let old: Vec<u8> = (0..4000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
        let mut new = old.clone();
        new.splice(1000..1000, *b"brine");
        let made = make(&old, &new, b"").unwrap();
        // Two copies and five bytes between them.
        assert!(made.len() < 4 + 5 + 12 + 20, "{}", made.len());
    }
}
