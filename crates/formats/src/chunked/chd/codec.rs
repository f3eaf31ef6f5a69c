//! The codecs: of plain hunks, and of CD sectors, whose frames and subchannel are packed apart.

use super::flac::{self, Order};
use super::header::Tag;
use super::huffman;
use super::noise;
use crate::optical::cd::sector::{RAW, SYNC, ecc};
use libdeflater::{CompressionLvl, Compressor, Decompressor};
use lzma_rust2::{EncodeMode, LzmaOptions, LzmaReader, LzmaWriter, MfType};
use std::io::{Read, Write};

/// Bytes of a CD sector with its subchannel, which is a unit of such an image.
pub(super) const UNIT: usize = RAW + SUBCHANNEL;
/// Bytes of the subchannel.
pub(super) const SUBCHANNEL: usize = 96;
/// Where the parities of a sector begin, and how many bytes they have (ECMA-130, 14.5).
const PARITY: usize = 2076;
const PARITY_LEN: usize = 276;
/// LZMA parameters that every image has: literal context bits, literal position bits, position bits.
const LZMA: (u32, u32, u32) = (3, 0, 2);

/// A codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// Raw deflate.
    Zlib,
    /// Raw LZMA without an end mark.
    Lzma,
    /// A Huffman code over bytes.
    Huffman,
    /// FLAC frames of two channels of 16 bits.
    Flac,
    /// A zstd frame.
    Zstd,
    /// CD sectors: deflate for frames and subchannel.
    CdZlib,
    /// CD sectors: LZMA for frames, deflate for the subchannel.
    CdLzma,
    /// CD sectors: zstd for both.
    CdZstd,
    /// CD sound: FLAC for frames, deflate for the subchannel.
    CdFlac,
}

const ALL: [(Codec, [u8; 4], &str); 9] = [
    (Codec::Zlib, *b"zlib", "zlib"),
    (Codec::Lzma, *b"lzma", "lzma"),
    (Codec::Huffman, *b"huff", "huff"),
    (Codec::Flac, *b"flac", "flac"),
    (Codec::Zstd, *b"zstd", "zstd"),
    (Codec::CdZlib, *b"cdzl", "zlib"),
    (Codec::CdLzma, *b"cdlz", "lzma"),
    (Codec::CdZstd, *b"cdzs", "zstd"),
    (Codec::CdFlac, *b"cdfl", "flac"),
];

impl Codec {
    /// The codec that these letters stand for.
    pub(super) fn of(tag: Tag) -> Option<Self> {
        ALL.iter().find(|(_, letters, _)| *letters == tag.0).map(|(codec, ..)| *codec)
    }

    /// Its four letters.
    pub(super) fn tag(self) -> Tag {
        Tag(ALL.iter().find(|(codec, ..)| *codec == self).map_or([0; 4], |(_, letters, _)| *letters))
    }

    /// The codec that a user calls so, for sectors of CDs or for plain hunks. `huff` is only read.
    pub fn named(name: &str, of_cd: bool) -> Option<Self> {
        let fits = |(codec, _, own): &&(Self, [u8; 4], &str)| {
            *own == name && codec.is_of_cd() == of_cd && *codec != Self::Huffman
        };
        ALL.iter().find(fits).map(|(codec, ..)| *codec)
    }

    fn is_of_cd(self) -> bool {
        matches!(self, Self::CdZlib | Self::CdLzma | Self::CdZstd | Self::CdFlac)
    }
}

/// What unpacking needs, kept between hunks.
pub(super) struct Unpacker {
    inflate: Decompressor,
    zstd: Option<zstd::bulk::Decompressor<'static>>,
    frames: Vec<u8>,
}

impl Unpacker {
    pub(super) fn new() -> Self {
        Self { inflate: Decompressor::new(), zstd: None, frames: Vec::new() }
    }

