//! Whether what stands there already is the result of a source. A result has its name only once it is complete, so it is not
//! asked whether it is whole, but whether it is this one: many dumps have the same length.

use decanter_core::source::Source;
use decanter_core::{Result, Watch, watch};

/// Up to this length everything is compared.
const ALL: u64 = 16 << 20;
/// Places at which longer ones are compared, from the first byte to the last.
const SPOTS: u64 = 64;
/// Bytes that are compared at each of them.
const SPOT: u64 = 64 << 10;

/// Whether two sources are the same, as far as their lengths and these places tell.
///
/// # Errors
/// What reading fails with; [`decanter_core::Error::Cancelled`].
pub(crate) fn is_same(wanted: &dyn Source, found: &dyn Source, watch: &dyn Watch) -> Result<bool> {
    let len = wanted.len();
    if len != found.len() {
        return Ok(false);
    }
    let is_short = len <= ALL;
    let count = if is_short { len.div_ceil(SPOT) } else { SPOTS };
    let (mut left, mut right) = (Vec::new(), Vec::new());
    // Forwards: what is unpacked from its beginning is unpacked once.
    for number in 0..count {
        watch::check(watch)?;
        let at = if is_short {
            number * SPOT
        } else {
            (u128::from(len - SPOT) * u128::from(number) / u128::from(SPOTS - 1)) as u64
        };
        let here = SPOT.min(len - at) as usize;
        left.resize(here, 0);
        right.resize(here, 0);
        wanted.read_at(at, &mut left)?;
        found.read_at(at, &mut right)?;
        if left != right {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What was compared, in words.
pub(crate) fn compared(len: u64) -> &'static str {
    match len <= ALL {
        true => "it is the result of this source, byte by byte",
        false => "it is as long as the result of this source, and the same at 64 places; --replace makes it anew",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    #[test]
    fn another_length_or_other_bytes_are_not_the_same() {
        let same = |a: Vec<u8>, b: Vec<u8>| is_same(&Bytes(a), &Bytes(b), &()).unwrap();
        assert!(same(Vec::new(), Vec::new()) && same(vec![1; 200_000], vec![1; 200_000]));
        assert!(!same(vec![1; 10], vec![1; 11]));
        let mut other = vec![1; 200_000];
        other[150_000] = 2;
        assert!(!same(vec![1; 200_000], other));
        // The first and the last byte of a long one count.
        let long = vec![0; ALL as usize + 12_345];
        for at in [0, long.len() - 1] {
            let mut other = long.clone();
            other[at] = 1;
            assert!(!same(long.clone(), other), "{at}");
        }
        assert!(same(long.clone(), long));
    }
}
