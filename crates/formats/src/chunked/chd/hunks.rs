//! The hunks of an image: where each is, and what becomes of it.

use super::ID;
use super::codec::{Codec, Unpacker};
use super::header::{Header, Tag};
use super::map::{Check, Crc16, Hunk, Map};
use decanter_core::source::SourceRef;
use decanter_core::view::{Blocks, Cached};
use decanter_core::{Error, Result};

/// Packed bytes that are read at once.
const STRETCH: u64 = 512 << 10;

/// All hunks.
pub(super) struct Hunks {
    source: SourceRef,
    header: Header,
    codecs: Vec<Option<Codec>>,
    map: Map,
    parent: Option<SourceRef>,
}

impl Hunks {
    pub(super) fn new(source: SourceRef, header: Header, map: Map, parent: Option<SourceRef>) -> Self {
        let codecs = header.codecs.iter().map(|tag| Codec::of(*tag)).collect();
        Self { source, header, codecs, map, parent }
    }

    /// Bytes of the image.
    pub(super) fn image_len(&self) -> u64 {
        self.header.logical_len
    }

    /// Bytes of a hunk.
    pub(super) fn hunk_len(&self) -> usize {
        self.header.hunk_len as usize
    }

    /// How many there are.
    pub(super) fn count(&self) -> u64 {
        self.header.hunks()
    }

    fn damaged(&self, number: u64, at: u64, why: impl std::fmt::Display) -> Error {
        let from = number * u64::from(self.header.hunk_len);
        Error::malformed(ID, format!("hunk {number} (from byte {from:#x} of the image) {why}"), at)
    }

    /// Where a hunk's bytes stand in the file, if it has some, held against what there is.
    fn place(&self, number: u64, hunk: &Hunk) -> Result<Option<(u64, u64)>> {
        let (at, len) = match hunk {
            Hunk::Packed { at, len, .. } => (*at, u64::from(*len)),
            Hunk::Stored { at, .. } => (*at, self.header.hunk_len.into()),
            Hunk::Repeated(_) | Hunk::Same(_) | Hunk::Parent(_) | Hunk::Zeros => return Ok(None),
        };
        if at.checked_add(len).is_none_or(|end| end > self.source.len()) {
            return Err(self.damaged(number, at, format!("({len} bytes) reaches past the end of the file")));
        }
        // Nothing that is packed well is longer than what it becomes, but for what a codec adds.
        if len > u64::from(self.header.hunk_len) * 2 + 4096 {
            return Err(self.damaged(number, at, format!("takes {len} bytes, more than it can")));
        }
        Ok(Some((at, len)))
    }

    /// Unpacks hunk `number` into `out`, which has a hunk's length.
    pub(super) fn unpack(&self, number: u64, worker: &mut Unpacker, out: &mut [u8]) -> Result<()> {
        let (number, hunk) = self.first_of_its_kind(number)?;
        let mut packed = Vec::new();
        if let Some((at, len)) = self.place(number, &hunk)? {
            packed.resize(len as usize, 0);
            self.source.read_at(at, &mut packed)?;
        }
        self.unpack_from(number, &hunk, &packed, worker, out)
    }

    /// The hunk that `number` is the same as, or itself. The map refers to earlier ones only, so this ends.
    fn first_of_its_kind(&self, mut number: u64) -> Result<(u64, Hunk)> {
        let mut hunk = self.map.hunk(number)?;
        while let Hunk::Same(earlier) = hunk {
            number = earlier;
            hunk = self.map.hunk(number)?;
        }
        Ok((number, hunk))
    }

    /// Makes a hunk of `packed`, its bytes in the file, if it has some.
    fn unpack_from(
        &self,
        number: u64,
        hunk: &Hunk,
        packed: &[u8],
        worker: &mut Unpacker,
        out: &mut [u8],
    ) -> Result<()> {
        match *hunk {
            Hunk::Packed { codec, at, check, .. } => {
                let index = usize::from(codec);
                let Some(codec) = self.codecs.get(index).copied().flatten() else {
                    let tag = self.header.codecs.get(index).copied().unwrap_or(Tag::NONE);
                    return Err(Error::unsupported(ID, format!("the codec \"{tag}\" (hunk {number})")));
                };
                if !worker.unpack(codec, packed, out) {
                    return Err(self.damaged(number, at, "cannot be unpacked: it is damaged"));
                }
                self.check(number, at, check, out)
            }
            Hunk::Stored { at, check } => {
                out.copy_from_slice(packed);
                self.check(number, at, check, out)
            }
            Hunk::Repeated(bytes) => {
                out.chunks_mut(bytes.len()).for_each(|c| c.copy_from_slice(&bytes[..c.len()]));
                Ok(())
            }
            Hunk::Same(_) => self.unpack(number, worker, out),
            Hunk::Parent(from) => {
                let Some(parent) = &self.parent else {
                    return Err(self.damaged(number, 0, "stands in the parent, which is not there"));
                };
                let here = (out.len() as u64).min(parent.len().saturating_sub(from)) as usize;
                out[here..].fill(0);
                parent.read_at(from, &mut out[..here])
            }
            Hunk::Zeros => {
                out.fill(0);
                Ok(())
            }
        }
    }

