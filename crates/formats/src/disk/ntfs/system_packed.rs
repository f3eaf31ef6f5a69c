//! Files that the system itself has packed (its overlay filter, tag 80000017): the content stands in a stream called
//! WofCompressedData, in chunks that are packed one by one. The tag says how: XPRESS with Huffman codes ([MS-XCA] 2.2), or LZX
//! (as archives of the system image kind have it).
//!
//! The value of the tag, from byte 8 on: 1, a provider (2: files), 1, and the packing (0, 2, 3: XPRESS in chunks of 4, 8, 16 KiB; 1:
//! LZX in chunks of 32 KiB). The stream begins with where each chunk but the first begins, counted from behind that table, in 4 bytes
//! each, or 8 for files of 4 GiB and more.

use super::ID;
use crate::lzx::{FRAME, Lzx};
use crate::num::{le16, le32};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::Blocks;
use decanter_core::{Error, Result};

/// The tag of such a file, and the name of the stream with its content.
pub(super) const TAG: u32 = 0x8000_0017;
pub(super) const STREAM: &str = "WofCompressedData";
/// The provider whose files these are.
const FILES: u32 = 2;
/// The most bytes of a table of chunks: a file of half a terabyte.
const MOST_TABLE: u64 = 256 << 20;
/// Bytes of the table of code lengths, symbols in it, and the longest code.
const LENGTHS: usize = 256;
const SYMBOLS: usize = 512;
const LONGEST: usize = 15;
/// The first symbol that stands for a match.
const MATCH: usize = 256;

/// How a file is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Packing {
    /// XPRESS with Huffman codes, in chunks of so many bytes.
    Xpress(u64),
    /// LZX, each chunk of 32 KiB a stream of its own.
    Lzx,
}

impl Packing {
    /// Bytes of a chunk.
    fn chunk(self) -> u64 {
        match self {
            Self::Xpress(chunk) => chunk,
            Self::Lzx => FRAME as u64,
        }
    }

    /// Unpacks what becomes `wanted` bytes; `None` if it is damaged.
    fn unpacked(self, packed: &[u8], wanted: usize) -> Option<Vec<u8>> {
        match self {
            Self::Xpress(_) => xpress(packed, wanted),
            Self::Lzx => {
                let mut out = vec![0; wanted];
                Lzx::of_chunk().frame(packed, &mut out).ok().map(|()| out)
            }
        }
    }
}

/// What the value of the tag says; `None` where it is another one.
pub(super) fn packing(value: &[u8]) -> Option<Packing> {
    let word = |at: usize| value.get(at..at + 4).map(|_| le32(value, at));
    if word(0) != Some(TAG) || word(12) != Some(FILES) {
        return None;
    }
    match word(20)? {
        0 => Some(Packing::Xpress(4 << 10)),
        1 => Some(Packing::Lzx),
        2 => Some(Packing::Xpress(8 << 10)),
        3 => Some(Packing::Xpress(16 << 10)),
        _ => None,
    }
}

/// A packed file, chunk by chunk.
pub(super) struct Chunks {
    stream: SourceRef,
    /// Where each chunk begins in the stream, and where the last one ends.
    places: Vec<u64>,
    packing: Packing,
    chunk: u64,
    len: u64,
}

impl Chunks {
    /// A file of `len` bytes, whose chunks stand in `stream`.
    ///
    /// # Errors
    /// When the table of chunks cannot be one; what reading it fails with.
    pub(super) fn new(stream: SourceRef, len: u64, packing: Packing) -> Result<Self> {
        let chunk = packing.chunk();
        let count = len.div_ceil(chunk);
        let width = if len > u64::from(u32::MAX) { 8 } else { 4 };
        let table_len = count.saturating_sub(1) * width;
        let wrong = |what: &str| Error::Unreadable { why: format!("its table of packed chunks {what}") };
        if table_len > stream.len() {
            return Err(wrong("is longer than what is packed"));
        }
        let table = read_vec(stream.as_ref(), 0, table_len, "a table of packed chunks", MOST_TABLE)?;
        let mut places = vec![table_len];
        for entry in table.chunks_exact(width as usize) {
            let own = if width == 8 { crate::num::le64(entry, 0) } else { le32(entry, 0).into() };
            let place = own.saturating_add(table_len);
            if place < *places.last().unwrap_or(&0) || place > stream.len() {
                return Err(wrong("goes back, or leads out of what is packed"));
            }
            places.push(place);
        }
        places.push(stream.len());
        Ok(Self { stream, places, packing, chunk, len })
    }
}

