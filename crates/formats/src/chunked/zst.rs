//! Seekable zstd: independent frames (RFC 8878), and at the end a table of their lengths in a skippable frame.
//!
//! Before the table stands a skippable frame of our own with a record: digests, the name, what it is. Plain zstd skips
//! both and restores the exact bytes. Files without a table are read by the headers of their frames. Layout:
//! docs/formats/zst.md.

use crate::raw::{read_at, split};
use crate::stream::{self, Unpack};
use decanter_core::blueprint::{Blueprint, PackWorker, Packer};
use decanter_core::digest::{Algorithm, hex};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Reader, Source, SourceRef, check_range, read_array, read_vec};
use decanter_core::tell::count;
use decanter_core::view::{Blocks, Cached};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use serde::{Deserialize, Serialize};
use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::IntoBytes;
use zstd::bulk::Compressor;
use zstd::zstd_safe::CParameter;

const ID: &str = "zst";
/// Magic of a frame (RFC 8878, 3.1.1).
const FRAME: u32 = 0xfd2f_b528;
/// Magic of skippable frames, but for the lowest four bits (RFC 8878, 3.1.2).
const SKIPPABLE: u32 = 0x184d_2a50;
/// Magic of the skippable frame with the table (seekable format, 0.1.0).
const TABLE: u32 = 0x184d_2a5e;
/// Magic of the skippable frame with our record.
const RECORD: u32 = 0x184d_2a5d;
/// Last four bytes of a seekable file.
const SEEKABLE: u32 = 0x8f92_eab1;
/// Bytes of the table's footer.
const FOOTER: u64 = 9;
/// Frames of one file.
const MOST_FRAMES: u64 = 1 << 24;
/// Largest frame that is unpacked as a whole; larger ones are read as a stream.
const MOST_FRAME: u64 = 64 << 20;
/// Bytes of frames that are kept in memory, about, and frames at least: two keep two readers busy.
const KEPT: u64 = 24 << 20;
const LEAST_KEPT: u64 = 2;
const MOST_KEPT: u64 = 4;
/// Bytes of a record.
const MOST_RECORD: u64 = 64 << 10;
/// Effort, if nothing else is asked for.
pub const LEVEL: i32 = 12;

mod raw {
    use crate::raw::layouts;
    use zerocopy::byteorder::{LE, U32};

    layouts! {
        /// What a skippable frame begins with.
        Frame: 8 {
            magic: U32<LE>,
            len: U32<LE>,
        }
        /// Where a frame's bytes end, and what they become; a checksum may follow.
        Place: 8 {
            packed: U32<LE>,
            len: U32<LE>,
        }
        /// The last bytes of a seekable file.
        Footer: 9 {
            frames: U32<LE>,
            flags: u8,
            magic: U32<LE>,
        }
    }
}

/// The format.
pub struct SeekableZstd;

impl Format for SeekableZstd {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "zstd compressed image"
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["zst"]
    }

    fn reads(&self) -> &'static str {
        "seekable files at random, others frame by frame"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"\x28\xb5\x2f\xfd")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 8).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let found = match read_table(source.as_ref())? {
            Some(found) => Some(found),
            None => walk_frames(source.as_ref())?,
        };
        let Some((frames, end)) = found else {
            let inside = stream::measured(ID, &source, false, UNPACK, opener.watch())?;
            opened.fact("compressed", format!("{}, as one stream", super::ratio(source.len(), inside.len())));
            super::container(&mut opened, inside, None, opener);
            return Ok(opened);
        };
        let record = read_record(source.as_ref(), end)?;
        let len = frames.last().map_or(0, |f| f.start + f.len);
        let largest = frames.iter().map(|f| f.len).max().unwrap_or(0);
        let ratio = super::ratio(source.len(), len);
        let view: SourceRef = if largest <= MOST_FRAME {
            opened.fact("compressed", format!("{ratio}, in {}", count(frames.len() as u64, "frame", "frames")));
            let kept = (KEPT / largest.max(1)).clamp(LEAST_KEPT, MOST_KEPT);
            Arc::new(Cached::new(Frames { source, frames, len }, kept as usize))
        } else {
            opened.fact("compressed", format!("{ratio}, as one stream"));
            opened.notice("it can only be read from its beginning on; \"decanter convert --to zst\" makes one that is read at random");
            Arc::new(Stream { source, len, state: Mutex::default() })
        };
        if let Some(record) = &record {
            opened.fact("recorded", record.what.clone());
            for (name, value) in &record.digests {
                opened.told.parameters.push((name.clone(), value.clone()));
            }
        }
        super::container(&mut opened, view, record.map(|r| r.name), opener);
        Ok(opened)
    }
}

