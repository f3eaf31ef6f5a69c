//! UPS patches: differences of both files, so that they lead both ways. Layout: docs/formats/ups.md.

use super::{TRAILER, addressed, end, granted, joined, load, of_len, trailer, vli};
use crc32fast::Hasher;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::patch::{End, Patch};
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "ups";
const MAGIC: &[u8] = b"UPS1";
/// Bytes that are compared at once.
const BLOCK: usize = 64;

/// The format.
pub struct Ups;

impl Format for Ups {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "UPS patch"
    }

    fn role(&self) -> Role {
        Role::Patch
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["ups"]
    }

    fn reads(&self) -> &'static str {
        "checked against the files before and after; can be undone"
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
        opened.fact("records", patch.shared.hunks.len().to_string());
        opened.holds.patch = Some(Arc::new(patch));
        Ok(opened)
    }
}

struct UpsPatch {
    /// Lengths before and after.
    lens: (u64, u64),
    sums: (u32, u32),
    shared: Arc<Shared>,
}

/// What the views on files share with the patch.
struct Shared {
    /// Bytes of the whole patch without its trailer.
    bytes: Vec<u8>,
    /// Where each hunk stands in the files, and its bytes in the patch; in order.
    hunks: Vec<(u64, Range<usize>)>,
}

fn parse(bytes: &[u8], sums: (u32, u32)) -> Result<UpsPatch> {
    let mut at = MAGIC.len();
    let lens = (vli::read(ID, bytes, &mut at)?, vli::read(ID, bytes, &mut at)?);
    addressed("the file before", lens.0)?;
    addressed("the file after", lens.1)?;
    let most = lens.0.max(lens.1);
    let mut hunks = Vec::new();
    let mut place = 0u64;
    while at < bytes.len() {
        let start = at;
        let skip = vli::read(ID, bytes, &mut at)?;
        let len = memchr::memchr(0, &bytes[at..])
            .ok_or_else(|| Error::malformed(ID, "a hunk without an end", start as u64))?;
        place = place.checked_add(skip).filter(|p| *p <= most).ok_or_else(|| beyond(start))?;
        hunks.push((place, at..at + len));
        // The zero that ends a hunk stands for a byte that does not differ.
        place += len as u64 + 1;
        if place > most + 1 {
            return Err(beyond(start));
        }
        at += len + 1;
    }
    Ok(UpsPatch { lens, sums, shared: Arc::new(Shared { bytes: bytes.to_vec(), hunks }) })
}

fn beyond(at: usize) -> Error {
    Error::malformed(ID, "a hunk that lies past the end of both files", at as u64)
}

impl UpsPatch {
    /// Turns one file into the other, which has `len` bytes.
    fn turn(&self, from: &SourceRef, len: u64) -> Result<SourceRef> {
        Ok(Arc::new(Turned { base: of_len(from, len)?, shared: self.shared.clone() }))
    }
}

/// A file with the differences applied.
struct Turned {
    base: SourceRef,
    shared: Arc<Shared>,
}

impl Source for Turned {
    fn len(&self) -> u64 {
        self.base.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.base.read_at(offset, buf)?;
        let end = offset + buf.len() as u64;
        let Shared { bytes, hunks } = &*self.shared;
        let first = hunks.partition_point(|(at, range)| at + range.len() as u64 <= offset);
        for (at, range) in hunks[first..].iter().take_while(|(at, _)| *at < end) {
            let skip = offset.saturating_sub(*at) as usize;
            let into = at.saturating_sub(offset) as usize;
            let changes = &bytes[range.start + skip..range.end];
            buf[into..].iter_mut().zip(changes).for_each(|(slot, change)| *slot ^= change);
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.base.prefers_sequential()
    }
}

impl Patch for UpsPatch {
    fn source(&self) -> End {
        end(self.lens.0, self.sums.0)
    }

    fn target(&self) -> End {
        end(self.lens.1, self.sums.1)
    }

    fn can_undo(&self) -> bool {
        true
    }

    fn records(&self) -> u64 {
        self.shared.hunks.len() as u64
    }

    fn touches(&self) -> Vec<Range<u64>> {
        joined(self.shared.hunks.iter().map(|(at, range)| *at..at + range.len() as u64).collect())
    }