impl Blocks for Chunks {
    fn len(&self) -> u64 {
        self.len
    }

    fn count(&self) -> usize {
        self.len.div_ceil(self.chunk) as usize
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / self.chunk) as usize, offset / self.chunk * self.chunk)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let (from, to) = (self.places[index], self.places[index + 1]);
        let wanted = self.chunk.min(self.len - index as u64 * self.chunk) as usize;
        // What does not become smaller is stored; nothing that is packed is longer.
        let packed = read_vec(self.stream.as_ref(), from, to - from, "a packed chunk", self.chunk)?;
        if packed.len() == wanted {
            return Ok(packed);
        }
        self.packing
            .unpacked(&packed, wanted)
            .ok_or_else(|| Error::malformed(ID, format!("packed chunk {index} of a file is damaged"), from))
    }
}

/// Codes by their next fifteen bits: the symbol, and how many of the bits it takes. `None` if the lengths are no code.
fn codes(lengths: &[u8]) -> Option<Vec<(u16, u8)>> {
    let length = |symbol: usize| lengths[symbol / 2] >> (symbol % 2 * 4) & 15;
    let mut table = Vec::with_capacity(1 << LONGEST);
    for bits in 1..=LONGEST as u8 {
        for symbol in (0..SYMBOLS).filter(|symbol| length(*symbol) == bits) {
            let count = 1 << (LONGEST - usize::from(bits));
            if table.len() + count > 1 << LONGEST {
                return None;
            }
            table.resize(table.len() + count, (symbol as u16, bits));
        }
    }
    (table.len() == 1 << LONGEST).then_some(table)
}

/// Bits in words of 16, the lower byte first, taken from the top; bytes stand between them.
struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
    next: u32,
    extra: i32,
}

impl<'a> Bits<'a> {
    fn new(bytes: &'a [u8]) -> Option<Self> {
        bytes.get(..4)?;
        let next = u32::from(le16(bytes, 0)) << 16 | u32::from(le16(bytes, 2));
        Some(Self { bytes, at: 4, next, extra: 16 })
    }

    /// Passes over bits. Behind the end there are zeros; whoever takes more than the last word of these is wrong.
    fn skip(&mut self, count: u32) -> Option<()> {
        self.next = self.next.checked_shl(count).unwrap_or(0);
        self.extra -= count as i32;
        if self.extra < 0 {
            let word = match self.bytes.get(self.at..self.at + 2) {
                Some(_) => le16(self.bytes, self.at),
                None if self.at < self.bytes.len() + 4 => 0,
                None => return None,
            };
            self.next |= u32::from(word) << -self.extra;
            self.at += 2;
            self.extra += 16;
        }
        Some(())
    }

    fn byte(&mut self) -> Option<usize> {
        let byte = *self.bytes.get(self.at)?;
        self.at += 1;
        Some(byte.into())
    }
}

