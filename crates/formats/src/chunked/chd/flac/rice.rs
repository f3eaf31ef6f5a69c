//! Rice codes (RFC 9639, 9.2.7): what is left after prediction, in partitions with a parameter each.

use crate::chunked::chd::bits::BitWriter;

/// The highest parameter of a partition; one more announces plain numbers, which are never needed here.
const MOST_RICE: u32 = 14;
/// Partitions of a block: 2 to this power at most.
const MOST_SPLITS: u32 = 5;
/// Bits before the partitions: the kind of code, and how many partitions there are.
const HEAD: u64 = 6;

/// What is left of a block whose first `order` samples are not predicted, with the partitions that take the fewest bits.
pub(super) struct Residual {
    order: usize,
    values: Vec<i32>,
    splits: u32,
    parameters: Vec<u32>,
    /// Bits of all of it.
    pub(super) bits: u64,
}

impl Residual {
    /// Of a block of `samples`; `None` if it has no room for a partition.
    pub(super) fn new(values: Vec<i32>, samples: usize, order: usize) -> Option<Self> {
        let mut best: Option<(u32, Vec<u32>, u64)> = None;
        for splits in 0..=MOST_SPLITS {
            let part = samples >> splits;
            if !samples.is_multiple_of(1 << splits) || part <= order {
                break;
            }
            let (mut parameters, mut bits) = (Vec::new(), HEAD);
            for part in partitions(&values, part, order) {
                let (parameter, cost) = rice_of(part);
                bits += 4 + cost;
                parameters.push(parameter);
            }
            if best.as_ref().is_none_or(|(.., least)| bits < *least) {
                best = Some((splits, parameters, bits));
            }
        }
        best.map(|(splits, parameters, bits)| Self { order, values, splits, parameters, bits })
    }

    pub(super) fn write(&self, bits: &mut BitWriter) {
        bits.write(0, 2);
        bits.write(self.splits, 4);
        let part = (self.values.len() + self.order) >> self.splits;
        for (part, parameter) in partitions(&self.values, part, self.order).zip(&self.parameters) {
            bits.write(*parameter, 4);
            for value in part.iter().map(|v| folded(*v)) {
                let mut zeros = value >> parameter;
                while zeros >= 32 {
                    bits.write(0, 32);
                    zeros -= 32;
                }
                bits.write(1, zeros + 1);
                bits.write(value, *parameter);
            }
        }
    }
}

/// Pieces of `part` values; the first is shorter by those that are not predicted.
fn partitions(values: &[i32], part: usize, order: usize) -> impl Iterator<Item = &[i32]> {
    let (first, rest) = values.split_at((part - order).min(values.len()));
    std::iter::once(first).chain(rest.chunks(part))
}

/// Positive and negative numbers in turn: 0, -1, 1, -2 ...
fn folded(value: i32) -> u32 {
    ((value << 1) ^ (value >> 31)) as u32
}

/// The Rice parameter that takes the fewest bits, and how many.
fn rice_of(values: &[i32]) -> (u32, u64) {
    let cost = |parameter: u32| -> u64 {
        values.iter().map(|v| u64::from(folded(*v) >> parameter) + 1 + u64::from(parameter)).sum()
    };
    let mean = values.iter().map(|v| u64::from(folded(*v))).sum::<u64>() / (values.len() as u64).max(1);
    let near = (u64::BITS - mean.leading_zeros()).min(MOST_RICE);
    let all = near.saturating_sub(1)..=(near + 1).min(MOST_RICE);
    all.map(|p| (p, cost(p))).min_by_key(|(_, bits)| *bits).unwrap_or((0, u64::MAX / 4))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand: the numbers 1, -1, 0, 2 are folded to 2, 1, 0, 4; with parameter 0 they take 3, 2, 1, 5 bits.
    #[test]
    fn four_numbers_have_these_bits() {
        assert_eq!([1, -1, 0, 2, i32::MIN].map(folded), [2, 1, 0, 4, u32::MAX]);
        let residual = Residual::new(vec![1, -1, 0, 2], 4, 0).unwrap();
        assert_eq!(residual.splits, 0);
        assert_eq!((residual.parameters.as_slice(), residual.bits), (&[0][..], 6 + 4 + 11));
        let mut bits = BitWriter::default();
        residual.write(&mut bits);
        bits.align();
        // 00 0000 0000, then 001, 01, 1, 00001, and three bits to the end of the byte.
        assert_eq!(bits.finish(), [0b0000_0000, 0b0000_1011, 0b0000_1000]);
    }

    #[test]
    fn the_first_partition_lacks_what_is_not_predicted() {
        let values: Vec<i32> = (0..14).collect();
        let lens: Vec<usize> = partitions(&values, 8, 2).map(<[i32]>::len).collect();
        assert_eq!(lens, [6, 8]);
        assert!(Residual::new(Vec::new(), 2, 2).is_none(), "nothing is left to predict");
    }
}
