//! How small something packs, and how fast: by short samples of it. What comes out is told as "about".

use decanter_core::source::SourceRef;
use decanter_core::{Result, Watch, watch};
use serde::Serialize;
use std::time::{Duration, Instant};

/// Places that are looked at.
const SPOTS: u64 = 16;
/// Bytes at each of them.
const SPOT: u64 = 32 << 10;
/// How hard is tried: as most packers do by themselves.
const LEVEL: i32 = 3;

/// What samples have shown.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Sample {
    /// Bytes that were looked at.
    pub(crate) bytes: u64,
    /// What they pack to.
    pub(crate) packed: u64,
    /// How long reading took.
    pub(crate) reading: Duration,
    /// How long packing took, on one core.
    pub(crate) packing: Duration,
}

impl Sample {
    /// Looks at sources that are packed in blocks of `block` bytes.
    ///
    /// # Errors
    /// What reading fails with; [`decanter_core::Error::Cancelled`].
    pub(crate) fn of(sources: &[SourceRef], block: usize, seen_by: &dyn Watch) -> Result<Self> {
        let mut own = Self::default();
        let total: u64 = sources.iter().map(|source| source.len()).sum();
        for source in sources {
            let spots = (u128::from(SPOTS) * u128::from(source.len())).div_ceil(u128::from(total.max(1))) as u64;
            own.add(source, spots.max(1), block, seen_by)?;
        }
        Ok(own)
    }

    fn add(&mut self, source: &SourceRef, spots: u64, block: usize, seen_by: &dyn Watch) -> Result<()> {
        let len = source.len();
        let spots = spots.min(len.div_ceil(SPOT));
        let mut buffer = Vec::new();
        for number in 0..spots {
            watch::check(seen_by)?;
            // At even distances, the first and the last among them, on borders of blocks.
            let last = len.saturating_sub(SPOT);
            let at = (u128::from(last) * u128::from(number) / u128::from((spots - 1).max(1))) as u64;
            let at = at / block as u64 * block as u64;
            buffer.resize(SPOT.min(len - at) as usize, 0);
            let begun = Instant::now();
            source.read_at(at, &mut buffer)?;
            self.reading += begun.elapsed();
            let begun = Instant::now();
            for block in buffer.chunks(block.max(1)) {
                self.packed += packed_len(block);
            }
            self.packing += begun.elapsed();
            self.bytes += buffer.len() as u64;
        }
        Ok(())
    }

    /// What `bytes` pack to, about.
    pub(crate) fn scaled(&self, bytes: u64) -> u64 {
        match self.bytes {
            0 => bytes,
            seen => (u128::from(bytes) * u128::from(self.packed) / u128::from(seen)) as u64,
        }
    }
}

/// What something would come to, about.
#[derive(Debug, Clone, Serialize)]
pub struct Estimate {
    /// Bytes of the result.
    pub bytes: u64,
    /// Seconds that reading and packing would take.
    pub seconds: u64,
    /// How that is known.
    pub known_by: String,
}

impl Estimate {
    /// What packing `sources` in blocks of `block` bytes would come to, on so many cores.
    ///
    /// # Errors
    /// As [`Sample::of`].
    pub(crate) fn of(sources: &[SourceRef], block: usize, cores: usize, seen_by: &dyn Watch) -> Result<Self> {
        let sample = Sample::of(sources, block, seen_by)?;
        let len: u64 = sources.iter().map(|source| source.len()).sum();
        let share = len as f64 / sample.bytes.max(1) as f64;
        let reading = sample.reading.as_secs_f64() * share;
        let packing = sample.packing.as_secs_f64() * share / cores.max(1) as f64;
        let looked = decanter_core::tell::size(sample.bytes);
        Ok(Self {
            bytes: sample.scaled(len),
            seconds: reading.max(packing).ceil() as u64,
            known_by: format!("{looked} of {} were read and packed", decanter_core::tell::size(len)),
        })
    }
}

/// Bytes that a form packs at once.
pub(crate) fn block_of(id: &str) -> usize {
    match id {
        "cso" | "zso" => 2048,
        "chd" => 16 << 10,
        _ => 32 << 10,
    }
}

/// Bytes of one block, packed; one that does not become smaller is kept as it is.
fn packed_len(block: &[u8]) -> u64 {
    let packed = zstd::bulk::compress(block, LEVEL).map_or(block.len(), |packed| packed.len());
    packed.min(block.len()) as u64
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use std::sync::Arc;

    fn share(bytes: Vec<u8>) -> f64 {
        let len = bytes.len() as u64;
        let sample = Sample::of(&[Arc::new(Bytes(bytes)) as SourceRef], 2048, &()).unwrap();
        sample.scaled(len) as f64 / len.max(1) as f64
    }

    /// Bytes without a pattern.
    fn noise(len: usize) -> Vec<u8> {
        let mut state = 9u64;
        let next = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state as u8
        };
        std::iter::repeat_with(next).take(len).collect()
    }

    #[test]
    fn what_does_not_pack_stays_as_long_and_what_does_becomes_short() {
        assert!(share(noise(3 << 20)) > 0.99);
        assert!(share(vec![7; 3 << 20]) < 0.05);
        let half: Vec<u8> = [noise(4 << 20), vec![0; 4 << 20]].concat();
        assert!((0.4..0.6).contains(&share(half)));
    }

    #[test]
    fn nothing_and_very_little_have_an_estimate() {
        assert_eq!(Sample::of(&[], 2048, &()).unwrap().scaled(5), 5);
        assert_eq!(share(Vec::new()), 0.0);
        assert!(share(noise(10)) <= 1.0);
    }
}
