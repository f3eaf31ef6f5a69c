//! Linear prediction (RFC 9639, 9.2.6): each sample from the eight before it. The coefficients are those that leave the least
//! (Levinson and Durbin), computed with nothing but sums, products and quotients, so that they are the same everywhere.

/// Samples that one is predicted from.
pub(super) const ORDER: usize = 8;
/// Bits of a coefficient, its sign included: sums of eight products with 17 bits each stay within 32.
pub(super) const PRECISION: u32 = 12;
/// The most that coefficients are shifted by.
const MOST_SHIFT: i32 = 15;

/// Coefficients, the one of the nearest sample first, multiplied by 2 to the power of `shift`.
pub(super) struct Predictor {
    pub(super) coefficients: [i32; ORDER],
    pub(super) shift: u32,
}

impl Predictor {
    /// The one for these samples; `None` where there are too few of them, or nothing to gain.
    pub(super) fn of(samples: &[i32]) -> Option<Self> {
        if samples.len() < 4 * ORDER {
            return None;
        }
        quantised(&solved(&autocorrelation(samples))?)
    }

    /// What is left of the samples, of 17 bits at most, from the one with number [`ORDER`] on.
    pub(super) fn left(&self, samples: &[i32]) -> Vec<i32> {
        let left = |window: &[i32; ORDER + 1]| {
            let products = (0..ORDER).map(|i| window[ORDER - 1 - i] * self.coefficients[i]);
            window[ORDER] - (products.sum::<i32>() >> self.shift)
        };
        samples.array_windows().map(left).collect()
    }
}

/// How much samples are like those some places before them; the window of Welch lets both ends fade.
fn autocorrelation(samples: &[i32]) -> [f64; ORDER + 1] {
    let half = (samples.len() - 1) as f64 / 2.0;
    let faded = |(index, sample): (usize, &i32)| {
        let place = (index as f64 - half) / (half + 1.0);
        f64::from(*sample) * (1.0 - place * place)
    };
    // Silence before it, so that each sample has as many before it.
    let faded: Vec<f64> = [0.0; ORDER].into_iter().chain(samples.iter().enumerate().map(faded)).collect();
    let mut sums = [0.0; ORDER + 1];
    for window in faded.array_windows::<{ ORDER + 1 }>() {
        for (lag, sum) in sums.iter_mut().enumerate() {
            *sum += window[ORDER] * window[ORDER - lag];
        }
    }
    sums
}

/// Coefficients for this autocorrelation.
fn solved(correlation: &[f64; ORDER + 1]) -> Option<[f64; ORDER]> {
    let (mut coefficients, mut error) = ([0.0; ORDER], correlation[0]);
    for order in 0..ORDER {
        if error <= 0.0 {
            return None;
        }
        let known: f64 = (0..order).map(|i| coefficients[i] * correlation[order - i]).sum();
        let reflection = (correlation[order + 1] - known) / error;
        let before = coefficients;
        coefficients[order] = reflection;
        for i in 0..order {
            coefficients[i] = before[i] - reflection * before[order - 1 - i];
        }
        error *= 1.0 - reflection * reflection;
    }
    coefficients.iter().all(|c| c.is_finite()).then_some(coefficients)
}

/// Whole numbers for coefficients: the error of each is made up for by the next.
fn quantised(coefficients: &[f64; ORDER]) -> Option<Predictor> {
    let largest = coefficients.iter().fold(0.0f64, |most, c| most.max(c.abs()));
    if largest == 0.0 {
        return None;
    }
    // The power of two above the largest, from its exponent.
    let above = ((largest.to_bits() >> 52 & 0x7ff) as i32) - 1022;
    let shift = (PRECISION as i32 - 1 - above).min(MOST_SHIFT);
    if shift < 0 {
        return None;
    }
    let most = (1 << (PRECISION - 1)) - 1;
    let (scale, mut error) = (f64::from(1 << shift), 0.0);
    let mut own = Predictor { coefficients: [0; ORDER], shift: shift as u32 };
    for (whole, coefficient) in own.coefficients.iter_mut().zip(coefficients) {
        error += coefficient * scale;
        *whole = (error.round() as i32).clamp(-most - 1, most);
        error -= f64::from(*whole);
    }
    Some(own)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_each_sample_follows_from_is_found() {
        // s[n] = 1.5 s[n-1] - 0.9 s[n-2], pushed once in a while: two coefficients say nearly all of it.
        let (mut a, mut b, mut samples) = (0.0f64, 0.0f64, Vec::new());
        for n in 0..2352 {
            let push = if n % 97 == 0 { 4000.0 } else { 0.0 };
            let next = 1.5 * a - 0.9 * b + push;
            (b, a) = (a, next);
            samples.push(next as i32);
        }
        let predictor = Predictor::of(&samples).unwrap();
        let [near, second, ..] = predictor.coefficients.map(|c| f64::from(c) / f64::from(1 << predictor.shift));
        assert!((near - 1.5).abs() < 0.1 && (second + 0.9).abs() < 0.15, "{near} {second}");
        let left = predictor.left(&samples);
        let size = |all: &[i32]| all.iter().map(|v| i64::from(v.abs())).sum::<i64>();
        assert!(size(&left) * 10 < size(&samples[ORDER..]));
    }

    #[test]
    fn what_is_left_and_the_prediction_make_the_samples_again() {
        let samples: Vec<i32> = (0..500i32).map(|i| (i * i / 3 % 4001) - 2000).collect();
        let predictor = Predictor::of(&samples).unwrap();
        let mut again = samples[..ORDER].to_vec();
        for left in predictor.left(&samples) {
            let products = again.iter().rev().zip(&predictor.coefficients).map(|(s, c)| i64::from(*s) * i64::from(*c));
            again.push((products.sum::<i64>() >> predictor.shift) as i32 + left);
        }
        assert_eq!(again, samples);
    }

    #[test]
    fn silence_and_short_blocks_have_none() {
        assert!(Predictor::of(&[0; 100]).is_none() && Predictor::of(&[1, 2, 3]).is_none());
        assert!(quantised(&[0.0; ORDER]).is_none() && quantised(&[5000.0; ORDER]).is_none());
        // The largest is 1.5, below 2: eleven bits less one for it, and the sign.
        let own = quantised(&[1.5, -0.25, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]).unwrap();
        assert_eq!((own.shift, own.coefficients[..2].to_vec()), (10, vec![1536, -256]));
    }
}