    /// Unpacks a hunk; false if it is damaged.
    pub(super) fn unpack(&mut self, codec: Codec, packed: &[u8], out: &mut [u8]) -> bool {
        match codec {
            Codec::Zlib => self.inflate.deflate_decompress(packed, out) == Ok(out.len()),
            Codec::Lzma => unpack_lzma(packed, out),
            Codec::Huffman => huffman::unpack(packed, out),
            Codec::Flac => {
                let order = match packed.first() {
                    Some(b'L') => Order::Little,
                    Some(b'B') => Order::Big,
                    _ => return false,
                };
                flac::unpack(&packed[1..], order, out).is_some()
            }
            Codec::Zstd => self.unpack_zstd(packed, out),
            Codec::CdFlac => self.unpack_sound(packed, out),
            Codec::CdZlib | Codec::CdLzma | Codec::CdZstd => self.unpack_sectors(codec, packed, out),
        }
    }

    fn unpack_zstd(&mut self, packed: &[u8], out: &mut [u8]) -> bool {
        if self.zstd.is_none() {
            self.zstd = zstd::bulk::Decompressor::new().ok();
        }
        self.zstd.as_mut().is_some_and(|z| z.decompress_to_buffer(packed, out).is_ok_and(|len| len == out.len()))
    }

    /// A bit for each sector whose sync and parities are left out; the length of the packed frames; both parts.
    fn unpack_sectors(&mut self, codec: Codec, packed: &[u8], out: &mut [u8]) -> bool {
        let count = out.len() / UNIT;
        let flags_len = count.div_ceil(8);
        let field = if out.len() < 1 << 16 { 2 } else { 3 };
        let Some(lead) = packed.get(..flags_len + field) else { return false };
        let len = lead[flags_len..].iter().fold(0, |sum, b| sum << 8 | usize::from(*b));
        let body = &packed[flags_len + field..];
        if len > body.len() || !out.len().is_multiple_of(UNIT) {
            return false;
        }
        let (base, sub) = body.split_at(len);
        let mut whole = std::mem::take(&mut self.frames);
        whole.resize(out.len(), 0);
        let (frames, subs) = whole.split_at_mut(count * RAW);
        let is_sound = match codec {
            Codec::CdLzma => unpack_lzma(base, frames) && self.inflate.deflate_decompress(sub, subs) == Ok(subs.len()),
            Codec::CdZstd => self.unpack_zstd(base, frames) && self.unpack_zstd(sub, subs),
            _ => {
                self.inflate.deflate_decompress(base, frames) == Ok(frames.len())
                    && self.inflate.deflate_decompress(sub, subs) == Ok(subs.len())
            }
        };
        if is_sound {
            weave(frames, subs, out);
            for (index, sector) in out.chunks_mut(UNIT).enumerate() {
                if lead[index / 8] & 1 << (index % 8) != 0 {
                    sector[..12].copy_from_slice(&SYNC);
                    let mut parity = [0; PARITY_LEN];
                    ecc(sector, sector[15] == 2, &mut parity);
                    sector[PARITY..RAW].copy_from_slice(&parity);
                }
            }
        }
        self.frames = whole;
        is_sound
    }

    fn unpack_sound(&mut self, packed: &[u8], out: &mut [u8]) -> bool {
        let count = out.len() / UNIT;
        let mut whole = std::mem::take(&mut self.frames);
        whole.resize(out.len(), 0);
        let (frames, subs) = whole.split_at_mut(count * RAW);
        let is_sound = out.len().is_multiple_of(UNIT)
            && flac::unpack(packed, Order::Big, frames).is_some_and(|used| {
                packed.get(used..).is_some_and(|sub| self.inflate.deflate_decompress(sub, subs) == Ok(subs.len()))
            });
        if is_sound {
            weave(frames, subs, out);
        }
        self.frames = whole;
        is_sound
    }
}

fn unpack_lzma(packed: &[u8], out: &mut [u8]) -> bool {
    let (lc, lp, pb) = LZMA;
    let dictionary = (out.len() as u32).next_power_of_two().max(4096);
    LzmaReader::new(packed, out.len() as u64, lc, lp, pb, dictionary, None)
        .is_ok_and(|mut reader| reader.read_exact(out).is_ok())
}

/// Frames and subchannels in turn.
fn weave(frames: &[u8], subs: &[u8], out: &mut [u8]) {
    for ((sector, frame), sub) in out.chunks_exact_mut(UNIT).zip(frames.chunks(RAW)).zip(subs.chunks(SUBCHANNEL)) {
        sector[..RAW].copy_from_slice(frame);
        sector[RAW..].copy_from_slice(sub);
    }
}