    fn check(&self, number: u64, at: u64, check: Check, out: &[u8]) -> Result<()> {
        let holds = match check {
            Check::None => true,
            Check::Crc16(crc) => Crc16::of(out) == crc,
            Check::Crc32(crc) => crc32fast::hash(out) == crc,
        };
        if holds { Ok(()) } else { Err(self.damaged(number, at, "is damaged: its CRC does not hold")) }
    }

    /// Unpacks whole hunks from `first` on until `out` is full; those that stand together in the file in one read. What is in
    /// `kept` is taken from there, and what is unpacked is kept there; of hunks that are the same the first stands for all.
    pub(super) fn unpack_all(&self, first: u64, out: &mut [u8], kept: &Cached<impl Blocks>) -> Result<()> {
        let hunk_len = self.hunk_len();
        let (mut number, mut rest) = (first, out);
        let (mut worker, mut packed) = (Unpacker::new(), Vec::new());
        while !rest.is_empty() {
            let run = self.run(number, rest.len() / hunk_len)?;
            let is_kept = |index: &usize| kept.has(self.itself(number + *index as u64) as usize);
            packed.clear();
            if !(0..run.hunks.len()).all(|index| is_kept(&index)) {
                packed.resize((run.end - run.start) as usize, 0);
                self.source.read_at(run.start, &mut packed)?;
            }
            for (hunk, own) in run.hunks {
                let (now, later) = rest.split_at_mut(hunk_len);
                let is_simple = matches!(hunk, Hunk::Zeros | Hunk::Repeated(_));
                match packed.get(own) {
                    Some(packed) if is_simple => self.unpack_from(number, &hunk, packed, &mut worker, now)?,
                    Some(packed) if !matches!(hunk, Hunk::Same(_)) => {
                        kept.copy_or_make(number as usize, now, &mut |out| {
                            self.unpack_from(number, &hunk, packed, &mut worker, out)
                        })?;
                    }
                    // Another one of its kind, or one that was kept when it was looked for.
                    _ => {
                        let itself = self.itself(number);
                        kept.copy_or_make(itself as usize, now, &mut |out| self.unpack(itself, &mut worker, out))?;
                    }
                }
                rest = later;
                number += 1;
            }
        }
        Ok(())
    }

    /// The first of the hunks that are the same as this one; itself where that cannot be told, which reading it then tells.
    pub(super) fn itself(&self, number: u64) -> u64 {
        self.first_of_its_kind(number).map_or(number, |(first, _)| first)
    }

    /// As many hunks from `first` on, at most `most`, as stand one after the other in the file: at least one.
    fn run(&self, first: u64, most: usize) -> Result<Run> {
        let hunk = self.map.hunk(first)?;
        let Some((start, len)) = self.place(first, &hunk)? else {
            return Ok(Run { start: 0, end: 0, hunks: vec![(hunk, 0..0)] });
        };
        let mut run = Run { start, end: start + len, hunks: vec![(hunk, 0..len as usize)] };
        for number in (first + 1..).take(most.saturating_sub(1)) {
            if run.end - run.start >= STRETCH {
                break;
            }
            let hunk = self.map.hunk(number)?;
            let Some((_, len)) = self.place(number, &hunk)?.filter(|(at, _)| *at == run.end) else { break };
            let from = (run.end - run.start) as usize;
            run.hunks.push((hunk, from..from + len as usize));
            run.end += len;
        }
        Ok(run)
    }
}

/// Hunks that stand together: where in the file, and where each one's bytes are in that.
struct Run {
    start: u64,
    end: u64,
    hunks: Vec<(Hunk, std::ops::Range<usize>)>,
}