/// Unpacks what becomes `wanted` bytes; `None` if it is damaged.
fn xpress(packed: &[u8], wanted: usize) -> Option<Vec<u8>> {
    let table = codes(packed.get(..LENGTHS)?)?;
    let mut bits = Bits::new(&packed[LENGTHS..])?;
    let mut out = Vec::with_capacity(wanted);
    while out.len() < wanted {
        let (symbol, len) = table[(bits.next >> (32 - LONGEST)) as usize];
        bits.skip(len.into())?;
        let symbol = usize::from(symbol);
        if symbol < MATCH {
            out.push(symbol as u8);
            continue;
        }
        let (mut len, offset_bits) = ((symbol - MATCH) % 16, ((symbol - MATCH) / 16) as u32);
        if len == 15 {
            len = bits.byte()?;
            if len == 255 {
                len = bits.byte()? | bits.byte()? << 8;
                len = len.checked_sub(15)?;
            }
            len += 15;
        }
        len += 3;
        let offset =
            (1usize << offset_bits) + if offset_bits > 0 { (bits.next >> (32 - offset_bits)) as usize } else { 0 };
        bits.skip(offset_bits)?;
        if offset > out.len() || out.len() + len > wanted {
            return None;
        }
        for _ in 0..len {
            out.push(out[out.len() - offset]);
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::{Bytes, Source};
    use decanter_core::view::Cached;
    use proptest::prelude::*;
    use std::sync::Arc;

    /// Lengths of codes, by symbols.
    fn lengths(list: &[(usize, u8)]) -> Vec<u8> {
        let mut own = vec![0; LENGTHS];
        list.iter().for_each(|(symbol, bits)| own[symbol / 2] |= bits << (symbol % 2 * 4));
        own
    }

    /// The example of [MS-XCA] 3.2: the alphabet. a to v have codes of five bits, w to z and the end have four.
    fn alphabet() -> Vec<u8> {
        let long = (usize::from(b'a')..=usize::from(b'v')).map(|letter| (letter, 5));
        let short = (usize::from(b'w')..=usize::from(b'z')).map(|letter| (letter, 4));
        let mut packed = lengths(&long.chain(short).chain([(MATCH, 4)]).collect::<Vec<_>>());
        packed.extend([0xd8, 0x52, 0x3e, 0xd7, 0x94, 0x11, 0x5b, 0xe9, 0x19, 0x5f, 0xf9, 0xd6, 0x7c, 0xdf, 0x8d, 0x04]);
        packed.extend([0; 4]);
        packed
    }

    /// 'abc' and a match of 300 bytes from three back: literals and the match have codes of two bits.
    fn repeated() -> Vec<u8> {
        // A match of 15 or more whose offset has one bit: symbol 256 + 1 * 16 + 15.
        let mut packed = lengths(&[(97, 2), (98, 2), (99, 2), (287, 2)]);
        // 00 01 10 11, then the bit of the offset: three is 2 + 1. A further length of 255 says that 16 bits follow: 297.
        packed.extend(0b0001_1011_1000_0000u16.to_le_bytes());
        packed.extend([0, 0]);
        packed.push(255);
        packed.extend(297u16.to_le_bytes());
        packed
    }

    #[test]
    fn codes_are_read_as_the_specification_has_them() {
        assert_eq!(xpress(&alphabet(), 26).unwrap(), b"abcdefghijklmnopqrstuvwxyz");
        assert_eq!(xpress(&repeated(), 303).unwrap(), b"abc".repeat(101));
        assert!(xpress(&repeated(), 302).is_none(), "it gives more than a chunk has");
        let mut far = repeated();
        far[LENGTHS] = 0b0001_1011;
        far[LENGTHS + 1] = 0b1100_0000;
        assert!(xpress(&far, 303).is_none() || xpress(&far, 303).unwrap() != b"abc".repeat(101));
        assert!(xpress(&lengths(&[(97, 1)]), 5).is_none(), "half of the codes is missing");
    }

    #[test]
    fn chunks_stand_where_the_table_says() {
        // Three chunks: one packed, one stored, one packed that is shorter.
        let (mut first, stored, last) = (repeated(), vec![9; 4096], alphabet());
        // The first chunk goes on with its match up to 4,096 bytes.
        let len = first.len();
        first[len - 2..].copy_from_slice(&(4096u16 - 3 - 3).to_le_bytes());
        let mut stream = Vec::new();
        for place in [first.len(), first.len() + stored.len()] {
            stream.extend((place as u32).to_le_bytes());
        }
        stream.extend([first, stored, last].concat());
        let chunks = Chunks::new(Arc::new(Bytes(stream.clone())), 8192 + 26, Packing::Xpress(4096)).unwrap();
        let file = Cached::new(chunks, 2);
        let mut out = vec![0; 8192 + 26];
        file.read_at(0, &mut out).unwrap();
        assert!(out[..4096] == b"abc".repeat(1366)[..4096] && out[4096..8192] == [9; 4096]);
        assert_eq!(&out[8192..], b"abcdefghijklmnopqrstuvwxyz");
        stream[4] = 0;
        stream[5] = 0;
        assert!(Chunks::new(Arc::new(Bytes(stream)), 8192 + 26, Packing::Xpress(4096)).is_err(), "it goes back");
    }

    #[test]
    fn a_chunk_of_lzx_by_hand() {
        // A stored block: kind 011, not of the usual length: 0, six bytes in 16 bits, up to a word; the last offsets; the bytes.
        let mut packed = vec![0x00, 0x60, 0x00, 0x60];
        packed.extend([1u32; 3].iter().flat_map(|offset| offset.to_le_bytes()));
        packed.extend(b"Fogbel");
        assert_eq!(Packing::Lzx.unpacked(&packed, 6).unwrap(), b"Fogbel");
        assert!(Packing::Lzx.unpacked(&packed[..20], 6).is_none(), "it is cut short");
        // Twelve million is what calls are counted up to: one to 0x100 stands 0x100 behind the beginning less its own place.
        let (len, call) = (40u8, 5i32);
        let mut code = vec![0; usize::from(len)];
        code[5] = 0xe8;
        code[6..10].copy_from_slice(&0x100i32.to_le_bytes());
        let mut packed = vec![0x00, 0x60, 0x80, 0x02];
        packed[2..4].copy_from_slice(&(u16::from(len) << 12).to_le_bytes());
        packed[0..2].copy_from_slice(&(0x6000u16 | u16::from(len) >> 4).to_le_bytes());
        packed.extend([1u32; 3].iter().flat_map(|offset| offset.to_le_bytes()));
        packed.extend(&code);
        let out = Packing::Lzx.unpacked(&packed, len.into()).unwrap();
        assert_eq!(out[6..10], (0x100 - call).to_le_bytes());
    }

    /// What an archiver packs in chunks of the same kind, with the table before them, and the bytes that it packed.
    fn packed_elsewhere(method: &str) -> Option<(Vec<u8>, Vec<u8>)> {
        let folder = tempfile::tempdir().unwrap();
        let (tree, archive) = (folder.path().join("tree"), folder.path().join("one.wim"));
        std::fs::create_dir(&tree).unwrap();
        let noise = (0u32..70_000).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8);
        let text = (0..9_000).flat_map(|line| format!("{line}: the lamp at berth {}\n", line * line % 97).into_bytes());
        let calls = (0u32..9_000).flat_map(|i| [vec![0xe8], (i % 700).to_le_bytes().to_vec(), vec![0; 3]].concat());
        let bytes: Vec<u8> = text.chain(noise).chain(calls).chain(vec![0; 50_000]).collect();
        std::fs::write(tree.join("one.bin"), &bytes).unwrap();
        let made = std::process::Command::new("wimlib-imagex")
            .args(["capture", "--threads=1", &format!("--compress={method}")])
            .arg(format!("--chunk-size={}", if method == "LZX" { 32_768 } else { 8192 }))
            .args([&tree, &archive])
            .output();
        let Ok(made) = made else {
            eprintln!("skipped: there is no wimlib-imagex here to hold this against");
            return None;
        };
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        // Its header says at 48 where the table of its streams stands: of 50 bytes each, seven with the length, a byte of flags
        // (4: packed), where it stands, and the length that it becomes.
        let archive = std::fs::read(archive).unwrap();
        let place = |at: usize| (crate::num::le64(&archive, at + 8) as usize, crate::num::le64(&archive, at) as usize);
        let (table, len) = place(48);
        let entry = (0..(len & 0xff_ffff) / 50).map(|entry| table + entry * 50);
        let own = entry.into_iter().find(|at| crate::num::le64(&archive, at + 16) as usize == bytes.len()).unwrap();
        assert!(archive[own + 7] & 4 != 0, "it is packed");
        let (from, len) = place(own);
        let len = len & 0xff_ffff_ffff_ffff;
        Some((archive[from..from + len].to_vec(), bytes))
    }

    #[test]
    fn what_an_archiver_packs_in_such_chunks_is_read() {
        for (method, packing) in [("LZX", Packing::Lzx), ("XPRESS", Packing::Xpress(8192))] {
            let Some((stream, bytes)) = packed_elsewhere(method) else { return };
            assert!(stream.len() < bytes.len() / 2, "{method}: {} of {}", stream.len(), bytes.len());
            let file = Cached::new(Chunks::new(Arc::new(Bytes(stream)), bytes.len() as u64, packing).unwrap(), 2);
            let mut out = vec![0; bytes.len()];
            file.read_at(0, &mut out).unwrap();
            assert!(out == bytes, "{method}");
        }
    }

    #[test]
    fn the_tag_says_how_a_file_is_packed() {
        let value = |provider: u32, algorithm: u32| -> Vec<u8> {
            [TAG, 16, 1, provider, 1, algorithm].iter().flat_map(|word| word.to_le_bytes()).collect()
        };
        assert_eq!(packing(&value(2, 0)), Some(Packing::Xpress(4096)));
        assert_eq!(
            (packing(&value(2, 1)), packing(&value(2, 3))),
            (Some(Packing::Lzx), Some(Packing::Xpress(16 << 10)))
        );
        assert_eq!((packing(&value(1, 0)), packing(&value(2, 9)), packing(&value(2, 0)[..20])), (None, None, None));
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(body in proptest::collection::vec(any::<u8>(), 0..300), wanted in 0usize..5000) {
            for head in [alphabet()[..LENGTHS].to_vec(), repeated()[..LENGTHS].to_vec(), Vec::new()] {
                for packing in [Packing::Xpress(8192), Packing::Lzx] {
                    if let Some(out) = packing.unpacked(&[&head[..], &body].concat(), wanted) {
                        prop_assert_eq!(out.len(), wanted);
                    }
                }
            }
        }
    }
}
