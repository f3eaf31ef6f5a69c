//! The key streams of the data area, both of which are their own inverse.

use super::sha1_lanes;
use decanter_core::Result;
use decanter_core::keyring::Key;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::transform::Transform;
use decanter_core::view::{CtrRanges, Keystream, Streamed};
use std::ops::Range;
use std::sync::Arc;

/// What a data area is under.
#[derive(Clone)]
pub enum Stream {
    /// AES-128-CTR from a first counter on.
    Finalized {
        /// The key.
        key: Key,
        /// The first counter, big-endian.
        counter: [u8; 16],
    },
    /// SHA-1 of a counter and a digest that stands in the header.
    Debug {
        /// That digest.
        seed: [u8; 16],
    },
}

impl Stream {
    /// `area` through the stream, whose first byte is that of the area.
    ///
    /// # Errors
    /// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
    pub fn over(&self, area: SourceRef) -> Result<SourceRef> {
        Ok(match self {
            Self::Finalized { key, counter } => {
                let counter = u128::from_be_bytes(*counter);
                let stream = Keystream { range: 0..area.len(), origin: 0, counter, key: key.clone() };
                Arc::new(Streamed::new(area, Arc::new(CtrRanges::new(vec![stream])?)))
            }
            Self::Debug { seed } => Arc::new(Counted { area, stream: DebugStream { seed: *seed } }),
        })
    }
}

/// The key stream of debug packages.
struct DebugStream {
    seed: [u8; 16],
}

impl Transform for DebugStream {
    fn touches(&self, range: Range<u64>) -> bool {
        !range.is_empty()
    }

    fn apply(&self, offset: u64, bytes: &mut [u8]) {
        sha1_lanes::apply(&self.seed, offset, bytes);
    }
}

/// A data area of a debug package.
struct Counted {
    area: SourceRef,
    stream: DebugStream,
}

impl Source for Counted {
    fn len(&self) -> u64 {
        self.area.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        self.area.read_at(offset, buf)?;
        self.stream.apply(offset, buf);
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.area.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::digest::{Algorithm, of_bytes};
    use decanter_core::source::Bytes;
    use proptest::prelude::*;

    const SEED: [u8; 16] = *b"saltmarsh-pier-9";

    fn stream_of_zeros(len: usize) -> Vec<u8> {
        let area: SourceRef = Arc::new(Bytes(vec![0; len]));
        let mut found = vec![0; len];
        Stream::Debug { seed: SEED }.over(area).unwrap().read_at(0, &mut found).unwrap();
        found
    }

    /// Worked out with a general-purpose tool: SHA-1 of the 64 bytes, its first 16.
    #[test]
    fn fixed_bytes_of_the_debug_stream() {
        let found = stream_of_zeros(40);
        assert_eq!(decanter_core::digest::hex(&found[..16]), "feb1a4fda3d72bed60977770bf16ad24");
        assert_eq!(decanter_core::digest::hex(&found[16..32]), "21305b1a1eafaf6b70f67c52f41db542");
    }

    #[test]
    fn every_step_is_the_digest_of_its_block() {
        let found = stream_of_zeros(16 * 300);
        for (step, block) in found.chunks(16).enumerate() {
            let mut input = [&SEED[..8], &SEED[..8], &SEED[8..], &SEED[8..], &[0; 24]].concat();
            input.extend((step as u64).to_be_bytes());
            assert_eq!(block, &of_bytes(Algorithm::Sha1, &input).bytes[..16], "{step}");
        }
    }

    proptest! {
        #[test]
        fn any_range_is_that_of_the_whole(from in 0usize..400, len in 0usize..400) {
            let bytes: Vec<u8> = (0..500u32).map(|i| (i * 3) as u8).collect();
            let view = Stream::Debug { seed: SEED }.over(Arc::new(Bytes(bytes))).unwrap();
            let mut whole = vec![0; 500];
            view.read_at(0, &mut whole).unwrap();
            let to = (from + len).min(500);
            let mut part = vec![0; to - from];
            view.read_at(from as u64, &mut part).unwrap();
            prop_assert_eq!(&part, &whole[from..to]);
        }
    }
}
