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

/// Writes instructions, each with its place told from where the last one of its kind ended.
pub(super) struct Writer {
    out: Vec<u8>,
    /// Bytes of the file after so far.
    made: u64,
    /// Where the last copies ended.
    source: u64,
    target: u64,
    /// A copy out of the file before that may go on: from where, and how much.
    open: Option<(u64, u64)>,
}

impl Writer {
    /// One for a patch between files of these lengths.
    pub(super) fn new(lens: [u64; 2], metadata: &[u8]) -> Self {
        let mut out = MAGIC.to_vec();
        for number in [lens[0], lens[1], metadata.len() as u64] {
            vli::write(&mut out, number);
        }
        out.extend_from_slice(metadata);
        Self { out, made: 0, source: 0, target: 0, open: None }
    }

    /// Bytes that are written so far.
    pub(super) fn len(&self) -> u64 {
        self.out.len() as u64
    }

    /// Bytes of the file after that the instructions make so far, what may go on included.
    fn made_so_far(&self) -> u64 {
        self.made + self.open.map_or(0, |(_, len)| len)
    }

    fn word(&mut self, kind: u64, len: u64) {
        vli::write(&mut self.out, (len - 1) << 2 | kind);
        self.made += len;
    }

    fn place(&mut self, last: u64, from: u64) {
        let (distance, sign) = if from < last { (last - from, 1) } else { (from - last, 0) };
        vli::write(&mut self.out, distance << 1 | sign);
    }

    /// What was copied last is as long as it gets.
    fn close(&mut self) {
        let Some((from, len)) = self.open.take() else { return };
        if from == self.made {
            self.word(0, len);
        } else {
            self.word(2, len);
            self.place(self.source, from);
            self.source = from + len;
        }
    }

    /// Bytes that the patch carries.
    pub(super) fn literal(&mut self, bytes: &[u8]) {
        self.close();
        if !bytes.is_empty() {
            self.word(1, bytes.len() as u64);
            self.out.extend_from_slice(bytes);
        }
    }

    /// Bytes of the file before; what goes on with the last copy is one with it.
    pub(super) fn source(&mut self, from: u64, len: u64) {
        match &mut self.open {
            Some((start, so_far)) if *start + *so_far == from => *so_far += len,
            _ => {
                self.close();
                self.open = Some((from, len)).filter(|_| len > 0);
            }
        }
    }

    /// Bytes of the file after that are there already.
    fn target(&mut self, from: u64, len: u64) {
        self.close();
        self.word(3, len);
        self.place(self.target, from);
        self.target = from + len;
    }

    /// The patch, with the checksums of both files and of itself.
    pub(super) fn finish(mut self, sums: [u32; 2]) -> Vec<u8> {
        self.close();
        for sum in sums {
            self.out.extend_from_slice(&sum.to_le_bytes());
        }
        let own = crc32fast::hash(&self.out);
        self.out.extend_from_slice(&own.to_le_bytes());
        self.out
    }
}

/// Makes a patch: what of the new file is in either file already is copied.
///
/// # Errors
/// [`Error::Limit`] for files that are too large.
pub fn make(old: &[u8], new: &[u8], metadata: &[u8]) -> Result<Vec<u8>> {
    granted("the old file", old.len() as u64)?;
    granted("the new file", new.len() as u64)?;
    let mut writer = Writer::new([old, new].map(|file| file.len() as u64), metadata);
    delta::steps(old, new, &mut |step| match step {
        Step::Same(len) => writer.source(writer.made_so_far(), len as u64),
        Step::Literal(range) => writer.literal(&new[range]),
        Step::Source(from, len) => writer.source(from as u64, len as u64),
        Step::Target(from, len) => writer.target(from as u64, len as u64),
    })?;
    Ok(writer.finish([old, new].map(crc32fast::hash)))
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
    fn copies_that_go_on_are_one_and_tell_where_they_are_from() {
        let mut writer = Writer::new([100, 167], b"");
        writer.source(0, 40);
        writer.source(40, 60);
        writer.literal(b"Fogbell");
        writer.source(10, 60);
        let made = writer.finish([1, 2]);
        // Lengths 100 and 167 = 39 + 128; same, 100; new, seven; out of the old file 60 (59 << 2 | 2 = 110 + 128) from 10 on from 0.
        let body = b"BPS1\xe4\x27\x80\x80\x0c\x82\x99Fogbell\x6e\x80\x94";
        assert_eq!(made[..made.len() - 4], [&body[..], &[1, 0, 0, 0, 2, 0, 0, 0]].concat());
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
