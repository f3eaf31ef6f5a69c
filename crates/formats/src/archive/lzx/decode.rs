//! The decoder: Huffman codes and copies from up to 64 KiB back, in blocks that may bring new codes.
//!
//! Bits are taken lowest first from words of two bytes, the high byte first. A code's first bit is its highest.

use std::sync::LazyLock;

/// Symbols: 256 bytes, then sixteen lengths of copies for each of 32 distances.
const SYMBOLS: usize = 768;
/// Symbols of the code for lengths, and of the code for the lower bits of distances.
const LENGTH_SYMBOLS: usize = 20;
const ALIGNED_SYMBOLS: usize = 8;
/// Longest code.
const MOST_BITS: usize = 16;
/// Bytes that copies may reach back.
const WINDOW: usize = 1 << 16;

/// For each slot of a distance or a length: its first value and the bits that follow.
static SLOTS: LazyLock<[(usize, u32); 32]> = LazyLock::new(|| {
    std::array::from_fn(|slot| {
        let bits = (slot as u32 / 2).saturating_sub(1);
        let first = if slot < 2 { slot } else { (2 + slot % 2) << bits };
        (first, bits)
    })
});

/// Bits of a packed group.
struct Bits<'a> {
    packed: &'a [u8],
    at: usize,
    held: u64,
    count: u32,
}

impl Bits<'_> {
    /// The next `bits` bits, at most 16; `None` past the end.
    fn take(&mut self, bits: u32) -> Option<u32> {
        if self.count < bits {
            let high = *self.packed.get(self.at)?;
            // The last word may lack its second byte.
            let low = self.packed.get(self.at + 1).copied().unwrap_or(0);
            self.held |= u64::from(u16::from_be_bytes([high, low])) << self.count;
            self.at += 2;
            self.count += 16;
        }
        let value = (self.held & ((1 << bits) - 1)) as u32;
        self.held >>= bits;
        self.count -= bits;
        Some(value)
    }
}

/// A canonical code.
#[derive(Default)]
struct Code {
    /// How many symbols have a code of each length.
    counts: [u16; MOST_BITS + 1],
    /// The symbols, by their codes.
    symbols: Vec<u16>,
}

impl Code {
    /// The code with these lengths; `None` if they are too many for their lengths.
    fn new(lengths: &[u8]) -> Option<Self> {
        let mut code = Self::default();
        for &len in lengths {
            code.counts[usize::from(len)] += 1;
        }
        code.counts[0] = 0;
        let mut left = 1i32;
        for count in &code.counts[1..] {
            left = left * 2 - i32::from(*count);
            if left < 0 {
                return None;
            }
        }
        for len in 1..=MOST_BITS as u8 {
            code.symbols.extend((0..lengths.len() as u16).filter(|s| lengths[usize::from(*s)] == len));
        }
        Some(code)
    }

    fn read(&self, bits: &mut Bits<'_>) -> Option<usize> {
        let (mut code, mut first, mut index) = (0u32, 0u32, 0usize);
        for count in &self.counts[1..] {
            code |= bits.take(1)?;
            let count = u32::from(*count);
            if code < first + count {
                return self.symbols.get(index + (code - first) as usize).map(|s| usize::from(*s));
            }
            index += count as usize;
            first = (first + count) << 1;
            code <<= 1;
        }
        None
    }
}

/// Unpacks a group, file after file.
pub(super) struct Decoder<'a> {
    bits: Bits<'a>,
    lengths: [u8; SYMBOLS],
    code: Code,
    aligned: Code,
    is_aligned: bool,
    /// Bytes that the current block still gives.
    left: usize,
    last: usize,
    window: Vec<u8>,
    at: usize,
    /// A copy that reaches beyond what was asked for: bytes still to come.
    pending: usize,
}

impl<'a> Decoder<'a> {
    pub(super) fn new(packed: &'a [u8]) -> Self {
        Self {
            bits: Bits { packed, at: 0, held: 0, count: 0 },
            lengths: [0; SYMBOLS],
            code: Code::default(),
            aligned: Code::default(),
            is_aligned: false,
            left: 0,
            last: 1,
            window: vec![0; WINDOW],
            at: 0,
            pending: 0,
        }
    }

    /// The next `len` bytes; `None` where the group is damaged or ends.
    pub(super) fn read(&mut self, len: usize) -> Option<Vec<u8>> {
        let mut out = Vec::with_capacity(len.min(1 << 20));
        while out.len() < len {
            if self.pending > 0 {
                let byte = self.window[(self.at + WINDOW - self.last) % WINDOW];
                self.push(byte, &mut out);
                self.pending -= 1;
                continue;
            }
            if self.left == 0 {
                self.block()?;
                continue;
            }
            match self.code.read(&mut self.bits)? {
                byte @ 0..256 => {
                    self.push(byte as u8, &mut out);
                    self.left -= 1;
                }
                symbol => {
                    let (distance, len) = ((symbol - 256) & 31, (symbol - 256) >> 5);
                    let (first, bits) = SLOTS[distance];
                    let back = if bits >= 3 && self.is_aligned {
                        first + ((self.bits.take(bits - 3)? as usize) << 3) + self.aligned.read(&mut self.bits)?
                    } else {
                        match first + self.bits.take(bits)? as usize {
                            0 => self.last,
                            back => back,
                        }
                    };
                    self.last = back;
                    let (first, bits) = SLOTS[len];
                    self.pending = first + self.bits.take(bits)? as usize + 3;
                    self.left = self.left.saturating_sub(self.pending);
                }
            }
        }
        Some(out)
    }