/// A frame: where it is packed, and what it unpacks to.
#[derive(Debug, Clone, Copy)]
struct FramePlace {
    at: u64,
    packed: u64,
    start: u64,
    len: u64,
}

/// What is kept with the bytes.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Record {
    /// Layout of the record: 1.
    pub version: u32,
    /// Name of the file that was packed.
    pub name: String,
    /// What it is, in a few words.
    pub what: String,
    /// Its digests, by algorithm.
    pub digests: Vec<(String, String)>,
}

/// The frames by the table at the end, and where they end; `None` if there is no table.
fn read_table(source: &dyn Source) -> Result<Option<(Vec<FramePlace>, u64)>> {
    if source.len() < FOOTER + 8 {
        return Ok(None);
    }
    let footer_at = source.len() - FOOTER;
    let footer: raw::Footer = read_at(source, footer_at)?;
    if footer.magic.get() != SEEKABLE {
        return Ok(None);
    }
    let count = u64::from(footer.frames.get());
    // With a checksum of each frame, or without.
    let entry = if footer.flags & 0x80 != 0 { 12 } else { 8 };
    let table = count * entry + FOOTER;
    let Some(head) = source.len().checked_sub(table + 8).filter(|_| count <= MOST_FRAMES) else {
        return Err(Error::malformed(ID, format!("a table of {count} frames does not fit the file"), footer_at));
    };
    let frame: raw::Frame = read_at(source, head)?;
    if frame.magic.get() != TABLE || frame.len.get() != table as u32 {
        return Err(Error::malformed(ID, "the seek table's frame does not begin where its footer says", head));
    }
    let bytes = read_vec(source, head + 8, count * entry, "a seek table", MOST_FRAMES * 12)?;
    let (mut frames, mut at, mut start) = (Vec::with_capacity(count as usize), 0u64, 0u64);
    for (index, raw) in bytes.chunks_exact(entry as usize).enumerate() {
        let (place, _) = split::<raw::Place>(ID, "an entry of the seek table", raw, head)?;
        let (packed, len) = (u64::from(place.packed.get()), u64::from(place.len.get()));
        if at + packed > head {
            let text = format!("frame {index} of the seek table reaches past the frames");
            return Err(Error::malformed(ID, text, head + 8 + index as u64 * entry));
        }
        if len > 0 {
            frames.push(FramePlace { at, packed, start, len });
        }
        at += packed;
        start += len;
    }
    Ok(Some((frames, at)))
}

/// How a stream is unpacked of which some frame does not say how long its content is.
const UNPACK: Unpack = |reader| {
    let mut decoder = Decoder::new(reader)?;
    decoder.window_log_max(27)?;
    Ok(Box::new(decoder))
};

