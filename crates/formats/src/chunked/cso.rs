//! Block-compressed images with an index: CISO (raw deflate) and its sister ZISO (LZ4 blocks), version 1; CISO of version 2, whose
//! blocks are of either kind, is read.
//!
//! All numbers are little-endian. Layout, checks and what is not sure: docs/formats/cso.md.

use crate::raw::read_at;
use decanter_core::blueprint::{Blueprint, PackWorker, Packer};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, check_range, read_array};
use decanter_core::{Error, Result, SECTOR};
use libdeflater::{CompressionLvl, Compressor, Decompressor};
use lz4_flex::block::{CompressTable, compress_into_with_table};
use std::sync::Arc;
use zerocopy::IntoBytes;

/// Bytes before the index.
const HEADER: u64 = 24;
/// Bit of an index entry whose block is stored as it is; in version 2, whose block is packed with LZ4.
const STORED: u32 = 0x8000_0000;
/// Bytes of a block in new images: what every reader expects.
const BLOCK: u32 = SECTOR as u32;
/// Largest block that is read.
const MOST_BLOCK: u32 = 1 << 20;
/// Largest shift of index entries. Blocks then begin on multiples of so many bytes.
const MOST_SHIFT: u8 = 12;
/// Bytes that are read and unpacked at once.
const STRETCH: u64 = 1 << 20;
/// Effort of deflate in new images, from 1 to 12.
pub const LEVEL: i32 = 9;

/// Which of the two it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Coding {
    /// CISO.
    Deflate,
    /// ZISO.
    Lz4,
}

impl Coding {
    fn magic(self) -> &'static [u8; 4] {
        match self {
            Self::Deflate => b"CISO",
            Self::Lz4 => b"ZISO",
        }
    }

    fn id(self) -> &'static str {
        match self {
            Self::Deflate => "cso",
            Self::Lz4 => "zso",
        }
    }

    fn name(self) -> &'static str {
        match self {
            Self::Deflate => "CISO compressed image",
            Self::Lz4 => "ZISO compressed image",
        }
    }
}

/// CISO.
pub struct Ciso;
/// ZISO.
pub struct Ziso;

impl Format for Ciso {
    fn id(&self) -> &'static str {
        Coding::Deflate.id()
    }

    fn name(&self) -> &'static str {
        Coding::Deflate.name()
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["cso", "ciso"]
    }

    fn reads(&self) -> &'static str {
        "versions 1 and 2; raw deflate blocks, in version 2 LZ4 ones too"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"CISO")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        score(source, Coding::Deflate)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        open(source, Coding::Deflate, opener)
    }
}

impl Format for Ziso {
    fn id(&self) -> &'static str {
        Coding::Lz4.id()
    }

    fn name(&self) -> &'static str {
        Coding::Lz4.name()
    }

    fn role(&self) -> Role {
        Role::Wrapper
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["zso", "ziso"]
    }

    fn reads(&self) -> &'static str {
        "version 1, LZ4 blocks"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"ZISO")] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        score(source, Coding::Lz4)
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        open(source, Coding::Lz4, opener)
    }
}

fn score(source: &dyn Source, coding: Coding) -> Result<Option<u8>> {
    Ok((source.len() >= HEADER && &read_array::<4>(source, 0)? == coding.magic()).then_some(95))
}

fn open(source: SourceRef, coding: Coding, opener: &Opener<'_>) -> Result<Opened> {
    let view = View::new(source.clone(), coding)?;
    let mut opened = Opened::new(coding.id(), coding.name());
    opened.holds.has_own_names = false;
    let ratio = super::ratio(source.len(), view.len);
    opened.fact("compressed", format!("{ratio}, in blocks of {}", view.block));
    let stored = (0..view.index.len() - 1).filter(|number| view.is_stored(*number)).count();
    opened.fact(
        "stored blocks",
        if stored > 0 { format!("{stored} of {}", view.index.len() - 1) } else { String::new() },
    );
    super::container(&mut opened, Arc::new(view), None, opener);
    Ok(opened)
}

mod raw {
    use crate::raw::layouts;
    use zerocopy::byteorder::{LE, U32, U64};

