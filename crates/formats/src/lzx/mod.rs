//! LZX as cabinets and programs of the 360 generation have it: one stream in frames of 32 KiB, each packed by itself. And as a file
//! system has it: every chunk a stream of its own, with shorter headers.
//!
//! Layout: docs/formats/cab.md, docs/formats/ntfs.md.

mod huffman;

use huffman::{Bits, Code};

/// Bytes that a frame gives, but for the last.
pub(crate) const FRAME: usize = 32 << 10;

/// What is wrong with packed bytes, in words.
pub(crate) type Trouble = &'static str;

/// Bytes, then matches: eight lengths for each slot of offsets.
const LITERALS: usize = 256;
const MOST_MAIN: usize = LITERALS + 8 * 50;
const LENGTHS: usize = 249;
/// The shortest match, and what longer ones have in the main code.
const SHORTEST: usize = 2;
const LONGER: usize = 7;
/// Frames whose calls are changed at most: those of the first GiB.
const MOST_CALLS: u64 = 32_768;
/// Room behind the end of the window, for matches that are copied in whole chunks.
const SLACK: usize = 320;
const CHUNK: usize = 16;
/// Packed bytes that a block leaves to the next one.
const MOST_REST: usize = 64 << 10;

/// What packing by chunks takes for the length of a file whose calls are changed.
const LENGTH_OF_CHUNKS: u32 = 12_000_000;

/// Slots of offsets for windows of 15 to 21 bits.
const SLOTS: [usize; 7] = [30, 32, 34, 36, 38, 42, 50];

const EXTRA_BITS: [u32; 50] = {
    let mut bits = [0; 50];
    let mut slot = 4;
    while slot < 50 {
        bits[slot] = if slot < 36 { (slot as u32 - 2) / 2 } else { 17 };
        slot += 1;
    }
    bits
};

const FIRST_OFFSET: [u32; 50] = {
    let mut first = [0; 50];
    let mut slot = 1;
    while slot < 50 {
        first[slot] = first[slot - 1] + (1 << EXTRA_BITS[slot - 1]);
        slot += 1;
    }
    first
};

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Verbatim,
    Aligned,
    Stored,
}

/// A stream that is being unpacked.
pub(crate) struct Lzx {
    bits: u32,
    /// What was unpacked last, the window and some more; `end` is where it goes on.
    buffer: Vec<u8>,
    end: usize,
    /// Bytes unpacked so far.
    out: u64,
    recent: [u32; 3],
    main_lens: [u8; MOST_MAIN],
    length_lens: [u8; LENGTHS],
    main: Code<11>,
    lengths: Code<10>,
    aligned: Code<7>,
    kind: Kind,
    /// Bytes of the block that are left, and whether it has an odd number of them.
    left: usize,
    is_odd: bool,
    /// Whether the header of a block has one bit for the usual length, and 16 for others.
    is_by_chunks: bool,
    /// Bytes of the file whose calls are changed; `None` before the stream has said it.
    calls: Option<u32>,
    has_calls: bool,
    /// Packed bytes of the block before that were not used: the stream does not end with it.
    rest: Vec<u8>,
}

impl Lzx {
    /// One with a window of `bits` bits, 15 to 21.
    pub(crate) fn new(bits: u32) -> Self {
        let window = 1 << bits;
        Self {
            bits,
            buffer: vec![0; window * 2 + FRAME + SLACK],
            end: 0,
            out: 0,
            recent: [1; 3],
            main_lens: [0; MOST_MAIN],
            length_lens: [0; LENGTHS],
            main: Code::new(),
            lengths: Code::new(),
            aligned: Code::new(),
            kind: Kind::Verbatim,
            left: 0,
            is_odd: false,
            is_by_chunks: false,
            calls: None,
            has_calls: false,
            rest: Vec::new(),
        }
    }

    /// One for a chunk that was packed by itself, of 32 KiB at most: no word of calls at the beginning, and lengths of blocks in 16
    /// bits.
    pub(crate) fn of_chunk() -> Self {
        Self { is_by_chunks: true, calls: Some(LENGTH_OF_CHUNKS), ..Self::new(15) }
    }

