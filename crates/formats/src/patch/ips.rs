//! IPS patches: records of an offset and bytes. No checksums. Layout: docs/formats/ips.md.

use super::{MOST_FILE, joined, load, of_len};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::patch::{End, Patch};
use decanter_core::role::Role;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::view::Overlay;
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "ips";
const MAGIC: &[u8] = b"PATCH";
const END: &[u8] = b"EOF";
/// The offset that reads as the end mark: no record may have it.
const END_AS_OFFSET: usize = 0x45_4f46;
/// The most that an offset of three bytes and a record can reach; this is what is written.
pub const MOST: usize = 1 << 24;
/// Bytes of one record at most.
const MOST_RECORD: usize = 0xffff;
/// Runs of one value that are worth a record of their own within changed bytes, and alone.
const LEAST_RUN: usize = 13;
/// Bytes that did not change but are cheaper to write than a new record.
const BRIDGE: usize = 5;

/// The format.
pub struct Ips;

impl Format for Ips {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "IPS patch"
    }

    fn role(&self) -> Role {
        Role::Patch
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["ips"]
    }

    fn reads(&self) -> &'static str {
        "records, runs, truncation; has no checksums"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, _head: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(80))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let patch = parse(&load(&source)?)?;
        let mut opened = Opened::new(ID, self.name());
        opened.fact("records", patch.records.len().to_string());
        opened.fact("cuts to", patch.cut.map(|c| format!("{c} bytes")).unwrap_or_default());
        opened.holds.patch = Some(Arc::new(patch));
        Ok(opened)
    }
}

struct IpsPatch {
    records: Vec<Record>,
    cut: Option<usize>,
}

struct Record {
    at: usize,
    bytes: Content,
}

enum Content {
    Literal(Vec<u8>),
    Run(usize, u8),
}

impl Record {
    fn end(&self) -> usize {
        self.at
            + match &self.bytes {
                Content::Literal(bytes) => bytes.len(),
                Content::Run(len, _) => *len,
            }
    }
}

fn parse(bytes: &[u8]) -> Result<IpsPatch> {
    let cut_short = |at: usize| Error::malformed(ID, "the patch is cut short", at as u64);
    let mut at = MAGIC.len();
    let mut records = Vec::new();
    loop {
        let head = bytes.get(at..at + 3).ok_or_else(|| cut_short(at))?;
        let rest = bytes.len() - at - 3;
        // The mark ends the patch only at its end, with or without a length after it: some writers are careless.
        if head == END && (rest == 0 || rest == 3) {
            let cut = (rest == 3).then(|| number(&bytes[at + 3..]));
            return Ok(IpsPatch { records, cut });
        }
        let offset = number(head);
        let len = bytes.get(at + 3..at + 5).map(number).ok_or_else(|| cut_short(at + 3))?;
        at += 5;
        let content = if len == 0 {
            let run = bytes.get(at..at + 3).ok_or_else(|| cut_short(at))?;
            let count = number(&run[..2]);
            if count == 0 {
                return Err(Error::malformed(ID, "a run of no bytes", at as u64));
            }
            at += 3;
            Content::Run(count, run[2])
        } else {
            let literal = bytes.get(at..at + len).ok_or_else(|| cut_short(at))?.to_vec();
            at += len;
            Content::Literal(literal)
        };
        records.push(Record { at: offset, bytes: content });
    }
}

/// A number of two or three bytes, the high one first.
fn number(bytes: &[u8]) -> usize {
    bytes.iter().fold(0, |sum, &b| sum << 8 | usize::from(b))
}

impl Patch for IpsPatch {
    fn source(&self) -> End {
        End::default()
    }

    fn target(&self) -> End {
        End { len: self.cut.map(|c| c as u64), crc32: None }
    }

    fn records(&self) -> u64 {
        self.records.len() as u64
    }

    fn touches(&self) -> Vec<Range<u64>> {
        joined(self.records.iter().map(|r| r.at as u64..r.end() as u64).collect())
    }

    fn apply(&self, source: &SourceRef) -> Result<SourceRef> {
        // Records may overlap, and the later one counts: each stretch that is touched is made once.
        let mut stretches: Vec<(u64, Vec<u8>)> =
            self.touches().into_iter().map(|r| (r.start, vec![0; (r.end - r.start) as usize])).collect();
        for record in &self.records {
            let index = stretches.partition_point(|(start, _)| *start <= record.at as u64) - 1;
            let (start, bytes) = &mut stretches[index];
            let from = record.at - *start as usize;
            match &record.bytes {
                Content::Literal(literal) => bytes[from..from + literal.len()].copy_from_slice(literal),
                Content::Run(len, byte) => bytes[from..from + len].fill(*byte),
            }
        }
        let end = self.records.iter().map(Record::end).max().unwrap_or(0) as u64;
        let base = of_len(source, end.max(source.len()))?;
        let patches = stretches.into_iter().map(|(at, bytes)| (at, Arc::new(Bytes(bytes)) as SourceRef));
        let whole: SourceRef = Arc::new(Overlay::new(base, patches.collect())?);
        match self.cut {
            Some(cut) if (cut as u64) < whole.len() => of_len(&whole, cut as u64),
            _ => Ok(whole),
        }
    }