/// What packing needs, kept between hunks.
pub(super) struct HunkPacker {
    codecs: Vec<Codec>,
    deflate: Compressor,
    zstd: Option<zstd::bulk::Compressor<'static>>,
    /// What each codec made, so that its memory stays.
    tries: Vec<Vec<u8>>,
    /// Whether trying the codecs takes much longer than finding out that none will help.
    is_costly: bool,
}

/// Effort of deflate, from 1 to 12.
const DEFLATE_LEVEL: i32 = 9;

/// Levels of zstd up to which it gives up on noise as fast as anything could.
const QUICK_LEVEL: i32 = 5;

impl HunkPacker {
    /// One that tries these codecs; `level` is that of zstd.
    ///
    /// # Errors
    /// When zstd cannot be set up.
    pub(super) fn new(codecs: &[Codec], level: i32) -> std::io::Result<Self> {
        let zstd = codecs.iter().any(|c| matches!(c, Codec::Zstd | Codec::CdZstd));
        Ok(Self {
            is_costly: codecs.iter().any(|c| !matches!(c, Codec::Zstd)) || level > QUICK_LEVEL,
            codecs: codecs.to_vec(),
            deflate: Compressor::new(CompressionLvl::new(DEFLATE_LEVEL).unwrap_or_default()),
            zstd: if zstd { Some(zstd::bulk::Compressor::new(level)?) } else { None },
            tries: vec![Vec::new(); codecs.len()],
        })
    }

    /// The shortest form of a hunk, with the number of its codec; `None` if it does not become shorter.
    pub(super) fn pack(&mut self, raw: &[u8]) -> Option<(usize, &[u8])> {
        if self.is_costly && noise::is_noise(raw, &mut self.tries[0]) {
            return None;
        }
        let mut best = (raw.len(), usize::MAX);
        for index in 0..self.codecs.len() {
            let mut out = std::mem::take(&mut self.tries[index]);
            out.clear();
            if self.pack_with(self.codecs[index], raw, &mut out).is_some() && out.len() < best.0 {
                best = (out.len(), index);
            }
            self.tries[index] = out;
        }
        self.tries.get(best.1).map(|packed| (best.1, packed.as_slice()))
    }

    fn pack_with(&mut self, codec: Codec, raw: &[u8], out: &mut Vec<u8>) -> Option<()> {
        match codec {
            Codec::Zlib => self.deflate(raw, out),
            Codec::Lzma => pack_lzma(raw, out),
            Codec::Zstd => self.pack_zstd(raw, out),
            Codec::Flac => {
                if !raw.len().is_multiple_of(4) {
                    return None;
                }
                let both = [(b'L', Order::Little), (b'B', Order::Big)];
                let (letter, packed) = both
                    .map(|(l, o)| (l, flac::pack(raw, o, flac::MOST_PLAIN)))
                    .into_iter()
                    .min_by_key(|(_, p)| p.len())?;
                out.push(letter);
                out.extend(packed);
                Some(())
            }
            Codec::Huffman => None,
            Codec::CdFlac => {
                let (frames, subs) = part(raw);
                out.extend(flac::pack(&frames, Order::Big, flac::MOST_CD));
                self.deflate(&subs, out)
            }
            Codec::CdZlib | Codec::CdLzma | Codec::CdZstd => self.pack_sectors(codec, raw, out),
        }
    }

    fn deflate(&mut self, raw: &[u8], out: &mut Vec<u8>) -> Option<()> {
        let from = out.len();
        out.resize(from + self.deflate.deflate_compress_bound(raw.len()), 0);
        let len = self.deflate.deflate_compress(raw, &mut out[from..]).ok()?;
        out.truncate(from + len);
        Some(())
    }

    fn pack_zstd(&mut self, raw: &[u8], out: &mut Vec<u8>) -> Option<()> {
        let zstd = self.zstd.as_mut()?;
        if out.is_empty() {
            out.reserve(zstd::zstd_safe::compress_bound(raw.len()));
            zstd.compress_to_buffer(raw, out).ok()?;
        } else {
            out.extend(zstd.compress(raw).ok()?);
        }
        Some(())
    }