    layouts! {
        /// What stands before the index.
        Header: 24 {
            magic: [u8; 4],
            header_len: U32<LE>,
            len: U64<LE>,
            block: U32<LE>,
            version: u8,
            shift: u8,
            reserved: [u8; 2],
        }
    }
}

/// The image inside.
struct View {
    source: SourceRef,
    coding: Coding,
    /// Whether it is of version 2: what is as long as a block is stored, and the top bit chooses the packing.
    is_second: bool,
    len: u64,
    block: u64,
    shift: u8,
    /// One entry a block, and the end.
    index: Vec<u32>,
}

impl View {
    fn new(source: SourceRef, coding: Coding) -> Result<Self> {
        let id = coding.id();
        let header: raw::Header = read_at(source.as_ref(), 0)?;
        let (len, block, shift) = (header.len.get(), header.block.get(), header.shift);
        let is_second = header.version == 2 && coding == Coding::Deflate;
        if header.version > 1 && !is_second {
            return Err(Error::unsupported(id, format!("version {}", header.version)));
        }
        // Images of other consoles begin with the same four letters; then come the length of a block and a map of those
        // that are there, a byte each.
        let second = header.header_len.get();
        if second.is_power_of_two() && second >= 1 << 15 && header.as_bytes()[8..].iter().all(|b| *b <= 1) {
            let what = format!("the form with a map of blocks of {second} bytes, for other consoles,");
            return Err(Error::unsupported(id, what));
        }
        if !block.is_power_of_two() || !(512..=MOST_BLOCK).contains(&block) {
            return Err(Error::malformed(id, format!("blocks of {block} bytes"), 16));
        }
        if shift > MOST_SHIFT {
            return Err(Error::malformed(id, format!("an index shifted by {shift} bits"), 21));
        }
        let count = len.div_ceil(block.into());
        let index_len = (count.saturating_add(1)).saturating_mul(4);
        if HEADER.saturating_add(index_len) > source.len() {
            let text = format!("an index for {len} bytes, which does not fit the file ({} bytes)", source.len());
            return Err(Error::malformed(id, text, 8));
        }
        let mut bytes = vec![0; index_len as usize];
        source.read_at(HEADER, &mut bytes)?;
        let index: Vec<u32> = bytes.as_chunks::<4>().0.iter().map(|b| u32::from_le_bytes(*b)).collect();
        let view = Self { source, coding, is_second, len, block: block.into(), shift, index };
        let mut last = HEADER + index_len;
        for number in 0..view.index.len() {
            let at = view.place(number);
            if at < last && number > 0 || at > view.source.len() {
                let what = if at < last { "goes back" } else { "points past the end of the file" };
                let text = format!("the index {what} at block {number} ({})", view.sectors(number as u64));
                return Err(Error::malformed(id, text, HEADER + number as u64 * 4));
            }
            last = at;
        }
        Ok(view)
    }

    fn place(&self, number: usize) -> u64 {
        u64::from(self.index[number] & !STORED) << self.shift
    }

    /// Whether a block is stored as it is.
    fn is_stored(&self, number: usize) -> bool {
        match self.is_second {
            true => self.place(number + 1) - self.place(number) >= self.block,
            false => self.index[number] & STORED != 0,
        }
    }

    /// How a block is packed that is not stored.
    fn coding_of(&self, number: usize) -> Coding {
        match self.is_second && self.index[number] & STORED != 0 {
            true => Coding::Lz4,
            false => self.coding,
        }
    }

    /// The sectors of a block, for messages.
    fn sectors(&self, number: u64) -> String {
        let (first, last) =
            (number * self.block / SECTOR, ((number + 1) * self.block - 1).min(self.len.max(1) - 1) / SECTOR);
        if first == last { format!("sector {first}") } else { format!("sectors {first} to {last}") }
    }