    fn undo(&self, _: &SourceRef) -> Result<SourceRef> {
        Err(Error::unsupported(ID, "leading back to the file before, of which the patch has no bytes,"))
    }
}

/// Makes a patch.
///
/// # Errors
/// [`Error::Limit`] for files that its offsets cannot reach, [`Error::Unsupported`] for the one change that it cannot
/// express.
pub fn make(old: &[u8], new: &[u8]) -> Result<Vec<u8>> {
    for (what, len) in [("the old file of an IPS patch", old.len()), ("the new file of an IPS patch", new.len())] {
        if len > MOST {
            return Err(Error::Limit { what, asked: len as u64, limit: MOST as u64 });
        }
    }
    debug_assert!((MOST as u64) < MOST_FILE);
    let mut out = MAGIC.to_vec();
    // Bytes past the old end are written even where they are zero, so that the length comes out.
    let differs = |at: usize| old.get(at) != Some(&new[at]);
    let mut at = 0;
    while let Some(start) = (at..new.len()).find(|&i| differs(i)) {
        let mut end = start + 1;
        let mut last = end;
        while end < new.len() && end - last <= BRIDGE {
            end += 1;
            if differs(end - 1) {
                last = end;
            }
        }
        write_changed(&mut out, new, start, last)?;
        at = last;
    }
    out.extend_from_slice(END);
    if new.len() < old.len() {
        out.extend_from_slice(&(new.len() as u32).to_be_bytes()[1..]);
    }
    Ok(out)
}

/// Records for a stretch of changed bytes: runs of one value by themselves.
fn write_changed(out: &mut Vec<u8>, new: &[u8], mut at: usize, end: usize) -> Result<()> {
    let run_at = |at: usize| new[at..end].iter().take_while(|&&b| b == new[at]).count();
    while at < end {
        let run = run_at(at);
        if run >= LEAST_RUN || (run == end - at && run > 3) {
            let run = run.min(MOST_RECORD);
            // A run that begins where the end mark would be read begins one byte earlier, as a literal.
            if at == END_AS_OFFSET {
                literal(out, new, at, at + 1)?;
                at += 1;
                continue;
            }
            head(out, at, 0);
            out.extend_from_slice(&(run as u16).to_be_bytes());
            out.push(new[at]);
            at += run;
            continue;
        }
        let mut stop = at + run;
        while stop < end && stop - at < MOST_RECORD {
            let run = run_at(stop);
            if run >= LEAST_RUN {
                break;
            }
            stop += run;
        }
        let stop = stop.min(at + MOST_RECORD - 1);
        literal(out, new, at, stop)?;
        at = stop;
    }
    Ok(())
}

/// One record of bytes as they are; one that would begin at the end mark takes the byte before it along.
fn literal(out: &mut Vec<u8>, new: &[u8], at: usize, end: usize) -> Result<()> {
    let start = if at == END_AS_OFFSET { at - 1 } else { at };
    head(out, start, end - start);
    out.extend_from_slice(&new[start..end]);
    Ok(())
}

fn head(out: &mut Vec<u8>, at: usize, len: usize) {
    out.extend_from_slice(&(at as u32).to_be_bytes()[1..]);
    out.extend_from_slice(&(len as u16).to_be_bytes());
}

#[cfg(test)]
mod tests {
    use super::super::testing::applied;
    use super::*;

    #[test]
    fn a_patch_worked_out_by_hand() {
        // At 2 the bytes "xy", at 5 four times 'z', and cut to 8 bytes.
        let bytes = b"PATCH\0\0\x02\0\x02xy\0\0\x05\0\0\0\x04zEOF\0\0\x08";
        let patch = parse(bytes).unwrap();
        assert_eq!(applied(&patch, b"abcdefghijkl"), b"abxyezzz");
        assert_eq!(patch.touches(), [2..4, 5..9]);
        assert_eq!(make(b"abcd", b"abXYZ").unwrap(), b"PATCH\0\0\x02\0\x03XYZEOF");
        assert_eq!(make(b"abcd", b"ab").unwrap(), b"PATCHEOF\0\0\x02");
    }

    #[test]
    fn no_record_reads_as_the_end() {
        for run in [1, 40] {
            let old = vec![0; END_AS_OFFSET + 100];
            let mut new = old.clone();
            new[END_AS_OFFSET..END_AS_OFFSET + run].fill(9);
            let patch = make(&old, &new).unwrap();
            assert!(!patch[5..].starts_with(END), "{run}");
            assert!(applied(&parse(&patch).unwrap(), &old) == new, "{run}");
        }
    }

    #[test]
    fn what_offsets_cannot_reach_is_refused() {
        let large = vec![0; MOST + 1];
        assert!(matches!(make(&large, &[]), Err(Error::Limit { .. })));
        assert!(matches!(make(&[], &large), Err(Error::Limit { .. })));
    }
}
