//! Bits, the highest of a byte first, as the hunk map and the Huffman codec have them.

/// Reads bits; past the end they are zeros, which [`BitReader::is_past_end`] tells.
pub(super) struct BitReader<'a> {
    bytes: &'a [u8],
    next: usize,
    held: u64,
    count: u32,
    borrowed: u32,
}

impl<'a> BitReader<'a> {
    pub(super) fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, next: 0, held: 0, count: 0, borrowed: 0 }
    }

    /// The next `bits` bits, at most 32, without taking them.
    pub(super) fn peek(&mut self, bits: u32) -> u32 {
        while self.count < bits {
            let byte = self.bytes.get(self.next).copied();
            self.next += usize::from(byte.is_some());
            self.borrowed += if byte.is_none() { 8 } else { 0 };
            self.held = self.held << 8 | u64::from(byte.unwrap_or(0));
            self.count += 8;
        }
        let mask = (1u64 << bits) - 1;
        (self.held >> (self.count - bits) & mask) as u32
    }

    /// Takes `bits` bits that were looked at.
    pub(super) fn skip(&mut self, bits: u32) {
        self.count -= bits;
    }

    /// Takes the next `bits` bits, at most 32.
    pub(super) fn read(&mut self, bits: u32) -> u32 {
        let value = self.peek(bits);
        self.skip(bits);
        value
    }

    /// Whether bits were taken that are not there.
    pub(super) fn is_past_end(&self) -> bool {
        self.borrowed > self.count
    }
}

/// Writes bits.
#[derive(Default)]
pub(super) struct BitWriter {
    bytes: Vec<u8>,
    held: u64,
    count: u32,
}

impl BitWriter {
    /// Adds the lowest `bits` bits of `value`, at most 32.
    pub(super) fn write(&mut self, value: u32, bits: u32) {
        let mask = (1u64 << bits) - 1;
        self.held = self.held << bits | u64::from(value) & mask;
        self.count += bits;
        while self.count >= 8 {
            self.count -= 8;
            self.bytes.push((self.held >> self.count) as u8);
        }
    }

    /// Fills the last byte up with zeros.
    pub(super) fn align(&mut self) {
        if self.count > 0 {
            self.write(0, 8 - self.count);
        }
    }

    /// What was written so far, in whole bytes.
    pub(super) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Everything, the last byte filled up with zeros.
    pub(super) fn finish(mut self) -> Vec<u8> {
        self.align();
        self.bytes
    }
}

/// Bits that `value` takes.
pub(super) fn width(value: u32) -> u32 {
    u32::BITS - value.leading_zeros()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_highest_bit_comes_first() {
        let mut bits = BitReader::new(&[0b1010_0001, 0xff]);
        assert_eq!((bits.read(1), bits.read(3), bits.read(4), bits.read(8)), (1, 0b010, 1, 0xff));
        assert!(!bits.is_past_end());
        assert_eq!((bits.read(4), bits.is_past_end()), (0, true));
        assert_eq!((width(0), width(1), width(256)), (0, 1, 9));
    }

    proptest! {
        #[test]
        fn what_was_written_is_read(values in proptest::collection::vec((any::<u32>(), 1u32..=32), 0..50)) {
            let mut writer = BitWriter::default();
            values.iter().for_each(|&(v, n)| writer.write(v, n));
            let bytes = writer.finish();
            let mut reader = BitReader::new(&bytes);
            for (value, bits) in values {
                prop_assert_eq!(u64::from(reader.read(bits)), u64::from(value) & ((1u64 << bits) - 1));
            }
            prop_assert!(!reader.is_past_end());
        }
    }
}