    /// The same with no more than is needed to go on.
    pub(crate) fn kept(&self) -> Self {
        let from = self.end.saturating_sub(1 << self.bits);
        Self {
            buffer: self.buffer[from..self.end].to_vec(),
            end: self.end - from,
            main: self.main.clone(),
            lengths: self.lengths.clone(),
            aligned: self.aligned.clone(),
            rest: self.rest.clone(),
            ..*self
        }
    }

    /// One that can go on from what was kept.
    pub(crate) fn again(&self) -> Self {
        let mut own = self.kept();
        own.buffer.resize((1 << self.bits) * 2 + FRAME + SLACK, 0);
        own
    }

    /// Bytes of memory.
    pub(crate) fn size(bits: u32) -> usize {
        (1 << bits) + (32 << 10)
    }

    /// Unpacks one frame into `out`, which has as many bytes as it should give.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub(crate) fn frame(&mut self, packed: &[u8], out: &mut [u8]) -> Result<(), Trouble> {
        if self.end + out.len() + SLACK > self.buffer.len() {
            let from = self.end - (1 << self.bits);
            self.buffer.copy_within(from..self.end, 0);
            self.end -= from;
        }
        let mut joined = std::mem::take(&mut self.rest);
        let packed = match joined.is_empty() {
            true => packed,
            false => {
                joined.extend_from_slice(packed);
                &joined
            }
        };
        let mut bits = Bits::new(packed);
        if self.calls.is_none() {
            let has_calls = bits.take(1) == 1;
            self.calls = Some(if has_calls { bits.take(16) << 16 | bits.take(16) } else { 0 });
        }
        let (start, stop) = (self.end, self.end + out.len());
        while self.end < stop {
            if self.left == 0 {
                self.block(&mut bits)?;
            }
            let to = stop.min(self.end + self.left);
            let from = self.end;
            match self.kind {
                Kind::Stored => {
                    let bytes = bits.bytes(to - from).ok_or("its stored bytes are cut short")?;
                    self.buffer[from..to].copy_from_slice(bytes);
                    self.end = to;
                }
                Kind::Verbatim => self.matches::<false>(&mut bits, start, to)?,
                Kind::Aligned => self.matches::<true>(&mut bits, start, to)?,
            }
            if self.end != to {
                return Err("a match reaches over the end of its block");
            }
            self.left -= to - from;
            if bits.is_past_end() {
                return Err("it ends before it is unpacked");
            }
        }
        bits.align(false);
        let rest = packed.get(bits.place()..).unwrap_or_default();
        if rest.len() > MOST_REST {
            return Err("most of its packed bytes belong to nothing");
        }
        self.rest = rest.to_vec();
        out.copy_from_slice(&self.buffer[start..stop]);
        self.change_calls(out);
        self.out += out.len() as u64;
        Ok(())
    }

    /// The header of a block.
    fn block(&mut self, bits: &mut Bits<'_>) -> Result<(), Trouble> {
        if self.kind == Kind::Stored && self.is_odd {
            bits.bytes(1).ok_or("it ends before it is unpacked")?;
        }
        let kind = bits.take(3);
        let len = match self.is_by_chunks {
            true if bits.take(1) == 1 => FRAME,
            true => bits.take(16) as usize,
            false => (bits.take(16) << 8 | bits.take(8)) as usize,
        };
        (self.left, self.is_odd) = (len, len % 2 == 1);
        match kind {
            1 => self.kind = Kind::Verbatim,
            2 => {
                self.kind = Kind::Aligned;
                let lens: [u8; 8] = std::array::from_fn(|_| bits.take(3) as u8);
                if !self.aligned.set(&lens) {
                    return Err("the lengths of its aligned code fit no code");
                }
            }
            3 => {
                self.kind = Kind::Stored;
                self.has_calls = true;
                bits.align(true);
                let raw = bits.bytes(12).ok_or("the offsets of a stored block are cut short")?;
                for (recent, raw) in self.recent.iter_mut().zip(raw.chunks_exact(4)) {
                    *recent = u32::from_le_bytes([raw[0], raw[1], raw[2], raw[3]]);
                }
            }
            _ => return Err("it has a block of a kind that there is not"),
        }
        if len == 0 {
            return Err("it has a block of no bytes");
        }
        if self.kind != Kind::Stored {
            let main = LITERALS + 8 * SLOTS[self.bits as usize - 15];
            lens(bits, &mut self.main_lens[..LITERALS])?;
            lens(bits, &mut self.main_lens[LITERALS..main])?;
            if !self.main.set(&self.main_lens[..main]) || self.main.is_empty() {
                return Err("the lengths of its main code fit no code");
            }
            self.has_calls |= self.main_lens[0xe8] != 0;
            lens(bits, &mut self.length_lens)?;
            if !self.lengths.set(&self.length_lens) {
                return Err("the lengths of its code of lengths fit no code");
            }
        }
        Ok(())
    }

    /// Bytes and matches up to `to`, in a frame that begins at `start`.
    fn matches<const ALIGNED: bool>(&mut self, bits: &mut Bits<'_>, start: usize, to: usize) -> Result<(), Trouble> {
        let mut at = self.end;
        let [mut r0, mut r1, mut r2] = self.recent;
        // Bytes that there are to refer to, up to the beginning of the frame.
        let before = self.out;
        while at < to {
            let symbol = self.main.read(bits).ok_or("it has bits that are no code")?;
            if symbol < LITERALS {
                self.buffer[at] = symbol as u8;
                at += 1;
                continue;
            }
            let symbol = symbol - LITERALS;
            let mut len = symbol % 8;
            if len == LONGER {
                len += self.lengths.read(bits).ok_or("it has bits that are no length")?;
            }
            len += SHORTEST;
            let offset = match symbol / 8 {
                0 => r0,
                1 => {
                    std::mem::swap(&mut r0, &mut r1);
                    r0
                }
                2 => {
                    std::mem::swap(&mut r0, &mut r2);
                    r0
                }
                slot => {
                    let (extra, mut offset) = (EXTRA_BITS[slot], FIRST_OFFSET[slot] - 2);
                    if ALIGNED && extra >= 3 {
                        offset += bits.take(extra - 3) << 3;
                        offset += self.aligned.read(bits).ok_or("it has bits that are no aligned offset")? as u32;
                    } else {
                        offset += bits.take(extra);
                    }
                    (r0, r1, r2) = (offset, r0, r1);
                    offset
                }
            };
            if offset == 0 || u64::from(offset) > before + (at - start) as u64 || offset as usize > at || at + len > to
            {
                return Err("a match reaches to where nothing is");
            }
            copy(&mut self.buffer, at, offset as usize, len);
            at += len;
        }
        self.end = at;
        self.recent = [r0, r1, r2];
        Ok(())
    }

    /// Turns the targets of calls, which were made absolute before packing, into distances again.
    fn change_calls(&self, out: &mut [u8]) {
        let size = self.calls.unwrap_or(0);
        if size == 0 || !self.has_calls || self.out / FRAME as u64 >= MOST_CALLS || out.len() <= 10 {
            return;
        }
        let (mut at, last) = (0, out.len() - 10);
        while let Some(next) = memchr::memchr(0xe8, &out[at..last]) {
            at += next;
            let here = (self.out + at as u64) as i32;
            let target = i32::from_le_bytes([out[at + 1], out[at + 2], out[at + 3], out[at + 4]]);
            if target >= -here && target < size as i32 {
                let distance = if target >= 0 { target - here } else { target + size as i32 };
                out[at + 1..at + 5].copy_from_slice(&distance.to_le_bytes());
            }
            at += 5;
            if at >= last {
                break;
            }
        }
    }
}

