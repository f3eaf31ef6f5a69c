//! One channel of a block (RFC 9639, 9.2), in the form that takes the fewest bits.

use super::linear::{ORDER, PRECISION, Predictor};
use super::rice::Residual;
use crate::chunked::chd::bits::BitWriter;

/// The highest order of fixed predictors.
const MOST_FIXED: usize = 4;
/// Bits of a subframe's header.
const HEAD: u64 = 8;
/// Types of subframes, with the bit before and the one behind them: no bits are wasted.
mod kind {
    pub const CONSTANT: u32 = 0;
    pub const VERBATIM: u32 = 0b10;
    pub const FIXED: u32 = 0b1_0000;
    pub const LINEAR: u32 = 0b100_0000;
}

/// A channel with the way to write it that takes the fewest bits.
pub(super) struct Channel<'a> {
    pub(super) samples: &'a [i32],
    width: u32,
    form: Form,
    pub(super) bits: u64,
}

enum Form {
    Constant,
    Verbatim,
    /// Differences of this order.
    Fixed(usize, Residual),
    Linear(Predictor, Residual),
}

impl<'a> Channel<'a> {
    /// Samples of `width` bits, at least one.
    pub(super) fn new(samples: &'a [i32], width: u32) -> Self {
        if samples.iter().all(|s| *s == samples[0]) {
            return Self { samples, width, form: Form::Constant, bits: HEAD + u64::from(width) };
        }
        let plain = samples.len() as u64 * u64::from(width);
        let mut best = Self { samples, width, form: Form::Verbatim, bits: HEAD + plain };
        let mut take = |form: Form, bits: u64| {
            if bits < best.bits {
                (best.form, best.bits) = (form, bits);
            }
        };
        let mut left = samples.to_vec();
        for order in 0..=MOST_FIXED.min(samples.len() - 1) {
            if order > 0 {
                left = left.windows(2).map(|p| p[1].wrapping_sub(p[0])).collect();
            }
            if let Some(residual) = Residual::new(left.clone(), samples.len(), order) {
                let bits = HEAD + order as u64 * u64::from(width) + residual.bits;
                take(Form::Fixed(order, residual), bits);
            }
        }
        if let Some(predictor) = Predictor::of(samples)
            && let Some(residual) = Residual::new(predictor.left(samples), samples.len(), ORDER)
        {
            // Precision and shift take nine bits.
            let bits = HEAD + 9 + ORDER as u64 * u64::from(width + PRECISION) + residual.bits;
            take(Form::Linear(predictor, residual), bits);
        }
        best
    }

    /// The subframe.
    pub(super) fn write(&self, bits: &mut BitWriter) {
        let first = |bits: &mut BitWriter, count: usize| {
            self.samples[..count].iter().for_each(|s| bits.write(*s as u32, self.width));
        };
        match &self.form {
            Form::Constant => {
                bits.write(kind::CONSTANT, 8);
                first(bits, 1);
            }
            Form::Verbatim => {
                bits.write(kind::VERBATIM, 8);
                first(bits, self.samples.len());
            }
            Form::Fixed(order, residual) => {
                bits.write(kind::FIXED | (*order as u32) << 1, 8);
                first(bits, *order);
                residual.write(bits);
            }
            Form::Linear(predictor, residual) => {
                bits.write(kind::LINEAR | (ORDER as u32 - 1) << 1, 8);
                first(bits, ORDER);
                bits.write(PRECISION - 1, 4);
                bits.write(predictor.shift, 5);
                predictor.coefficients.iter().for_each(|c| bits.write(*c as u32, PRECISION));
                residual.write(bits);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(samples: &[i32]) -> Vec<u8> {
        let channel = Channel::new(samples, 16);
        let mut bits = BitWriter::default();
        channel.write(&mut bits);
        bits.align();
        let bytes = bits.finish();
        assert_eq!(bytes.len() as u64, channel.bits.div_ceil(8), "as many bits as were counted");
        bytes
    }

    #[test]
    fn each_kind_has_its_header() {
        assert_eq!(written(&[7; 16]), [0, 0, 7]);
        // A ramp is told by its first sample and differences that are all 3: fixed, order 2, nothing left.
        let ramp: Vec<i32> = (0..64).map(|i| i * 3).collect();
        assert_eq!(written(&ramp)[..5], [0b0001_0100, 0, 0, 0, 3]);
        let noise: Vec<i32> = (0..64u32).map(|i| (i.wrapping_mul(0x9e37_79b9) >> 16) as i16 as i32).collect();
        assert_eq!(written(&noise)[0], kind::VERBATIM as u8);
        let wave = |i: i32| ((f64::from(i) * 0.21).sin() * 8000.0 + (f64::from(i) * 1.7).sin() * 3000.0) as i32;
        let wave: Vec<i32> = (0..2352).map(wave).collect();
        let bytes = written(&wave);
        // Linear, order 8; behind eight samples the precision less one.
        assert_eq!((bytes[0], bytes[17] >> 4), (0b0100_1110, 11));
    }
}