/// The frames by their own headers (RFC 8878, 3.1.1), and where they end; `None` if one does not say its length, as a pipe
/// makes it.
fn walk_frames(source: &dyn Source) -> Result<Option<(Vec<FramePlace>, u64)>> {
    let (mut frames, mut at, mut start, mut end) = (Vec::new(), 0u64, 0u64, 0u64);
    while at + 8 <= source.len() {
        let frame: raw::Frame = read_at(source, at)?;
        if frame.magic.get() & 0xffff_fff0 == SKIPPABLE {
            check_range(source.len(), at, 8 + u64::from(frame.len.get()))?;
            at += 8 + u64::from(frame.len.get());
            continue;
        }
        if frame.magic.get() != FRAME {
            return Err(Error::malformed(ID, "neither a frame nor a skippable frame", at));
        }
        // Of a frame with content, flags follow the magic, not a length.
        let flags = frame.len.as_bytes()[0];
        let single = flags & 0x20 != 0;
        let dictionary = [0, 1, 2, 4][usize::from(flags & 3)];
        if dictionary > 0 {
            return Err(Error::unsupported(ID, "a frame with a dictionary"));
        }
        let size_len = match (flags >> 6, single) {
            (0, false) => 0,
            (0, true) => 1,
            (code, _) => 1u64 << code,
        };
        let size_at = at + 5 + u64::from(!single);
        let len = match size_len {
            0 => return Ok(None),
            n => {
                let mut raw = [0; 8];
                source.read_at(size_at, &mut raw[..n as usize])?;
                u64::from_le_bytes(raw) + if n == 2 { 256 } else { 0 }
            }
        };
        let mut block = size_at + size_len;
        loop {
            let raw: [u8; 3] = read_array(source, block)?;
            let header = u32::from_le_bytes([raw[0], raw[1], raw[2], 0]);
            let size = if header >> 1 & 3 == 1 { 1 } else { u64::from(header >> 3) };
            block += 3 + size;
            if header & 1 != 0 {
                break;
            }
        }
        block += if flags & 4 != 0 { 4 } else { 0 };
        check_range(source.len(), at, block - at)?;
        if frames.len() as u64 >= MOST_FRAMES {
            return Err(Error::Limit { what: "frames", asked: frames.len() as u64 + 1, limit: MOST_FRAMES });
        }
        if len > 0 {
            frames.push(FramePlace { at, packed: block - at, start, len });
        }
        start = start.checked_add(len).ok_or_else(|| Error::malformed(ID, "the frames' sizes overflow", size_at))?;
        (at, end) = (block, block);
    }
    match at == source.len() {
        true => Ok(Some((frames, end))),
        false => Err(Error::malformed(ID, "something follows the last frame that is none", at)),
    }
}

/// Our record, if it stands behind the frames.
fn read_record(source: &dyn Source, end: u64) -> Result<Option<Record>> {
    if end + 8 > source.len() {
        return Ok(None);
    }
    let frame: raw::Frame = read_at(source, end)?;
    let len = u64::from(frame.len.get());
    if frame.magic.get() != RECORD || len > MOST_RECORD || end + 8 + len > source.len() {
        return Ok(None);
    }
    let bytes = read_vec(source, end + 8, len, "a record", MOST_RECORD)?;
    Ok(serde_json::from_slice(&bytes).ok())
}

struct Frames {
    source: SourceRef,
    frames: Vec<FramePlace>,
    len: u64,
}

impl Blocks for Frames {
    fn len(&self) -> u64 {
        self.len
    }

    fn count(&self) -> usize {
        self.frames.len()
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let index = self.frames.partition_point(|f| f.start + f.len <= offset);
        (index, self.frames.get(index).map_or(offset, |f| f.start))
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let frame = &self.frames[index];
        let packed = read_vec(self.source.as_ref(), frame.at, frame.packed, "a frame", u64::MAX)?;
        let damaged = |why: &dyn std::fmt::Display| {
            let (first, last) = (frame.start / 2048, (frame.start + frame.len - 1) / 2048);
            Error::malformed(ID, format!("frame {index} (sectors {first} to {last}) is damaged ({why})"), frame.at)
        };
        // A frame cannot become more than its blocks allow: 128 KiB for each, of at least four bytes.
        if frame.len > (frame.packed / 4 + 1) * (128 << 10) {
            return Err(damaged(&"it is too short for its size"));
        }
        let bytes = zstd::bulk::decompress(&packed, frame.len as usize).map_err(|e| damaged(&e))?;
        if bytes.len() as u64 != frame.len {
            return Err(damaged(&format!("{} bytes instead of {}", bytes.len(), frame.len)));
        }
        Ok(bytes)
    }
}

/// Frames too large to be kept: a decoder that goes on, or starts anew.
struct Stream {
    source: SourceRef,
    len: u64,
    state: Mutex<Going>,
}

