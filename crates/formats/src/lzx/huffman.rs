//! Canonical Huffman codes of up to 16 bits, and the bits that LZX reads them from: words of 16, lowest byte first, whose
//! highest bit comes first.

/// The longest code.
const MOST_BITS: usize = 16;
/// Marks an entry that leads to a second table.
const LONG: u16 = 0x8000;

/// A code, as a table of what follows from the next `N` bits, and of more bits where that is not enough.
pub(super) struct Code<const N: usize> {
    /// `symbol << 5 | length`, 0 for bits that begin no code; or [`LONG`] with the number of a second table.
    table: Vec<u16>,
    is_empty: bool,
}

impl<const N: usize> Clone for Code<N> {
    fn clone(&self) -> Self {
        Self { table: self.table.clone(), is_empty: self.is_empty }
    }
}

impl<const N: usize> Code<N> {
    const SECOND: usize = 1 << (MOST_BITS - N);

    pub(super) fn new() -> Self {
        Self { table: vec![0; 1 << N], is_empty: true }
    }

    /// Takes the lengths of all codes; false for lengths that no code has: too many of some, or too few.
    ///
    /// Without any code it is empty, which is no fault until a symbol is read.
    pub(super) fn set(&mut self, lens: &[u8]) -> bool {
        self.table.clear();
        self.table.resize(1 << N, 0);
        let mut counts = [0u32; MOST_BITS + 1];
        lens.iter().for_each(|&len| counts[usize::from(len)] += 1);
        self.is_empty = counts[0] as usize == lens.len();
        if self.is_empty {
            return true;
        }
        counts[0] = 0;
        let (mut next, mut code) = ([0u32; MOST_BITS + 1], 0u32);
        for len in 1..=MOST_BITS {
            code = (code + counts[len - 1]) << 1;
            next[len] = code;
            if code + counts[len] > 1 << len {
                return false;
            }
        }
        if code + counts[MOST_BITS] != 1 << MOST_BITS {
            return false;
        }
        for (symbol, &len) in lens.iter().enumerate().filter(|(_, len)| **len > 0) {
            let bits = usize::from(len);
            let code = next[bits] as usize;
            next[bits] += 1;
            let entry = (symbol as u16) << 5 | u16::from(len);
            let at = code << (MOST_BITS - bits);
            if bits <= N {
                let at = at >> (MOST_BITS - N);
                self.table[at..at + (1 << (N - bits))].fill(entry);
                continue;
            }
            let first = at >> (MOST_BITS - N);
            if self.table[first] == 0 {
                let number = (self.table.len() - (1 << N)) / Self::SECOND;
                self.table[first] = LONG | number as u16;
                self.table.resize(self.table.len() + Self::SECOND, 0);
            }
            let second = usize::from(self.table[first] & !LONG);
            let at = (1 << N) + second * Self::SECOND + (at & (Self::SECOND - 1));
            self.table[at..at + (1 << (MOST_BITS - bits))].fill(entry);
        }
        true
    }

    /// The next symbol; `None` where there is no code.
    #[inline(always)]
    pub(super) fn read(&self, bits: &mut Bits<'_>) -> Option<usize> {
        bits.fill();
        let next = bits.peek(MOST_BITS as u32) as usize;
        let mut entry = *self.table.get(next >> (MOST_BITS - N))?;
        if entry & LONG != 0 {
            let at = (1 << N) + usize::from(entry & !LONG) * Self::SECOND + (next & (Self::SECOND - 1));
            entry = *self.table.get(at)?;
        }
        bits.drop(u32::from(entry & 31));
        (entry != 0).then_some(usize::from(entry >> 5))
    }

    /// Whether it has no code at all.
    pub(super) fn is_empty(&self) -> bool {
        self.is_empty
    }
}

/// The bits of a stretch of packed bytes. Behind its end they are zeros.
pub(super) struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
    buffer: u64,
    /// Bits in the buffer, from its highest on.
    held: u32,
}

