//! Two sources held against each other.

use crate::error::{Error, Result};
use crate::source::Source;
use crate::watch::{self, Watch};

/// Bytes of each that are held at once.
const STRETCH: u64 = 1 << 20;

/// Where two sources begin to differ; `None` if they are the same. Both are read at the same time, and only as far as that takes.
///
/// # Errors
/// What reading fails with; [`Error::Cancelled`].
pub fn first_difference(one: &dyn Source, other: &dyn Source, watch: &dyn Watch) -> Result<Option<u64>> {
    let len = one.len().min(other.len());
    let (mut left, mut right) = (Vec::new(), Vec::new());
    let mut at = 0;
    while at < len {
        watch::check(watch)?;
        let now = STRETCH.min(len - at);
        left.resize(now as usize, 0);
        right.resize(now as usize, 0);
        let (read, other_read) = std::thread::scope(|scope| {
            let reading = scope.spawn(|| other.read_at(at, &mut right));
            (one.read_at(at, &mut left), reading.join())
        });
        read?;
        other_read.map_err(|_| Error::Usage("a reading thread ended early".into()))??;
        if left != right {
            let index = left.iter().zip(&right).position(|(x, y)| x != y).unwrap_or(0);
            return Ok(Some(at + index as u64));
        }
        at += now;
        watch.advance(now);
    }
    Ok((one.len() != other.len()).then_some(len))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use crate::view::Gaps;
    use proptest::prelude::*;
    use std::sync::Arc;

    #[test]
    fn the_first_difference_is_found_wherever_it_is() {
        let same = vec![7; (STRETCH + 100) as usize];
        for at in [0, 1, STRETCH as usize - 1, STRETCH as usize, same.len() - 1] {
            let mut other = same.clone();
            other[at] ^= 1;
            let found = first_difference(&Bytes(same.clone()), &Bytes(other), &()).unwrap();
            assert_eq!(found, Some(at as u64));
        }
        assert_eq!(first_difference(&Bytes(same.clone()), &Bytes(same), &()).unwrap(), None);
    }

    #[test]
    fn what_cannot_be_read_is_an_error_on_either_side() {
        let whole = Bytes(vec![0; 4096]);
        let gap = Gaps::new(Arc::new(Bytes(vec![0; 4096])), vec![1024..2048], 512).unwrap();
        assert!(first_difference(&whole, &gap, &()).is_err() && first_difference(&gap, &whole, &()).is_err());
        // A difference before the gap is told without reaching it, where both are read piece by piece.
        assert_eq!(first_difference(&Bytes(Vec::new()), &gap, &()).unwrap(), Some(0));
    }

    proptest! {
        #[test]
        fn it_is_what_comparing_byte_by_byte_finds(a in proptest::collection::vec(0u8..2, 0..40), b in proptest::collection::vec(0u8..2, 0..40)) {
            let slow = (0..a.len().max(b.len())).find(|&i| a.get(i) != b.get(i)).map(|i| i as u64);
            prop_assert_eq!(first_difference(&Bytes(a), &Bytes(b), &()).unwrap(), slow);
        }
    }
}