/// How far a stream has come: the decoder, and what it has met once it failed.
#[derive(Default)]
struct Going {
    decoder: Option<(u64, Decoder)>,
    /// The end, with its checksum, was seen.
    is_whole: bool,
    /// What is known to be damaged stays so, whoever reads it.
    failed: Option<String>,
}

type Decoder = zstd::stream::read::Decoder<'static, std::io::BufReader<Reader>>;

impl Source for Stream {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(why) = &state.failed {
            return Err(Error::malformed(ID, why.clone(), 0));
        }
        let mut run = || -> std::io::Result<()> {
            let (mut at, mut decoder) = match state.decoder.take().filter(|(at, _)| *at <= offset) {
                Some(going) => going,
                None => {
                    let mut decoder = Decoder::new(Reader::new(self.source.clone(), 0))?;
                    decoder.window_log_max(30)?;
                    (0, decoder)
                }
            };
            let mut skip = vec![0; 64 << 10];
            while at < offset {
                let len = skip.len().min((offset - at) as usize);
                decoder.read_exact(&mut skip[..len])?;
                at += len as u64;
            }
            decoder.read_exact(buf)?;
            at += buf.len() as u64;
            // The checksum stands behind the last byte: whoever has read that has to have asked for it.
            if at == self.len && !state.is_whole {
                if decoder.read(&mut [0])? > 0 {
                    return Err(std::io::Error::other("it is longer than its frames say"));
                }
                state.is_whole = true;
            }
            state.decoder = Some((at, decoder));
            Ok(())
        };
        run().map_err(|e| match e.downcast::<Error>() {
            Ok(own) => own,
            Err(e) => {
                let why = format!("the stream is damaged near byte {offset} of its content ({e})");
                state.failed = Some(why.clone());
                Error::malformed(ID, why, 0)
            }
        })
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        let mut piece = vec![0; 1 << 20];
        let mut at = {
            let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
            if state.is_whole { self.len } else { state.decoder.as_ref().map_or(0, |(at, _)| *at) }
        };
        loop {
            watch::check(watch)?;
            let len = (piece.len() as u64).min(self.len - at) as usize;
            self.read_at(at, &mut piece[..len])?;
            at += len as u64;
            if at >= self.len {
                return Ok(());
            }
        }
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

/// How a new file is packed.
#[derive(Debug, Clone, Copy)]
pub struct Choice {
    /// Effort, 1 to 22.
    pub level: i32,
    /// Look for repetitions over long distances: larger frames, a little slower.
    pub long: bool,
}

impl Choice {
    /// Bytes of a frame: what has to be unpacked to read any byte of it.
    fn frame_len(self) -> usize {
        match (self.long, self.level) {
            (true, _) => 16 << 20,
            (false, ..=9) => 4 << 20,
            (false, _) => 12 << 20,
        }
    }
}

/// A new file with the bytes of `source`, recorded under `name` with these `digests`.
///
/// # Errors
/// [`Error::Usage`] for a name that makes the record too long.
pub fn compose(source: SourceRef, choice: Choice, name: &str, what: &str, digests: &[Algorithm]) -> Result<Blueprint> {
    let frame_len = choice.frame_len() as u64;
    let (len, count) = (source.len(), source.len().div_ceil(frame_len));
    let record = Record { version: 1, name: name.to_owned(), what: what.to_owned(), digests: Vec::new() };
    let zeros = |a: &Algorithm| (a.id().to_owned(), "0".repeat(decanter_core::digest::of_bytes(*a, &[]).hex().len()));
    let blank = frame_of(&Record { digests: digests.iter().map(zeros).collect(), ..record.clone() })?;
    let mut blueprint = Blueprint::new();
    let body = blueprint.packed(source, Arc::new(FramePacker { choice }));
    digests.iter().for_each(|&a| blueprint.measure(body, a));
    let kept = blueprint.late(blank.len() as u64);
    let wanted = digests.to_vec();
    blueprint.compute(
        kept,
        &[body],
        Arc::new(move |known| {
            let found = |a: &Algorithm| Ok((a.id().to_owned(), hex(known.digest(body, *a)?)));
            frame_of(&Record { digests: wanted.iter().map(found).collect::<Result<_>>()?, ..record.clone() })
        }),
    )?;
    let table_len = count * 8 + FOOTER;
    let table = blueprint.late(8 + table_len);
    blueprint.compute(
        table,
        &[body],
        Arc::new(move |known| {
            let mut bytes = TABLE.to_le_bytes().to_vec();
            bytes.extend((table_len as u32).to_le_bytes());
            for (index, packed) in known.marks(body).iter().enumerate() {
                bytes.extend(packed.to_le_bytes());
                bytes.extend((frame_len.min(len - index as u64 * frame_len) as u32).to_le_bytes());
            }
            bytes.extend((count as u32).to_le_bytes());
            bytes.push(0);
            bytes.extend(SEEKABLE.to_le_bytes());
            Ok(bytes)
        }),
    )?;
    Ok(blueprint)
}

/// A record in its skippable frame.
fn frame_of(record: &Record) -> Result<Vec<u8>> {
    let text = serde_json::to_vec(record).map_err(|e| Error::Usage(format!("the record cannot be written: {e}")))?;
    if text.len() as u64 > MOST_RECORD {
        return Err(Error::Usage("the name is too long for a record".into()));
    }
    let mut bytes = RECORD.to_le_bytes().to_vec();
    bytes.extend((text.len() as u32).to_le_bytes());
    bytes.extend(text);
    Ok(bytes)
}

struct FramePacker {
    choice: Choice,
}

impl Packer for FramePacker {
    fn batch_len(&self) -> usize {
        self.choice.frame_len()
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        let failed = |e: std::io::Error| Error::Usage(format!("zstd cannot be set up: {e}"));
        let mut compressor = Compressor::new(self.choice.level).map_err(failed)?;
        compressor.set_parameter(CParameter::ChecksumFlag(true)).map_err(failed)?;
        if self.choice.long || self.choice.level > 9 {
            // A window over the whole frame makes up for what is lost between frames.
            compressor.set_parameter(CParameter::WindowLog(24)).map_err(failed)?;
        }
        if (10..=15).contains(&self.choice.level) {
            // Half of the level's own table: hardly larger files, and memory for more threads.
            compressor.set_parameter(CParameter::HashLog(22)).map_err(failed)?;
        }
        if self.choice.long {
            compressor.set_parameter(CParameter::EnableLongDistanceMatching(true)).map_err(failed)?;
        }
        Ok(Box::new(FrameWorker(compressor)))
    }
}

struct FrameWorker(Compressor<'static>);

impl PackWorker for FrameWorker {
    fn pack(&mut self, _at: u64, raw: &[u8], packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()> {
        packed.reserve(zstd::zstd_safe::compress_bound(raw.len()));
        let len = self.0.compress_to_buffer(raw, packed).map_err(|e| Error::Usage(format!("zstd failed: {e}")))?;
        marks.push(len as u32);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    fn frame(bytes: &[u8]) -> Vec<u8> {
        zstd::bulk::compress(bytes, 3).unwrap()
    }

    fn skippable(magic: u32, body: &[u8]) -> Vec<u8> {
        [&magic.to_le_bytes()[..], &(body.len() as u32).to_le_bytes(), body].concat()
    }

    /// The table of the seekable format, put together along its description: places, number, flags, magic.
    fn table(places: &[(usize, usize)], has_sums: bool) -> Vec<u8> {
        let mut body = Vec::new();
        for (packed, len) in places {
            body.extend((*packed as u32).to_le_bytes());
            body.extend((*len as u32).to_le_bytes());
            body.extend(if has_sums { &[0xaa; 4][..] } else { &[] });
        }
        body.extend((places.len() as u32).to_le_bytes());
        body.push(if has_sums { 0x80 } else { 0 });
        body.extend(SEEKABLE.to_le_bytes());
        skippable(TABLE, &body)
    }

    fn places(frames: &[FramePlace]) -> Vec<(u64, u64, u64, u64)> {
        frames.iter().map(|f| (f.at, f.packed, f.start, f.len)).collect()
    }

    #[test]
    fn a_table_says_where_frames_are_with_checksums_and_without() {
        let (a, b) = (frame(&[1; 1000]), frame(&[2; 500]));
        for has_sums in [false, true] {
            let table = table(&[(a.len(), 1000), (b.len(), 500)], has_sums);
            let file = Bytes([&a[..], &b, &table].concat());
            let (frames, end) = read_table(&file).unwrap().unwrap();
            let wanted = [(0, a.len() as u64, 0, 1000), (a.len() as u64, b.len() as u64, 1000, 500)];
            assert_eq!((places(&frames), end), (wanted.to_vec(), (a.len() + b.len()) as u64));
        }
        assert!(read_table(&Bytes([a, b].concat())).unwrap().is_none(), "no table");
    }

    #[test]
    fn tables_that_do_not_fit_are_errors() {
        let a = frame(&[1; 1000]);
        let told = |table: Vec<u8>| read_table(&Bytes([&a[..], &table].concat())).err().unwrap().to_string();
        assert!(
            told(table(&[(a.len() + 1, 1000)], false)).contains("frame 0 of the seek table reaches past the frames")
        );
        let mut short = table(&[(a.len(), 1000)], false);
        let number = short.len() - 9;
        short[number] = 77;
        assert!(told(short).contains("a table of 77 frames does not fit"));
        let mut moved = table(&[(a.len(), 1000)], false);
        moved[4] += 1;
        assert!(told(moved).contains("does not begin where its footer says"));
    }

    #[test]
    fn frames_are_found_by_their_headers_and_skippable_ones_passed_over() {
        let (a, b) = (frame(&[1; 1000]), frame(b"brine"));
        let file = Bytes([skippable(0x184d_2a53, b"note"), a.clone(), skippable(RECORD, b"{}"), b.clone()].concat());
        let (frames, end) = walk_frames(&file).unwrap().unwrap();
        let second = (12 + a.len() + 10) as u64;
        let wanted = [(12, a.len() as u64, 0, 1000), (second, b.len() as u64, 1000, 5)];
        assert_eq!((places(&frames), end), (wanted.to_vec(), file.len()));
        let told = walk_frames(&Bytes([a, b"nonsense".to_vec()].concat())).err().unwrap().to_string();
        assert!(told.contains("neither a frame nor a skippable frame"), "{told}");
        // Cut within a skippable frame, and within the header of one.
        let cut = |len: usize| walk_frames(&Bytes([frame(b"tide"), skippable(RECORD, b"{}")[..len].to_vec()].concat()));
        assert!(cut(10).is_ok() && cut(9).is_err() && cut(5).is_err());
    }

    #[test]
    fn a_frame_that_is_not_what_the_table_says_is_damaged() {
        let a = frame(&[1; 1000]);
        let source: SourceRef = Arc::new(Bytes(a.clone()));
        let made = |len: u64| {
            let frames = vec![FramePlace { at: 0, packed: a.len() as u64, start: 0, len }];
            Frames { source: source.clone(), frames, len }.make(0)
        };
        assert_eq!(made(1000).unwrap(), [1; 1000]);
        assert!(made(1001).unwrap_err().to_string().contains("1000 bytes instead of 1001"));
        assert!(made(999).is_err());
        assert!(
            made(1 << 40).unwrap_err().to_string().contains("too short for its size"),
            "nothing is reserved for it"
        );
    }

    #[test]
    fn our_record_is_read_where_the_frames_end_and_nowhere_else() {
        let record = Record { version: 1, name: "kelp.iso".into(), what: "a disc".into(), digests: Vec::new() };
        let bytes = frame_of(&record).unwrap();
        assert_eq!(read_record(&Bytes(bytes.clone()), 0).unwrap().unwrap().name, "kelp.iso");
        assert!(read_record(&Bytes(bytes[..20].to_vec()), 0).unwrap().is_none(), "cut short");
        assert!(read_record(&Bytes(skippable(TABLE, b"{}")), 0).unwrap().is_none(), "another frame");
        let long = Record { name: "n".repeat(70_000), ..record };
        assert!(matches!(frame_of(&long), Err(Error::Usage(_))));
    }
}