impl<'a> Bits<'a> {
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0, buffer: 0, held: 0 }
    }

    /// Makes sure that there are 32 bits.
    #[inline(always)]
    pub(super) fn fill(&mut self) {
        if self.held >= 32 {
            return;
        }
        if let Some(next) = self.bytes.get(self.at..self.at + 4) {
            let word = u32::from_le_bytes([next[0], next[1], next[2], next[3]]).rotate_left(16);
            self.buffer |= u64::from(word) << (32 - self.held);
            self.at += 4;
            self.held += 32;
            return;
        }
        self.fill_at_end();
    }

    #[cold]
    fn fill_at_end(&mut self) {
        while self.held <= 48 {
            let byte = |at: usize| self.bytes.get(at).copied().unwrap_or(0);
            let word = u16::from_le_bytes([byte(self.at), byte(self.at + 1)]);
            self.buffer |= u64::from(word) << (48 - self.held);
            self.at += 2;
            self.held += 16;
        }
    }

    #[inline(always)]
    fn peek(&self, count: u32) -> u32 {
        (self.buffer >> (64 - count)) as u32
    }

    #[inline(always)]
    fn drop(&mut self, count: u32) {
        self.buffer <<= count;
        self.held -= count;
    }

    /// The next `count` bits, at most 17.
    #[inline(always)]
    pub(super) fn take(&mut self, count: u32) -> u32 {
        if count == 0 {
            return 0;
        }
        self.fill();
        let bits = self.peek(count);
        self.drop(count);
        bits
    }

    /// Goes on at the next word; `or_a_whole_one` passes one over where it stands at its beginning already.
    pub(super) fn align(&mut self, or_a_whole_one: bool) {
        let part = self.held % 16;
        if part == 0 && or_a_whole_one {
            self.fill();
            self.drop(16);
        }
        self.drop(part);
    }

    /// Takes bytes as they stand; it must have been aligned. `None` where they are not there.
    pub(super) fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let at = self.place();
        let found = self.bytes.get(at..at.checked_add(count)?)?;
        (self.at, self.buffer, self.held) = (at + count, 0, 0);
        Some(found)
    }

    /// How many bytes were used, whole words of 16 bits counted as used.
    pub(super) fn place(&self) -> usize {
        self.at - (self.held / 16 * 2) as usize
    }

    /// Whether bits were used that are not there.
    pub(super) fn is_past_end(&self) -> bool {
        self.place() > self.bytes.len().next_multiple_of(2)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Codes 0, 10, 110 and 111 for the symbols 3, 0, 1 and 2; the bits 0 10 110 111 0 .. in one word.
    #[test]
    fn symbols_by_hand() {
        let mut code = Code::<2>::new();
        assert!(code.set(&[2, 3, 3, 1]));
        let word: u16 = 0b0101_1011_1000_0000;
        let bytes = word.to_le_bytes();
        let mut bits = Bits::new(&bytes);
        let found: Vec<_> = (0..5).map(|_| code.read(&mut bits).unwrap()).collect();
        assert_eq!(found, [3, 0, 1, 2, 3]);
        assert!(!bits.is_past_end());
    }

    #[test]
    fn lengths_that_no_code_has_are_refused() {
        let mut code = Code::<4>::new();
        assert!(!code.set(&[1, 1, 1]) && !code.set(&[1, 2]) && !code.set(&[16]));
        assert!(code.set(&[0, 0, 0]) && code.is_empty());
        assert!(code.set(&[1, 1]) && !code.is_empty());
    }

    #[test]
    fn long_codes_are_found_by_their_second_table() {
        let lens: Vec<u8> = (1..=16).chain([16]).collect();
        let mut code = Code::<3>::new();
        assert!(code.set(&lens));
        // Sixteen ones: the last code; fifteen and a zero: the one before.
        for (word, symbol) in [(0xffff_u16, 16), (0xfffe, 15), (0xfffc, 14), (0x0000, 0)] {
            let bytes = [word.to_le_bytes(), [0; 2]].concat();
            assert_eq!(code.read(&mut Bits::new(&bytes)), Some(symbol), "{word:#x}");
        }
    }

    #[test]
    fn bits_and_bytes_take_turns() {
        let bytes = [0x34, 0x12, 0x78, 0x56, 9, 8, 7, 6];
        let mut bits = Bits::new(&bytes);
        assert_eq!((bits.take(4), bits.take(8)), (1, 0x23));
        bits.align(true);
        assert_eq!(bits.place(), 2);
        assert_eq!(bits.bytes(3), Some(&[0x78, 0x56, 9][..]));
        assert_eq!(bits.bytes(3), Some(&[8, 7, 6][..]));
        assert!(bits.bytes(1).is_none());
        let mut bits = Bits::new(&bytes[..2]);
        bits.take(16);
        assert!(!bits.is_past_end());
        bits.align(true);
        assert!(bits.is_past_end());
    }
}