    /// Unpacks a block into `out`, which has its length.
    fn unpack(&self, number: u64, packed: &[u8], inflate: &mut Decompressor, out: &mut [u8]) -> Result<()> {
        let damaged = || {
            let text = format!("block {number} ({}) is damaged", self.sectors(number));
            Error::malformed(self.coding.id(), text, self.place(number as usize))
        };
        if self.is_stored(number as usize) {
            let len = out.len();
            out.copy_from_slice(packed.get(..len).ok_or_else(damaged)?);
            return Ok(());
        }
        let coding = self.coding_of(number as usize);
        let mut decode = |out: &mut [u8]| match coding {
            Coding::Deflate => inflate.deflate_decompress(packed, out).ok(),
            Coding::Lz4 => {
                // Padding up to where the next block may begin is no part of the block; how much there is, nobody says.
                let most = (1usize << self.shift).min(packed.len().max(1));
                (0..most).find_map(|cut| lz4_flex::block::decompress_into(&packed[..packed.len() - cut], out).ok())
            }
        };
        if decode(out) == Some(out.len()) {
            return Ok(());
        }
        // Some writers fill the last block up before they pack it.
        let mut whole = vec![0; self.block as usize];
        if out.len() < whole.len() && decode(&mut whole).is_some_and(|len| len >= out.len()) {
            out.copy_from_slice(&whole[..out.len()]);
            return Ok(());
        }
        Err(damaged())
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut inflate = Decompressor::new();
        let (mut packed, mut whole) = (Vec::new(), vec![0; self.block as usize]);
        while !buf.is_empty() {
            let first = offset / self.block;
            let last = ((offset + buf.len() as u64).div_ceil(self.block)).min(first + STRETCH / self.block);
            let from = self.place(first as usize);
            let to = self.place(last as usize);
            let most = (last - first) * (self.block * 2 + (1 << self.shift));
            if to - from > most {
                let text = format!("blocks {first} to {} take {} bytes, more than they can", last - 1, to - from);
                return Err(Error::malformed(self.coding.id(), text, HEADER + first * 4));
            }
            packed.resize((to - from) as usize, 0);
            self.source.read_at(from, &mut packed)?;
            for number in first..last {
                let start = number * self.block;
                let len = self.block.min(self.len - start);
                let (into, at) = ((offset - start) as usize, (self.place(number as usize) - from) as usize);
                let end = (self.place(number as usize + 1) - from) as usize;
                let take = buf.len().min(len as usize - into);
                let (now, later) = buf.split_at_mut(take);
                if take as u64 == len {
                    self.unpack(number, &packed[at..end], &mut inflate, now)?;
                } else {
                    let whole = &mut whole[..len as usize];
                    self.unpack(number, &packed[at..end], &mut inflate, whole)?;
                    now.copy_from_slice(&whole[into..into + take]);
                }
                offset += take as u64;
                buf = later;
            }
        }
        Ok(())
    }
}

/// A new image with the bytes of `source`. `level` is the effort of deflate, 1 to 12; LZ4 has none.
///
/// # Errors
/// [`Error::Unsupported`] when the index cannot count so far.
pub fn compose(source: SourceRef, coding: Coding, level: i32) -> Result<Blueprint> {
    let count = source.len().div_ceil(BLOCK.into());
    let index_len = (count + 1) * 4;
    // The worst case is that every block is stored; its end has to fit 31 bits, shifted.
    let worst = |shift: u8| HEADER + index_len + count * (u64::from(BLOCK) + (1 << shift));
    let shift = (0..=MOST_SHIFT).find(|&s| worst(s) >> s < u64::from(STORED));
    let shift = shift.ok_or_else(|| Error::unsupported(coding.id(), "an image of more than 8 TiB"))?;
    let lead = (HEADER + index_len).next_multiple_of(1 << shift);
    let len = source.len();
    let mut blueprint = Blueprint::new();
    let head = blueprint.late(lead);
    let body = blueprint.packed(source, Arc::new(BlockPacker { coding, level, shift }));
    let make = move |known: &decanter_core::blueprint::Known<'_>| {
        let mut bytes = Vec::with_capacity(lead as usize);
        bytes.extend(coding.magic());
        bytes.extend((HEADER as u32).to_le_bytes());
        bytes.extend(len.to_le_bytes());
        bytes.extend(BLOCK.to_le_bytes());
        bytes.extend([1, shift, 0, 0]);
        let mut at = lead >> shift;
        for mark in known.marks(body) {
            bytes.extend((at as u32 | mark & STORED).to_le_bytes());
            at += u64::from(mark & !STORED) >> shift;
        }
        bytes.extend((at as u32).to_le_bytes());
        bytes.resize(lead as usize, 0);
        Ok(bytes)
    };
    blueprint.compute(head, &[body], Arc::new(make))?;
    Ok(blueprint)
}

