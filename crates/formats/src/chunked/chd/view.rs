//! The image inside, read at random: hunk by hunk, those that stand together in one read.

use super::ID;
use super::codec::{Codec, Unpacker};
use super::header::Header;
use super::map::{Check, Crc16, Hunk, Map};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Packed bytes that are read at once.
const STRETCH: u64 = 512 << 10;
/// Bytes of unpacked hunks that are kept for small reads.
const MOST_KEPT: usize = 1 << 20;
/// Damaged hunks that are named.
const MOST_NAMED: usize = 20;

/// The image inside.
pub(super) struct View {
    source: SourceRef,
    header: Header,
    codecs: Vec<Option<Codec>>,
    map: Map,
    parent: Option<SourceRef>,
    kept: Mutex<VecDeque<(u64, Arc<Vec<u8>>)>>,
}

impl View {
    pub(super) fn new(source: SourceRef, header: Header, map: Map, parent: Option<SourceRef>) -> Self {
        let codecs = header.codecs.iter().map(|tag| Codec::of(*tag)).collect();
        Self { source, header, codecs, map, parent, kept: Mutex::default() }
    }

    fn damaged(&self, number: u64, at: u64, why: impl std::fmt::Display) -> Error {
        let from = number * u64::from(self.header.hunk_len);
        Error::malformed(ID, format!("hunk {number} (from byte {from:#x} of the image) {why}"), at)
    }

    /// Bytes of this hunk that belong to the image.
    fn len_of(&self, number: u64) -> u64 {
        let hunk = u64::from(self.header.hunk_len);
        hunk.min(self.header.logical_len - number * hunk)
    }

    /// Where a hunk's bytes stand in the file.
    fn place(&self, hunk: &Hunk) -> Option<(u64, u64)> {
        match hunk {
            Hunk::Packed { at, len, .. } => Some((*at, u64::from(*len))),
            Hunk::Stored { at, .. } => Some((*at, self.header.hunk_len.into())),
            _ => None,
        }
    }

    /// Unpacks hunk `number` into `out`, which has a hunk's length. `packed` are its bytes in the file, if it has some.
    fn unpack(&self, number: u64, hunk: &Hunk, packed: &[u8], worker: &mut Unpacker, out: &mut [u8]) -> Result<()> {
        let (at, check) = match *hunk {
            Hunk::Packed { codec, at, check, .. } => {
                let index = usize::from(codec);
                let Some(codec) = self.codecs.get(index).copied().flatten() else {
                    let tag = self.header.codecs.get(index).copied().unwrap_or(super::header::Tag::NONE);
                    return Err(Error::unsupported(ID, format!("the codec \"{tag}\" (hunk {number})")));
                };
                if !worker.unpack(codec, packed, out) {
                    return Err(self.damaged(number, at, "cannot be unpacked: it is damaged"));
                }
                (at, check)
            }
            Hunk::Stored { at, check } => {
                out.copy_from_slice(packed);
                (at, check)
            }
            Hunk::Repeated(bytes) => {
                out.chunks_mut(8).for_each(|c| c.copy_from_slice(&bytes[..c.len()]));
                return Ok(());
            }
            Hunk::Same(target) => {
                let hunk = self.map.hunk(target)?;
                // Whoever wrote it pointed to the first of its kind: chains are no longer than files are deep.
                if matches!(hunk, Hunk::Same(_)) {
                    let mut last = hunk;
                    let mut number = target;
                    while let Hunk::Same(next) = last {
                        number = next;
                        last = self.map.hunk(next)?;
                    }
                    return self.unpack_one(number, &last, worker, out);
                }
                return self.unpack_one(target, &hunk, worker, out);
            }
            Hunk::Parent(from) => {
                let Some(parent) = &self.parent else {
                    return Err(self.damaged(number, 0, "stands in the parent, which is not there"));
                };
                let here = (out.len() as u64).min(parent.len().saturating_sub(from)) as usize;
                out[here..].fill(0);
                return parent.read_at(from, &mut out[..here]);
            }
            Hunk::Zeros => {
                out.fill(0);
                return Ok(());
            }
        };
        let holds = match check {
            Check::None => true,
            Check::Crc16(crc) => Crc16::of(out) == crc,
            Check::Crc32(crc) => crc32fast::hash(out) == crc,
        };
        if holds { Ok(()) } else { Err(self.damaged(number, at, "is damaged: its CRC does not hold")) }
    }

    fn unpack_one(&self, number: u64, hunk: &Hunk, worker: &mut Unpacker, out: &mut [u8]) -> Result<()> {
        let packed = match self.place(hunk) {
            Some((at, len)) => {
                self.check_place(number, at, len)?;
                let mut packed = vec![0; len as usize];
                self.source.read_at(at, &mut packed)?;
                packed
            }
            None => Vec::new(),
        };
        self.unpack(number, hunk, &packed, worker, out)
    }

