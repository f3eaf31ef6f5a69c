//! Canonical Huffman codes as the hunk map and the `huff` codec have them: the longest codes come first.

use super::bits::{BitReader, BitWriter};

/// A code, ready to read with.
pub(super) struct Code {
    most_bits: u32,
    /// For each `most_bits` bits: the symbol, and how many of the bits are its.
    table: Vec<(u16, u8)>,
}

/// The canonical code of each symbol with a length; `None` for lengths that no code has.
fn assign(lengths: &[u8], most_bits: u32) -> Option<Vec<u32>> {
    let mut starts = [0u32; 33];
    for &len in lengths {
        if u32::from(len) > most_bits {
            return None;
        }
        starts[usize::from(len)] += 1;
    }
    let mut start = 0;
    for len in (1..=32).rev() {
        let sum = start + starts[len];
        if len != 1 && !sum.is_multiple_of(2) {
            return None;
        }
        starts[len] = start;
        start = sum / 2;
    }
    // What is left over at the root: more than one code word of no bits would be too many.
    if start > 1 {
        return None;
    }
    let mut codes = vec![0; lengths.len()];
    for (code, &len) in codes.iter_mut().zip(lengths).filter(|(_, len)| **len > 0) {
        *code = starts[usize::from(len)];
        starts[usize::from(len)] += 1;
    }
    Some(codes)
}

impl Code {
    /// The code with these lengths, one for each symbol; `None` if there is no such code.
    pub(super) fn new(lengths: &[u8], most_bits: u32) -> Option<Self> {
        let codes = assign(lengths, most_bits)?;
        let most_bits = lengths.iter().map(|&l| u32::from(l)).max().unwrap_or(0);
        let mut table = vec![(0, 0); 1 << most_bits];
        for (symbol, (&code, &len)) in codes.iter().zip(lengths).enumerate().filter(|(_, (_, len))| **len > 0) {
            let shift = most_bits - u32::from(len);
            let first = (code << shift) as usize;
            table.get_mut(first..first + (1 << shift))?.fill((symbol as u16, len));
        }
        Some(Self { most_bits, table })
    }

    /// The next symbol; `None` for bits that are no code.
    pub(super) fn decode(&self, bits: &mut BitReader<'_>) -> Option<u16> {
        let (symbol, len) = self.table[bits.peek(self.most_bits) as usize];
        bits.skip(u32::from(len));
        (len > 0).then_some(symbol)
    }

    /// The code of the map: lengths of 4 bits, where a 1 announces a repetition.
    pub(super) fn read_of_map(bits: &mut BitReader<'_>) -> Option<Self> {
        const FIELD: u32 = 4;
        let mut lengths = Vec::with_capacity(MAP_SYMBOLS);
        while lengths.len() < MAP_SYMBOLS {
            let mut len = bits.read(FIELD) as u8;
            let mut times = 1;
            if len == 1 {
                len = bits.read(FIELD) as u8;
                times = if len == 1 { 1 } else { bits.read(FIELD) as usize + 3 };
            }
            lengths.extend(std::iter::repeat_n(len, times.min(MAP_SYMBOLS - lengths.len())));
        }
        Self::new(&lengths, MAP_BITS)
    }

    /// The code of the `huff` codec: its lengths are written in a Huffman code themselves.
    fn read_of_bytes(bits: &mut BitReader<'_>) -> Option<Self> {
        let mut small = [0; 24];
        small[0] = bits.read(3) as u8;
        let start = bits.read(3) as usize + 1;
        for len in small.iter_mut().skip(start) {
            match bits.read(3) {
                7 => break,
                value => *len = value as u8,
            }
        }
        let small = Self::new(&small, 6)?;
        let (mut lengths, mut last) = (Vec::with_capacity(256), 0);
        while lengths.len() < 256 {
            match small.decode(bits)? {
                0 => {
                    let mut times = bits.read(3) + 2;
                    times += if times == 9 { bits.read(8) } else { 0 };
                    lengths.extend(std::iter::repeat_n(last, (times as usize).min(256 - lengths.len())));
                }
                value => {
                    last = value as u8 - 1;
                    lengths.push(last);
                }
            }
        }
        Self::new(&lengths, 16)
    }
}

/// Symbols of the code of the map, and bits of its longest code.
pub(super) const MAP_SYMBOLS: usize = 16;
const MAP_BITS: u32 = 8;

/// Unpacks a hunk of the `huff` codec; false if it is damaged.
pub(super) fn unpack(packed: &[u8], out: &mut [u8]) -> bool {
    let mut bits = BitReader::new(packed);
    let Some(code) = Code::read_of_bytes(&mut bits) else { return false };
    for byte in out {
        match code.decode(&mut bits) {
            Some(symbol) => *byte = symbol as u8,
            None => return false,
        }
    }
    !bits.is_past_end()
}

