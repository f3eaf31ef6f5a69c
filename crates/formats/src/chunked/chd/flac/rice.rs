//! Rice codes (RFC 9639, 9.2.7): what is left after prediction, in partitions with a parameter each.

use crate::chunked::chd::bits::BitWriter;
use std::ops::RangeInclusive;

/// The highest parameter of a partition; one more announces plain numbers, which are never needed here.
const MOST_RICE: u32 = 14;
/// Partitions of a block: 2 to this power at most.
const MOST_SPLITS: u32 = 5;
/// From here on what is left of a sample of 17 bits is useless. Sums over a block stay within 32 bits.
const LEAST_USELESS: u32 = 1 << 19;
const _: () = assert!((super::MOST_CD as u64) * 2 * (LEAST_USELESS as u64) <= u32::MAX as u64);
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
    /// Of a block of `samples`, at most [`super::MOST_CD`]; `None` if it has no room for a partition, or if more is left of
    /// a sample than any prediction worth writing leaves.
    pub(super) fn new(values: Vec<i32>, samples: usize, order: usize) -> Option<Self> {
        let fits = |splits: &u32| samples.is_multiple_of(1 << splits) && samples >> splits > order;
        let most = (0..=MOST_SPLITS).rev().find(fits)?;
        if values.iter().any(|v| v.unsigned_abs() >= LEAST_USELESS) {
            return None;
        }
        // What the finest partitions take with each parameter is counted once; coarser ones take the sum.
        let mut parts: Vec<Part> = partitions(&values, samples >> most, order).map(Part::new).collect();
        let range = (parts.iter().map(|p| p.near).min()?.saturating_sub(1), parts.iter().map(|p| p.near).max()? + 1);
        let range = range.0..=range.1.min(MOST_RICE);
        for (part, values) in parts.iter_mut().zip(partitions(&values, samples >> most, order)) {
            part.count(values, range.clone());
        }
        let (mut best, mut splits) = (Plan::of(&parts, most, range.clone()), most);
        while splits > 0 {
            splits -= 1;
            parts = parts.as_chunks::<2>().0.iter().map(|[a, b]| a.with(b)).collect();
            let plan = Plan::of(&parts, splits, range.clone());
            if plan.bits <= best.bits {
                best = plan;
            }
        }
        let Plan { splits, parameters, bits } = best;
        Some(Self { order, values, splits, parameters, bits: HEAD + bits })
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

/// A partition: how many values, and the sum of them without their lowest bits, for each number of such bits.
#[derive(Clone, Copy)]
struct Part {
    values: u32,
    /// A parameter near the best one.
    near: u32,
    highs: [u32; MOST_RICE as usize + 1],
}

impl Part {
    fn new(values: &[i32]) -> Self {
        let mean = values.iter().map(|v| folded(*v)).sum::<u32>() / (values.len() as u32).max(1);
        let near = (u32::BITS - mean.leading_zeros()).min(MOST_RICE);
        Self { values: values.len() as u32, near, highs: [0; MOST_RICE as usize + 1] }
    }

    fn count(&mut self, values: &[i32], range: RangeInclusive<u32>) {
        for parameter in range {
            self.highs[parameter as usize] = values.iter().map(|v| folded(*v) >> parameter).sum();
        }
    }

    fn with(&self, next: &Self) -> Self {
        let highs = std::array::from_fn(|parameter| self.highs[parameter] + next.highs[parameter]);
        Self { values: self.values + next.values, near: self.near, highs }
    }

    /// The parameter that takes the fewest bits, and how many.
    fn best(&self, range: RangeInclusive<u32>) -> (u32, u64) {
        let bits = |p: u32| u64::from(self.highs[p as usize]) + u64::from(self.values) * u64::from(1 + p);
        range.map(|p| (p, bits(p))).min_by_key(|(_, bits)| *bits).unwrap_or((0, u64::MAX / 4))
    }
}

/// Parameters of all partitions, and the bits they take.
struct Plan {
    splits: u32,
    parameters: Vec<u32>,
    bits: u64,
}

impl Plan {
    fn of(parts: &[Part], splits: u32, range: RangeInclusive<u32>) -> Self {
        let (parameters, bits): (Vec<u32>, Vec<u64>) = parts.iter().map(|part| part.best(range.clone())).unzip();
        let bits = bits.iter().map(|bits| 4 + bits).sum();
        Self { splits, parameters, bits }
    }
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
