use super::extent_but;
use crate::error::{Error, Result};
use crate::keyring::Key;
use crate::source::{Extent, Source, SourceRef, check_range};
use crate::transform::Transform;
use aes::Aes128Enc;
use aes::cipher::{Array, InnerIvInit, KeyInit, StreamCipher, StreamCipherCoreWrapper, StreamCipherSeek};
use ctr::CtrCore;
use ctr::flavors::Ctr128BE;
use std::ops::Range;
use std::sync::Arc;

/// A byte range under AES-128-CTR.
pub struct Keystream {
    /// The bytes that are changed.
    pub range: Range<u64>,
    /// Byte offset at which the counter had its first value; at most the range's start.
    pub origin: u64,
    /// That value, as a 128-bit big-endian integer; it grows by one every 16 bytes.
    pub counter: u128,
    /// The key: 16 bytes.
    pub key: Key,
}

struct Stream {
    origin: u64,
    counter: u128,
    /// Neighbours under the same key share it.
    aes: Arc<Aes128Enc>,
}

/// AES-128-CTR within some ranges of a source, each with its own key and counter. It is its own inverse.
pub struct CtrRanges {
    ranges: Vec<Range<u64>>,
    streams: Vec<Stream>,
}

impl CtrRanges {
    /// One of these ranges, in any order; empty ones are dropped.
    ///
    /// # Errors
    /// [`Error::Usage`] when ranges overlap or begin before their origin, or a key has not 16 bytes.
    pub fn new(mut all: Vec<Keystream>) -> Result<Self> {
        all.retain(|s| !s.range.is_empty());
        all.sort_by_key(|s| s.range.start);
        if all.windows(2).any(|w| w[0].range.end > w[1].range.start) {
            return Err(Error::Usage("two encrypted ranges overlap".into()));
        }
        let (mut ranges, mut streams) = (Vec::with_capacity(all.len()), Vec::with_capacity(all.len()));
        let mut last: Option<(Key, Arc<Aes128Enc>)> = None;
        for Keystream { range, origin, counter, key } in all {
            if range.start < origin {
                return Err(Error::Usage("an encrypted range begins before its counter does".into()));
            }
            let aes = match last.take().filter(|(known, _)| *known == key) {
                Some((_, aes)) => aes,
                None => Arc::new(Aes128Enc::new(&Array::from(*key.bytes16()?))),
            };
            streams.push(Stream { origin, counter, aes: aes.clone() });
            last = Some((key, aes));
            ranges.push(range);
        }
        Ok(Self { ranges, streams })
    }

    /// The ranges, sorted and disjoint.
    pub fn ranges(&self) -> &[Range<u64>] {
        &self.ranges
    }
}

impl Transform for CtrRanges {
    fn touches(&self, range: Range<u64>) -> bool {
        let next = self.ranges.partition_point(|r| r.end <= range.start);
        self.ranges.get(next).is_some_and(|r| r.start < range.end)
    }

    fn apply(&self, offset: u64, bytes: &mut [u8]) {
        let end = offset + bytes.len() as u64;
        let first = self.ranges.partition_point(|r| r.end <= offset);
        for (range, stream) in self.ranges.iter().zip(&self.streams).skip(first).take_while(|(r, _)| r.start < end) {
            let (from, to) = (range.start.max(offset), range.end.min(end));
            let into = from - stream.origin;
            // The counter wraps as a number of 128 bits, however far the range is from its origin.
            let counter = stream.counter.wrapping_add(u128::from(into / 16));
            let core =
                CtrCore::<_, Ctr128BE>::inner_iv_init((*stream.aes).clone(), &Array::from(counter.to_be_bytes()));
            let mut cipher = StreamCipherCoreWrapper::from_core(core);
            cipher.seek(into % 16);
            cipher.apply_keystream(&mut bytes[(from - offset) as usize..(to - offset) as usize]);
        }
    }
}

/// A source seen through a [`CtrRanges`]. What lies outside its ranges is passed through, so its physical places
/// stay known.
pub struct Streamed {
    inner: SourceRef,
    ctr: Arc<CtrRanges>,
}

impl Streamed {
    /// `inner` through `ctr`.
    pub fn new(inner: SourceRef, ctr: Arc<CtrRanges>) -> Self {
        Self { inner, ctr }
    }
}

impl Source for Streamed {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        self.inner.read_at(offset, buf)?;
        self.ctr.apply(offset, buf);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.ctr.ranges, &self.inner, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use proptest::prelude::*;

    /// NIST SP 800-38A, F.5.1: the first two blocks.
    #[test]
    fn a_published_value() {
        let key = Key::from_hex("2b7e151628aed2a6abf7158809cf4f3c").unwrap();
        let counter = 0xf0f1_f2f3_f4f5_f6f7_f8f9_fafb_fcfd_feff;
        let text = Key::from_hex("6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e51").unwrap();
        let want = Key::from_hex("874d6191b620e3261bef6864990db6ce9806f66b7970fdff8617187bb9fffdff").unwrap();
        let all = vec![Keystream { range: 0..32, origin: 0, counter, key }];
        let mut bytes = text.bytes().to_vec();
        CtrRanges::new(all).unwrap().apply(0, &mut bytes);
        assert_eq!(bytes, want.bytes());
    }

    proptest! {
        #[test]
        fn any_range_is_that_of_the_whole(from in 0usize..200, len in 0usize..200) {
            let stream = |range: Range<u64>, origin, fill| Keystream { range, origin, counter: u128::MAX - 2, key: Key::new(vec![fill; 16]) };
            let ctr = Arc::new(CtrRanges::new(vec![stream(100..130, 64, 1), stream(5..37, 5, 2), stream(130..290, 0, 3)]).unwrap());
            let view = Streamed::new(Arc::new(Bytes((0..300u32).map(|i| i as u8).collect())), ctr);
            let mut whole = vec![0; 300];
            view.read_at(0, &mut whole).unwrap();
            let to = (from + len).min(300);
            let mut part = vec![0; to - from];
            view.read_at(from as u64, &mut part).unwrap();
            prop_assert_eq!(&part, &whole[from..to]);
        }
    }
}
