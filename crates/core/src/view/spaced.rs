use crate::error::Result;
use crate::source::{Extent, Place, Source, SourceRef, check_range};

/// Bytes that stand in larger units: the 2,048 user bytes of raw CD sectors, or the 2,352 of sectors with subchannel.
pub struct Spaced {
    inner: SourceRef,
    /// Bytes from one unit to the next.
    stride: u64,
    /// Offset of the wanted bytes in their unit.
    skip: u64,
    /// Wanted bytes of each unit.
    take: u64,
    units: u64,
}

/// Units that are read at once.
const MOST_UNITS: u64 = 256;

impl Spaced {
    /// `take` bytes from offset `skip` of each of the whole units of `stride` bytes in `inner`.
    ///
    /// # Panics
    /// When the wanted bytes do not lie in a unit: a mistake of the caller, not of the data.
    pub fn new(inner: SourceRef, stride: u64, skip: u64, take: u64) -> Self {
        assert!(take > 0 && skip + take <= stride, "the wanted bytes must lie in a unit");
        let units = inner.len() / stride;
        Self { inner, stride, skip, take, units }
    }
}

impl Source for Spaced {
    fn len(&self) -> u64 {
        self.units * self.take
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let mut raw = Vec::new();
        while !buf.is_empty() {
            let (unit, into) = (offset / self.take, offset % self.take);
            let units = (into + buf.len() as u64).div_ceil(self.take).min(MOST_UNITS);
            // From the first wanted byte of the first unit to the last one of the last.
            let span = (units - 1) * self.stride + self.take;
            raw.resize(span as usize, 0);
            self.inner.read_at(unit * self.stride + self.skip, &mut raw)?;
            let mut into = into as usize;
            for unit in raw.chunks(self.stride as usize) {
                let wanted = &unit[into..self.take as usize];
                let len = wanted.len().min(buf.len());
                let (now, later) = buf.split_at_mut(len);
                now.copy_from_slice(&wanted[..len]);
                offset += len as u64;
                buf = later;
                into = 0;
            }
        }
        Ok(())
    }

    /// A hole stays one, as far as it covers whole units.
    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let (unit, into) = (offset / self.take, offset % self.take);
        let below = self.inner.extent_at(unit * self.stride + self.skip + into)?;
        let whole = below.len / self.stride * self.take;
        let place = match below.place {
            Place::Fill(byte) if whole > 0 => {
                return Ok(Extent { place: Place::Fill(byte), len: whole - into.min(whole - 1) });
            }
            _ => Place::Computed,
        };
        Ok(Extent { place, len: (self.take - into).min(self.len() - offset) })
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn every_range_is_that_of_the_wanted_bytes_joined() {
        let raw: Vec<u8> = (0..10_007u32).map(|i| (i ^ i >> 7) as u8).collect();
        let joined: Vec<u8> = raw.chunks_exact(29).flat_map(|u| u[5..5 + 20].to_vec()).collect();
        let view = Spaced::new(Arc::new(Bytes(raw)), 29, 5, 20);
        assert_eq!(view.len(), joined.len() as u64);
        for (from, len) in [(0, 1), (0, joined.len()), (19, 2), (7, 5_500), (joined.len() - 1, 1)] {
            let mut buf = vec![0; len];
            view.read_at(from as u64, &mut buf).unwrap();
            assert_eq!(buf, &joined[from..from + len]);
        }
        assert!(view.read_at(joined.len() as u64, &mut [0]).is_err());
    }
}