/// Copies `len` bytes from `offset` bytes before, some of which may be those that are being copied. There is room behind.
#[inline(always)]
fn copy(buffer: &mut [u8], at: usize, offset: usize, len: usize) {
    let from = at - offset;
    if offset >= CHUNK {
        let mut done = 0;
        while done < len {
            let mut chunk = [0; CHUNK];
            chunk.copy_from_slice(&buffer[from + done..from + done + CHUNK]);
            buffer[at + done..at + done + CHUNK].copy_from_slice(&chunk);
            done += CHUNK;
        }
        return;
    }
    let window = &mut buffer[from..at + len];
    match offset {
        1 => {
            let byte = window[0];
            window[1..].fill(byte);
        }
        _ => {
            for i in offset..window.len() {
                window[i] = window[i - offset];
            }
        }
    }
}

/// Reads lengths of codes, as differences to those before.
fn lens(bits: &mut Bits<'_>, own: &mut [u8]) -> Result<(), Trouble> {
    let lens: [u8; 20] = std::array::from_fn(|_| bits.take(4) as u8);
    let mut code = Code::<8>::new();
    if !code.set(&lens) || code.is_empty() {
        return Err("the lengths of the code for its lengths fit no code");
    }
    let read = |bits: &mut Bits<'_>| code.read(bits).ok_or("it has bits that are no length of a code");
    let mut at = 0;
    while at < own.len() {
        let symbol = read(bits)?;
        let (value, count) = match symbol {
            17 => (0, 4 + bits.take(4) as usize),
            18 => (0, 20 + bits.take(5) as usize),
            19 => {
                let count = 4 + bits.take(1) as usize;
                let symbol = read(bits)?;
                if symbol > 16 {
                    return Err("it repeats a length that is none");
                }
                (less(own[at], symbol as u8), count)
            }
            symbol => (less(own[at], symbol as u8), 1),
        };
        own.get_mut(at..at + count).ok_or("it has more lengths than symbols")?.fill(value);
        at += count;
    }
    Ok(())
}