    fn push(&mut self, byte: u8, out: &mut Vec<u8>) {
        self.window[self.at] = byte;
        self.at = (self.at + 1) % WINDOW;
        out.push(byte);
    }

    /// The head of a block: what is new of the codes, and how many bytes it gives.
    fn block(&mut self) -> Option<()> {
        let kind = self.bits.take(3)?;
        if !(1..=3).contains(&kind) {
            return None;
        }
        self.is_aligned = kind == 3;
        if kind == 3 {
            let mut lengths = [0; ALIGNED_SYMBOLS];
            for len in &mut lengths {
                *len = self.bits.take(3)? as u8;
            }
            self.aligned = Code::new(&lengths)?;
        }
        for _ in 0..3 {
            self.left = self.left << 8 | self.bits.take(8)? as usize;
        }
        if kind != 1 {
            self.read_lengths(0..256, 1)?;
            self.read_lengths(256..SYMBOLS, 0)?;
            self.code = Code::new(&self.lengths)?;
        }
        Some(())
    }

    /// Lengths of codes as differences to those of the block before. `more` is what runs of bytes are longer by.
    fn read_lengths(&mut self, range: std::ops::Range<usize>, more: usize) -> Option<()> {
        let mut own = [0; LENGTH_SYMBOLS];
        for len in &mut own {
            *len = self.bits.take(4)? as u8;
        }
        let code = Code::new(&own)?;
        let mut at = range.start;
        while at < range.end {
            let changed = |old: u8, symbol: usize| ((usize::from(old) + 17 - symbol) % 17) as u8;
            let (count, value) = match code.read(&mut self.bits)? {
                17 => (3 + more + self.bits.take(4)? as usize, 0),
                18 => (19 + more + self.bits.take(6 - more as u32)? as usize, 0),
                19 => {
                    let count = 3 + more + self.bits.take(1)? as usize;
                    let symbol = code.read(&mut self.bits)?;
                    if symbol > 16 {
                        return None;
                    }
                    (count, changed(self.lengths[at], symbol))
                }
                symbol => (1, changed(self.lengths[at], symbol)),
            };
            let end = (at + count).min(range.end);
            self.lengths[at..end].fill(value);
            at = end;
        }
        Some(())
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Packs with one fixed code: nine bits for bytes, ten for copies. For tests only.
    pub(crate) fn pack(raw: &[u8]) -> Vec<u8> {
        let mut bits: Vec<bool> = Vec::new();
        let low =
            |bits: &mut Vec<bool>, value: usize, count: u32| (0..count).for_each(|i| bits.push(value >> i & 1 == 1));
        let high = |bits: &mut Vec<bool>, value: usize, count: u32| {
            (0..count).rev().for_each(|i| bits.push(value >> i & 1 == 1))
        };
        low(&mut bits, 2, 3);
        for shift in [16, 8, 0] {
            low(&mut bits, raw.len() >> shift & 255, 8);
        }
        // Bytes get length 9 (17 - 9 = 8), copies 10 (17 - 10 = 7): each by a code of one bit.
        for (symbol, count) in [(8, 256), (7, 512)] {
            (0..LENGTH_SYMBOLS).for_each(|s| low(&mut bits, usize::from(s == symbol || s == 17), 4));
            (0..count).for_each(|_| bits.push(false));
        }
        let mut at = 0;
        while at < raw.len() {
            let best = (at.saturating_sub(5000)..at)
                .map(|from| {
                    (raw[from..].iter().zip(&raw[at..]).take_while(|(a, b)| a == b).take(200).count(), at - from)
                })
                .max();
            match best.filter(|(len, _)| *len >= 3) {
                Some((len, back)) => {
                    let slot = |value: usize| (0..32).rev().find(|s| SLOTS[*s].0 <= value).unwrap();
                    let (d, l) = (slot(back), slot(len - 3).min(15));
                    high(&mut bits, (256 << 1) + (l << 5 | d), 10);
                    low(&mut bits, back - SLOTS[d].0, SLOTS[d].1);
                    low(&mut bits, len - 3 - SLOTS[l].0, SLOTS[l].1);
                    at += len;
                }
                None => {
                    high(&mut bits, raw[at].into(), 9);
                    at += 1;
                }
            }
        }
        bits.resize(bits.len().next_multiple_of(16), false);
        let word = |w: &[bool]| (0..16).fold(0u16, |sum, i| sum | u16::from(w[i]) << i);
        bits.chunks(16).flat_map(|w| word(w).to_be_bytes()).collect()
    }

    #[test]
    fn the_slots() {
        let firsts: Vec<usize> = SLOTS.iter().take(10).map(|s| s.0).collect();
        assert_eq!(firsts, [0, 1, 2, 3, 4, 6, 8, 12, 16, 24]);
        assert_eq!((SLOTS[4], SLOTS[31]), ((4, 1), (49152, 14)));
    }

    #[test]
    fn what_was_packed_comes_back_in_any_pieces() {
        let raw: Vec<u8> = (0..3000u32).flat_map(|i| [(i % 61) as u8, (i / 300) as u8]).collect();
        let packed = pack(&raw);
        assert!(packed.len() < raw.len());
        let mut decoder = Decoder::new(&packed);
        let mut out = decoder.read(1).unwrap();
        out.extend(decoder.read(1234).unwrap());
        out.extend(decoder.read(raw.len() - 1235).unwrap());
        assert!(out == raw);
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(packed in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = Decoder::new(&packed).read(5000);
        }
    }
}