    fn apply(&self, source: &SourceRef) -> Result<SourceRef> {
        self.turn(source, self.lens.1)
    }

    fn undo(&self, target: &SourceRef) -> Result<SourceRef> {
        self.turn(target, self.lens.0)
    }
}

/// Writes differences of two files that are given piece by piece.
pub(super) struct Writer {
    out: Vec<u8>,
    /// How far both files were looked at, and up to where that is written.
    at: u64,
    done: u64,
    /// Whether a difference goes on.
    is_open: bool,
    sums: [Hasher; 2],
}

impl Writer {
    /// One for files of these lengths.
    pub(super) fn new(lens: [u64; 2]) -> Self {
        let mut out = MAGIC.to_vec();
        lens.into_iter().for_each(|len| vli::write(&mut out, len));
        Self { out, at: 0, done: 0, is_open: false, sums: [Hasher::new(), Hasher::new()] }
    }

    /// Bytes that are written so far.
    pub(super) fn len(&self) -> u64 {
        self.out.len() as u64
    }

    /// The next bytes of both; a file that has fewer has ended, and counts as zeros from there on.
    pub(super) fn feed(&mut self, old: &[u8], new: &[u8]) {
        self.sums[0].update(old);
        self.sums[1].update(new);
        let both = old.len().min(new.len());
        let change = |at: usize| old.get(at).unwrap_or(&0) ^ new.get(at).unwrap_or(&0);
        let (most, mut at) = (old.len().max(new.len()), 0);
        while at < most {
            // Equal stretches are passed over by whole blocks.
            if !self.is_open && at + BLOCK <= both && old[at..at + BLOCK] == new[at..at + BLOCK] {
                at += BLOCK;
                continue;
            }
            match (change(at), self.is_open) {
                (0, false) => {}
                (0, true) => self.end(at),
                (byte, _) => {
                    if !self.is_open {
                        vli::write(&mut self.out, self.at + at as u64 - self.done);
                        self.is_open = true;
                    }
                    self.out.push(byte);
                }
            }
            at += 1;
        }
        self.at += most as u64;
    }

    /// Ends a difference with the byte at `at` of the piece.
    fn end(&mut self, at: usize) {
        self.out.push(0);
        self.is_open = false;
        self.done = self.at + at as u64 + 1;
    }

    /// The patch, and the checksums of both files.
    pub(super) fn finish(mut self) -> (Vec<u8>, [u32; 2]) {
        if self.is_open {
            self.end(0);
        }
        let sums = self.sums.map(Hasher::finalize);
        for sum in sums {
            self.out.extend_from_slice(&sum.to_le_bytes());
        }
        let own = crc32fast::hash(&self.out);
        self.out.extend_from_slice(&own.to_le_bytes());
        (self.out, sums)
    }
}

/// Makes a patch.
///
/// # Errors
/// [`Error::Limit`] for files that are too large.
pub fn make(old: &[u8], new: &[u8]) -> Result<Vec<u8>> {
    granted("the old file", old.len() as u64)?;
    granted("the new file", new.len() as u64)?;
    let mut writer = Writer::new([old, new].map(|file| file.len() as u64));
    writer.feed(old, new);
    Ok(writer.finish().0)
}

#[cfg(test)]
mod tests {
    use super::super::testing::{applied, undone};
    use super::*;

    #[test]
    fn a_patch_worked_out_by_hand() {
        // Lengths 4 and 5; one hunk at 1: 'b' to 'X'; then, two bytes on, 'e' out of nothing.
        let mut expected = b"UPS1\x84\x85\x81".to_vec();
        expected.extend([b'b' ^ b'X', 0, 0x81, b'e', 0]);
        let made = make(b"abcd", b"aXcde").unwrap();
        assert_eq!(made[..made.len() - TRAILER], expected);
        let patch = parse(&expected, (0, 0)).unwrap();
        assert_eq!(applied(&patch, b"abcd"), b"aXcde");
        assert_eq!(undone(&patch, b"aXcde"), b"abcd");
        assert_eq!(patch.touches(), [1..2, 4..5]);
    }
}