    fn pack_sectors(&mut self, codec: Codec, raw: &[u8], out: &mut Vec<u8>) -> Option<()> {
        let (mut frames, subs) = part(raw);
        let count = raw.len() / UNIT;
        let field = if raw.len() < 1 << 16 { 2 } else { 3 };
        let flags_len = count.div_ceil(8);
        out.resize(flags_len + field, 0);
        for (index, frame) in frames.chunks_mut(RAW).enumerate() {
            let mut parity = [0; PARITY_LEN];
            if frame[..12] == SYNC {
                ecc(frame, frame[15] == 2, &mut parity);
                if frame[PARITY..] == parity {
                    out[index / 8] |= 1 << (index % 8);
                    frame[..12].fill(0);
                    frame[PARITY..].fill(0);
                }
            }
        }
        let from = out.len();
        match codec {
            Codec::CdLzma => pack_lzma(&frames, out)?,
            Codec::CdZstd => self.pack_zstd(&frames, out)?,
            _ => self.deflate(&frames, out)?,
        }
        let len = ((out.len() - from) as u32).to_be_bytes();
        out[flags_len..flags_len + field].copy_from_slice(&len[4 - field..]);
        match codec {
            Codec::CdZstd => self.pack_zstd(&subs, out),
            _ => self.deflate(&subs, out),
        }
    }
}

fn pack_lzma(raw: &[u8], out: &mut Vec<u8>) -> Option<()> {
    let (lc, lp, pb) = LZMA;
    let dictionary = (raw.len() as u32).next_power_of_two().max(4096);
    let options = LzmaOptions::new(dictionary, lc, lp, pb, EncodeMode::Normal, 64, MfType::Bt4, 0);
    let mut writer = LzmaWriter::new_no_header(out, &options, false).ok()?;
    writer.write_all(raw).ok()?;
    writer.finish().ok().map(|_| ())
}

/// Frames and subchannels apart.
fn part(raw: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let sectors = || raw.chunks_exact(UNIT);
    (sectors().flat_map(|s| &s[..RAW]).copied().collect(), sectors().flat_map(|s| &s[RAW..]).copied().collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::optical::cd::sector::{Layout, seal};
    use proptest::prelude::*;

    fn there_and_back(codec: Codec, raw: &[u8]) -> usize {
        let mut packer = HunkPacker::new(&[codec], 3).unwrap();
        let mut packed = Vec::new();
        packer.pack_with(codec, raw, &mut packed).unwrap();
        let mut out = vec![0xaa; raw.len()];
        assert!(Unpacker::new().unpack(codec, &packed, &mut out), "{codec:?}");
        assert!(out == raw, "{codec:?}");
        packed.len()
    }

    #[test]
    fn every_codec_gives_back_what_it_was_given() {
        let text: Vec<u8> = b"the tide at Pier Nine stood low; ".iter().cycle().take(4096).copied().collect();
        for codec in [Codec::Zlib, Codec::Lzma, Codec::Zstd, Codec::Flac] {
            there_and_back(codec, &text);
            there_and_back(codec, &[0; 4096]);
        }
        let mut sectors = vec![0; 8 * UNIT];
        for (index, unit) in sectors.chunks_mut(UNIT).enumerate() {
            unit[16..2064].fill(index as u8);
            unit[RAW..].fill(0x40);
            seal(&mut unit[..RAW], 100 + index as u64, Layout::Mode1);
        }
        // A sector whose parities do not fit keeps them.
        sectors[3 * UNIT + 2100] ^= 1;
        for codec in [Codec::CdZlib, Codec::CdLzma, Codec::CdZstd, Codec::CdFlac] {
            let len = there_and_back(codec, &sectors);
            assert!(codec == Codec::CdFlac || len < 1200, "{codec:?}: {len}");
        }
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(packed in proptest::collection::vec(any::<u8>(), 0..300), which in 0usize..9) {
            let mut out = vec![0; 2 * UNIT];
            let _ = Unpacker::new().unpack(ALL[which].0, &packed, &mut out);
        }
    }
}