struct BlockPacker {
    coding: Coding,
    level: i32,
    shift: u8,
}

impl Packer for BlockPacker {
    fn batch_len(&self) -> usize {
        STRETCH as usize
    }

    fn worker(&self) -> Result<Box<dyn PackWorker>> {
        let level = CompressionLvl::new(self.level)
            .map_err(|_| Error::Usage(format!("level {} is not from 1 to 12", self.level)))?;
        Ok(Box::new(BlockWorker {
            coding: self.coding,
            shift: self.shift,
            deflate: Compressor::new(level),
            lz4: CompressTable::small(),
            room: [0; BLOCK as usize * 2],
        }))
    }
}

struct BlockWorker {
    coding: Coding,
    shift: u8,
    deflate: Compressor,
    lz4: CompressTable,
    /// Where a block is packed.
    room: [u8; BLOCK as usize * 2],
}

impl PackWorker for BlockWorker {
    fn pack(&mut self, _at: u64, raw: &[u8], packed: &mut Vec<u8>, marks: &mut Vec<u32>) -> Result<()> {
        for block in raw.chunks(BLOCK as usize) {
            let done = match self.coding {
                Coding::Deflate => self.deflate.deflate_compress(block, &mut self.room).ok(),
                Coding::Lz4 => compress_into_with_table(block, &mut self.room, &mut self.lz4).ok(),
            };
            let (kept, flag) = match done {
                Some(len) if len < block.len() => (&self.room[..len], 0),
                _ => (block, STORED),
            };
            let padded = kept.len().next_multiple_of(1 << self.shift);
            packed.extend_from_slice(kept);
            packed.resize(packed.len() + padded - kept.len(), 0);
            marks.push(padded as u32 | flag);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    /// An image of `len` bytes in blocks of 512, shifted by `shift`, whose blocks have these bytes and stand behind the
    /// index; true for one that is stored. Put together along docs/formats/cso.md.
    fn image(magic: &[u8; 4], len: u64, shift: u8, blocks: &[(Vec<u8>, bool)]) -> Vec<u8> {
        let mut head = magic.to_vec();
        head.extend([24, 0, 0, 0]);
        head.extend(len.to_le_bytes());
        head.extend([0, 2, 0, 0, 1, shift, 0, 0]);
        let unit = 1 << shift;
        let mut at = (24 + (blocks.len() + 1) * 4).next_multiple_of(unit);
        let mut body = Vec::new();
        for (bytes, is_stored) in blocks {
            head.extend(((at >> shift) as u32 | u32::from(*is_stored) << 31).to_le_bytes());
            body.extend(bytes);
            body.resize(body.len().next_multiple_of(unit), 0);
            at += bytes.len().next_multiple_of(unit);
        }
        head.extend(((at >> shift) as u32).to_le_bytes());
        head.resize(head.len().next_multiple_of(unit), 0);
        [head, body].concat()
    }

    #[test]
    fn blocks_of_the_second_version_are_of_either_kind() {
        let text: Vec<u8> = b"low tide at nine, high tide at three. ".iter().copied().cycle().take(512).collect();
        let noise: Vec<u8> = (0..512u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        // One in deflate, one in LZ4 with the top bit set, one as long as a block, stored for that.
        let blocks = [(deflated(&[8; 512]), false), (lz4_flex::block::compress(&text), true), (noise.clone(), false)];
        let mut bytes = image(b"CISO", 3 * 512, 0, &blocks);
        bytes[20] = 2;
        let view = view(bytes.clone(), Coding::Deflate).unwrap();
        let mut out = vec![0; 3 * 512];
        view.read_at(0, &mut out).unwrap();
        assert!(out[..512] == [8; 512] && out[512..1024] == text && out[1024..] == noise);
        assert_eq!((view.is_stored(0), view.is_stored(2)), (false, true));
        bytes[20] = 3;
        assert!(told(bytes).contains("version 3"));
    }

    /// A deflate stream, by the same library as the reader's: what it says is looked at by other tests.
    fn deflated(bytes: &[u8]) -> Vec<u8> {
        let mut out = vec![0; 1024];
        let len = Compressor::new(CompressionLvl::default()).deflate_compress(bytes, &mut out).unwrap();
        out.truncate(len);
        out
    }

    fn view(bytes: Vec<u8>, coding: Coding) -> Result<View> {
        View::new(Arc::new(Bytes(bytes)), coding)
    }

    fn told(bytes: Vec<u8>) -> String {
        view(bytes, Coding::Deflate).err().unwrap().to_string()
    }

    /// A deflate stream of one stored block (RFC 1951, 3.2.4), as any writer may make it.
    fn stored_stream(bytes: &[u8]) -> Vec<u8> {
        let len = bytes.len() as u16;
        [&[1][..], &len.to_le_bytes(), &(!len).to_le_bytes(), bytes].concat()
    }

    #[test]
    fn blocks_are_read_as_their_index_says() {
        let blocks = [(vec![7; 512], true), (stored_stream(&[8; 512]), false), (stored_stream(&[9; 100]), false)];
        for shift in [0, 3, 9] {
            let view = view(image(b"CISO", 1124, shift, &blocks), Coding::Deflate).unwrap();
            let mut all = vec![0; 1124];
            view.read_at(0, &mut all).unwrap();
            assert!(all[..512].iter().all(|b| *b == 7) && all[512..1024].iter().all(|b| *b == 8), "shift {shift}");
            assert!(all[1024..].iter().all(|b| *b == 9));
            let mut some = [0; 20];
            view.read_at(1014, &mut some).unwrap();
            assert_eq!(some, [[8; 10], [9; 10]].concat()[..], "across two blocks");
        }
    }

    #[test]
    fn a_last_block_that_was_filled_up_is_cut_to_its_length() {
        let blocks = [(stored_stream(&[[5; 100].as_slice(), &[0; 412]].concat()), false)];
        let view = view(image(b"CISO", 100, 0, &blocks), Coding::Deflate).unwrap();
        let mut all = [0; 100];
        view.read_at(0, &mut all).unwrap();
        assert_eq!(all, [5; 100]);
    }

    #[test]
    fn lz4_blocks_may_have_padding_behind_them() {
        // One literal run of 18 bytes: token f0, three more, then the bytes (LZ4 block format).
        let packed = [&[0xf0, 3][..], b"eighteen bytes....", &[0; 3]].concat();
        let view = view(image(b"ZISO", 18, 3, &[(packed, false)]), Coding::Lz4).unwrap();
        let mut all = [0; 18];
        view.read_at(0, &mut all).unwrap();
        assert_eq!(&all, b"eighteen bytes....");
    }

    #[test]
    fn what_cannot_be_is_told_with_its_place() {
        let good = || image(b"CISO", 1024, 0, &[(vec![7; 512], true), (vec![8; 512], true)]);
        let changed = |at: usize, value: &[u8]| {
            let mut bytes = good();
            bytes[at..at + value.len()].copy_from_slice(value);
            bytes
        };
        assert!(told(changed(16, &[3, 2, 0, 0])).contains("blocks of 515 bytes"));
        assert!(told(changed(20, &[3])).contains("version 3"));
        assert!(told(changed(21, &[60])).contains("shifted by 60 bits"));
        assert!(told(changed(8, &[0, 0, 0, 0, 9, 0, 0, 0])).contains("does not fit the file"));
        assert!(told(changed(24 + 4, &[1, 0, 0, 0])).contains("goes back at block 1"));
        assert!(told(changed(24 + 8, &[0xff, 0xff, 0, 0])).contains("past the end of the file at block 2"));
        // The other form: a map of blocks, a byte each.
        let map = [&b"CISO"[..], &[0, 0, 0x20, 0], &[1, 1, 0, 1], &[0; 100]].concat();
        assert!(told(map).contains("a map of blocks of 2097152 bytes"));
    }

    #[test]
    fn a_damaged_block_names_its_sectors_and_the_others_are_read() {
        let view =
            view(image(b"CISO", 1024, 0, &[(vec![0xff; 20], false), (vec![8; 512], true)]), Coding::Deflate).unwrap();
        let error = view.read_at(0, &mut [0; 512]).unwrap_err().to_string();
        assert!(error.contains("block 0 (sector 0) is damaged"), "{error}");
        view.read_at(512, &mut [0; 512]).unwrap();
    }
}