/// The code of a new map for symbols that occur so often, written to `bits`: code and length of each symbol.
pub(super) fn write_of_map(counts: &[u32; MAP_SYMBOLS], bits: &mut BitWriter) -> [(u32, u32); MAP_SYMBOLS] {
    let mut weights = counts.map(u64::from);
    let lengths = loop {
        let lengths = lengths(&weights);
        if lengths.iter().all(|&l| u32::from(l) <= MAP_BITS) {
            break lengths;
        }
        // Flatter weights make shorter codes.
        weights = weights.map(|w| w.div_ceil(2));
    };
    let mut at = 0;
    while at < MAP_SYMBOLS {
        let len = lengths[at];
        let run = lengths[at..].iter().take_while(|&&l| l == len).count();
        if len == 1 {
            bits.write(1, 4);
            bits.write(1, 4);
            at += 1;
        } else if run >= 3 {
            bits.write(1, 4);
            bits.write(len.into(), 4);
            bits.write(run as u32 - 3, 4);
            at += run;
        } else {
            bits.write(len.into(), 4);
            at += 1;
        }
    }
    let codes = assign(&lengths, MAP_BITS).unwrap_or_else(|| vec![0; MAP_SYMBOLS]);
    std::array::from_fn(|i| (codes[i], u32::from(lengths[i])))
}

/// Lengths of a Huffman code for these weights; a symbol of no weight has none. Ties go to the lower symbol, so the same
/// weights give the same code.
fn lengths(weights: &[u64; MAP_SYMBOLS]) -> [u8; MAP_SYMBOLS] {
    let mut lengths = [0; MAP_SYMBOLS];
    let mut groups: Vec<(u64, Vec<usize>)> =
        weights.iter().enumerate().filter(|(_, w)| **w > 0).map(|(i, w)| (*w, vec![i])).collect();
    if let [(_, only)] = groups.as_slice() {
        lengths[only[0]] = 1;
    }
    while groups.len() > 1 {
        groups.sort_by_key(|(weight, symbols)| std::cmp::Reverse((*weight, symbols[0])));
        let (Some(a), Some(b)) = (groups.pop(), groups.pop()) else { break };
        let symbols = [a.1, b.1].concat();
        symbols.iter().for_each(|&s| lengths[s] += 1);
        groups.push((a.0 + b.0, symbols));
    }
    lengths
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_hunk_worked_out_by_hand() {
        // The small code: symbols 0 and 9 with one bit each. 0 has length 1; from symbol 8 on: 0, 1, end.
        // All 256 lengths are 8: symbol 9 ("1"), then a repetition ("0") of 255 = 9 + 246 times ("111", 246 in 8 bits).
        let mut bits = BitWriter::default();
        for (value, count) in [(1, 3), (7, 3), (0, 3), (1, 3), (7, 3), (1, 1), (0, 1), (7, 3), (246, 8)] {
            bits.write(value, count);
        }
        for byte in b"Fogbell" {
            bits.write((*byte).into(), 8);
        }
        let mut out = [0; 7];
        assert!(unpack(&bits.finish(), &mut out));
        assert_eq!(&out, b"Fogbell");
    }

    #[test]
    fn lengths_that_no_code_has_are_refused() {
        assert!(Code::new(&[1, 1, 1], 8).is_none());
        assert!(Code::new(&[2, 2, 2], 8).is_none());
        assert!(Code::new(&[9, 9], 8).is_none());
        assert!(Code::new(&[1], 8).is_some());
    }

    proptest! {
        #[test]
        fn the_code_of_a_map_reads_what_it_wrote(counts in any::<[u16; 16]>(), symbols in proptest::collection::vec(0usize..16, 1..60)) {
            let mut counts = counts.map(u32::from);
            symbols.iter().for_each(|&s| counts[s] += 1);
            let mut bits = BitWriter::default();
            let codes = write_of_map(&counts, &mut bits);
            symbols.iter().for_each(|&s| bits.write(codes[s].0, codes[s].1));
            let bytes = bits.finish();
            let mut reader = BitReader::new(&bytes);
            let code = Code::read_of_map(&mut reader).unwrap();
            for symbol in symbols {
                prop_assert_eq!(code.decode(&mut reader), Some(symbol as u16));
            }
        }

        #[test]
        fn no_bytes_can_panic(packed in proptest::collection::vec(any::<u8>(), 0..80)) {
            let mut out = [0; 64];
            let _ = unpack(&packed, &mut out);
            let _ = Code::read_of_map(&mut BitReader::new(&packed));
        }
    }
}