    fn check_place(&self, number: u64, at: u64, len: u64) -> Result<()> {
        if at.checked_add(len).is_none_or(|end| end > self.source.len()) {
            return Err(self.damaged(number, at, format!("({len} bytes) reaches past the end of the file")));
        }
        // Nothing that is packed well is longer than what it becomes, but for what a codec adds.
        if len > u64::from(self.header.hunk_len) * 2 + 4096 {
            return Err(self.damaged(number, at, format!("takes {len} bytes, more than it can")));
        }
        Ok(())
    }

    /// A whole hunk, for reads of a part of it.
    fn kept(&self, number: u64, worker: &mut Unpacker) -> Result<Arc<Vec<u8>>> {
        let find = |kept: &VecDeque<(u64, Arc<Vec<u8>>)>| {
            kept.iter().find(|(n, _)| *n == number).map(|(_, bytes)| bytes.clone())
        };
        if let Some(bytes) = find(&self.kept.lock().unwrap_or_else(PoisonError::into_inner)) {
            return Ok(bytes);
        }
        let mut bytes = vec![0; self.header.hunk_len as usize];
        self.unpack_one(number, &self.map.hunk(number)?, worker, &mut bytes)?;
        let bytes = Arc::new(bytes);
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        while kept.len() > 1 && (kept.len() + 1) * bytes.len() > MOST_KEPT {
            kept.pop_front();
        }
        kept.push_back((number, bytes.clone()));
        Ok(bytes)
    }

    /// Unpacks whole hunks from `first` on until `out` is full.
    fn whole(&self, first: u64, out: &mut [u8], worker: &mut Unpacker) -> Result<()> {
        let hunk_len = self.header.hunk_len as usize;
        let mut number = first;
        let mut packed = Vec::new();
        let mut rest = out;
        while !rest.is_empty() {
            // As many hunks as stand one after the other in the file.
            let mut run = vec![self.map.hunk(number)?];
            let mut range = self.place(&run[0]).map(|(at, len)| at..at + len);
            if let (Some(range), Some((at, len))) = (&mut range, self.place(&run[0])) {
                self.check_place(number, at, len)?;
                while (run.len() + 1) * hunk_len <= rest.len() && range.end - range.start < STRETCH {
                    let next = number + run.len() as u64;
                    let hunk = self.map.hunk(next)?;
                    let Some((at, len)) = self.place(&hunk).filter(|(at, _)| *at == range.end) else { break };
                    self.check_place(next, at, len)?;
                    range.end = at + len;
                    run.push(hunk);
                }
                packed.resize((range.end - range.start) as usize, 0);
                self.source.read_at(range.start, &mut packed)?;
            }
            let base = range.map_or(0, |r| r.start);
            for hunk in run {
                let (now, later) = rest.split_at_mut(hunk_len);
                rest = later;
                let own = self.place(&hunk).map_or(0..0, |(at, len)| (at - base) as usize..(at + len - base) as usize);
                self.unpack(number, &hunk, &packed[own], worker, now)?;
                number += 1;
            }
        }
        Ok(())
    }

    /// Tries every hunk, on all processors: the damaged ones, in words.
    ///
    /// # Errors
    /// [`Error::Cancelled`].
    pub(super) fn damaged_hunks(&self, watch: &dyn Watch) -> Result<Vec<String>> {
        let (next, found) = (AtomicU64::new(0), Mutex::new(Vec::new()));
        let count = self.header.hunks();
        let work = || -> Result<()> {
            let (mut worker, mut out) = (Unpacker::new(), vec![0; self.header.hunk_len as usize]);
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                if number >= count {
                    return Ok(());
                }
                if number.is_multiple_of(256) {
                    watch::check(watch)?;
                }
                let done = self.map.hunk(number).and_then(|h| self.unpack_one(number, &h, &mut worker, &mut out));
                if let Err(e) = done {
                    found.lock().unwrap_or_else(PoisonError::into_inner).push((number, e.to_string()));
                }
            }
        };
        std::thread::scope(|scope| {
            let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
            let others: Vec<_> = (1..threads).map(|_| scope.spawn(work)).collect();
            let own = work();
            others.into_iter().filter_map(|t| t.join().ok()).chain([own]).collect::<Result<Vec<()>>>()
        })?;
        let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
        found.sort();
        let more = found.len().saturating_sub(MOST_NAMED);
        let mut words: Vec<String> = found.into_iter().take(MOST_NAMED).map(|(_, why)| why).collect();
        if more > 0 {
            words.push(format!("and {more} more hunks"));
        }
        Ok(words)
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.header.logical_len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let hunk_len = u64::from(self.header.hunk_len);
        let mut worker = Unpacker::new();
        while !buf.is_empty() {
            let (number, into) = (offset / hunk_len, offset % hunk_len);
            let count = if into == 0 { buf.len() as u64 / hunk_len } else { 0 };
            let take = if count > 0 {
                let take = (count * hunk_len) as usize;
                self.whole(number, &mut buf[..take], &mut worker)?;
                take
            } else {
                let take = ((self.len_of(number) - into) as usize).min(buf.len());
                let from = into as usize;
                buf[..take].copy_from_slice(&self.kept(number, &mut worker)?[from..from + take]);
                take
            };
            offset += take as u64;
            buf = &mut buf[take..];
        }
        Ok(())
    }
}