/// A length that is `by` less, modulo 17.
fn less(len: u8, by: u8) -> u8 {
    (len + 17 - by) % 17
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slots_of_offsets_are_those_of_the_description() {
        assert_eq!(&EXTRA_BITS[..10], &[0, 0, 0, 0, 1, 1, 2, 2, 3, 3]);
        assert_eq!((EXTRA_BITS[34], EXTRA_BITS[36], EXTRA_BITS[49]), (16, 17, 17));
        assert_eq!(&FIRST_OFFSET[..8], &[0, 1, 2, 3, 4, 6, 8, 12]);
        assert_eq!((FIRST_OFFSET[30], FIRST_OFFSET[36], FIRST_OFFSET[49]), (32_768, 262_144, 1_966_080));
    }

    /// A stored block: no calls; kind 3, 6 bytes; offsets 1, 1, 1; the bytes.
    #[test]
    fn a_stored_block_by_hand() {
        // 0 | 011 | 0000000000000000 00000110 and padding up to a word: 28 bits, so two words.
        let bits: u32 = 0b0011_0000_0000_0000_0000_0000_0110_0000;
        let words = [(bits >> 16) as u16, bits as u16];
        let mut packed: Vec<u8> = words.iter().flat_map(|w| w.to_le_bytes()).collect();
        packed.extend([1u32; 3].iter().flat_map(|r| r.to_le_bytes()));
        packed.extend(b"Fogbel");
        let mut out = [0; 6];
        Lzx::new(15).frame(&packed, &mut out).unwrap();
        assert_eq!(&out, b"Fogbel");
        assert!(Lzx::new(15).frame(&packed[..20], &mut out).is_err());
    }

    #[test]
    fn calls_become_distances() {
        let mut own = Lzx::new(15);
        (own.calls, own.has_calls, own.out) = (Some(0x1000), true, 0x20);
        let mut out = vec![0; 32];
        out[4] = 0xe8;
        out[5..9].copy_from_slice(&0x124_i32.to_le_bytes());
        // Behind the last ten bytes nothing is changed.
        out[23] = 0xe8;
        own.change_calls(&mut out);
        assert_eq!(&out[4..9], &[0xe8, 0x00, 0x01, 0, 0]);
        assert_eq!(&out[23..28], &[0xe8, 0, 0, 0, 0]);
    }

    proptest::proptest! {
        #[test]
        fn nonsense_is_an_error_or_bytes(packed in proptest::collection::vec(proptest::num::u8::ANY, 0..400), bits in 15u32..22) {
            let mut own = Lzx::new(bits);
            let mut out = vec![0; FRAME];
            for _ in 0..3 {
                if own.frame(&packed, &mut out).is_err() {
                    break;
                }
            }
        }
    }
}
