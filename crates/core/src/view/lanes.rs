use crate::source::{Source, SourceRef, check_range};
use crate::{Error, Result};

/// Bytes that are made in one go.
const STRETCH: usize = 64 << 10;

/// Every second byte of a source: one of the two chips on a bus of 16 bits.
pub struct Lane {
    inner: SourceRef,
    first: u64,
}

impl Lane {
    /// The bytes at even offsets, or those at odd ones.
    pub fn new(inner: SourceRef, is_odd: bool) -> Self {
        Self { inner, first: u64::from(is_odd) }
    }
}

impl Source for Lane {
    fn len(&self) -> u64 {
        (self.inner.len() + 1 - self.first) / 2
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let mut wide = Vec::new();
        for (index, piece) in buf.chunks_mut(STRETCH).enumerate() {
            wide.resize(piece.len() * 2 - 1, 0);
            self.inner.read_at((offset + (index * STRETCH) as u64) * 2 + self.first, &mut wide)?;
            piece.iter_mut().zip(wide.iter().step_by(2)).for_each(|(slot, byte)| *slot = *byte);
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

/// Two sources whose bytes alternate.
pub struct Woven {
    even: SourceRef,
    odd: SourceRef,
}

impl Woven {
    /// `even` has the bytes at even offsets, `odd` the others.
    ///
    /// # Errors
    /// [`Error::Usage`] unless both are as long, or the even one is a byte longer.
    pub fn new(even: SourceRef, odd: SourceRef) -> Result<Self> {
        let (a, b) = (even.len(), odd.len());
        if a != b && Some(a) != b.checked_add(1) {
            return Err(Error::Usage(format!("the even bytes are {a} and the odd ones {b}: they do not go together")));
        }
        Ok(Self { even, odd })
    }
}

impl Source for Woven {
    fn len(&self) -> u64 {
        self.even.len() + self.odd.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let mut narrow = Vec::new();
        for (index, piece) in buf.chunks_mut(STRETCH).enumerate() {
            let at = offset + (index * STRETCH) as u64;
            for (lane, source) in [(0, &self.even), (1, &self.odd)] {
                let skip = usize::from(at % 2 != lane);
                let count = piece.len().saturating_sub(skip).div_ceil(2);
                narrow.resize(count, 0);
                source.read_at((at + skip as u64) / 2, &mut narrow)?;
                piece.iter_mut().skip(skip).step_by(2).zip(&narrow).for_each(|(slot, byte)| *slot = *byte);
            }
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.even.prefers_sequential() || self.odd.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn what_is_taken_apart_goes_together_again() {
        for len in [0u8, 1, 2, 7, 8] {
            let bytes: Vec<u8> = (0..len).collect();
            let whole: SourceRef = Arc::new(Bytes(bytes.clone()));
            let lanes = [false, true].map(|odd| Arc::new(Lane::new(whole.clone(), odd)) as SourceRef);
            let [even, odd] = lanes;
            assert_eq!((even.len(), odd.len()), (u64::from(len).div_ceil(2), u64::from(len) / 2));
            let woven = Woven::new(even, odd).unwrap();
            for from in 0..=bytes.len() {
                for to in from..=bytes.len() {
                    let mut buf = vec![0; to - from];
                    woven.read_at(from as u64, &mut buf).unwrap();
                    assert_eq!(buf, bytes[from..to]);
                }
            }
        }
        let (short, long): (SourceRef, SourceRef) = (Arc::new(Bytes(vec![0; 2])), Arc::new(Bytes(vec![0; 4])));
        assert!(Woven::new(short, long).is_err());
    }
}
