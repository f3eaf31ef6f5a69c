//! The user bytes of raw sectors, each held against its EDC while it is read.

use super::sector::{self, RAW, SYNC};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::{Error, Result, SECTOR};

/// Sectors that are read at once.
const STRETCH: u64 = 256;

/// The 2,048 user bytes of each sector of a data track. A sector whose EDC does not hold is an error, whoever reads it.
pub(super) struct UserBytes {
    inner: SourceRef,
    /// Bytes of a sector as stored: 2,352 and more, or 2,336 without sync and header.
    sector_len: u64,
    /// Where the user bytes begin in it.
    skip: u64,
    /// Number of the first sector, for messages.
    first: u64,
}

impl UserBytes {
    pub(super) fn new(inner: SourceRef, sector_len: u64, skip: u64, first: u64) -> Self {
        Self { inner, sector_len, skip, first }
    }

    fn check(&self, stored: &[u8], number: u64) -> Result<()> {
        let mut raw = [0; RAW];
        let raw: &[u8] = match stored.len() < RAW {
            false => &stored[..RAW],
            // Without its head a sector is one of mode 2.
            true => {
                raw[..12].copy_from_slice(&SYNC);
                raw[15] = 2;
                raw[RAW - stored.len()..].copy_from_slice(stored);
                &raw
            }
        };
        let faulty = |should: &str, found: &str| Error::Damaged {
            what: format!("sector {number} of the CD should have {should} but has {found}"),
        };
        if raw[..12] != SYNC {
            return Err(faulty("a sync pattern", "none: it was not read when this was dumped"));
        }
        match sector::stored_edc(raw) {
            Some((stored, right)) if stored != right => {
                Err(faulty(&format!("the EDC {right:08x}"), &format!("{stored:08x}")))
            }
            _ => Ok(()),
        }
    }
}

impl Source for UserBytes {
    fn len(&self) -> u64 {
        self.inner.len() / self.sector_len * SECTOR
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let mut sectors = Vec::new();
        while !buf.is_empty() {
            let first = offset / SECTOR;
            let last = (offset + buf.len() as u64).div_ceil(SECTOR).min(first + STRETCH);
            sectors.resize(((last - first) * self.sector_len) as usize, 0);
            self.inner.read_at(first * self.sector_len, &mut sectors)?;
            for (index, stored) in sectors.chunks_exact(self.sector_len as usize).enumerate() {
                self.check(stored, self.first + first + index as u64)?;
                let into = (offset % SECTOR) as usize;
                let take = buf.len().min(SECTOR as usize - into);
                let from = self.skip as usize + into;
                let (now, later) = buf.split_at_mut(take);
                now.copy_from_slice(&stored[from..from + take]);
                offset += take as u64;
                buf = later;
            }
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }

    fn is_checked(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use sector::Layout;
    use std::sync::Arc;

    fn track(layout: Layout) -> Vec<u8> {
        let mut all = Vec::new();
        for number in 0..5u64 {
            let mut raw = [0; RAW];
            if layout == Layout::Form1 {
                raw[16..24].copy_from_slice(&[0, 0, 8, 0, 0, 0, 8, 0]);
            }
            let from = sector::user(layout).0;
            raw[from..from + 2048].fill(number as u8 + 1);
            sector::seal(&mut raw, number, layout);
            all.extend(raw);
        }
        all
    }

    #[test]
    fn a_sector_whose_edc_fails_is_an_error_and_the_others_are_read() {
        for (layout, skip) in [(Layout::Mode1, 16), (Layout::Form1, 24)] {
            let mut bytes = track(layout);
            bytes[2 * RAW + 100] ^= 1;
            let view = UserBytes::new(Arc::new(Bytes(bytes)), RAW as u64, skip, 150);
            let mut user = vec![0; 4096];
            view.read_at(0, &mut user).unwrap();
            assert!(user[..2048] == [1; 2048] && user[2048..] == [2; 2048]);
            let told = view.read_at(4095, &mut [0; 2]).unwrap_err().to_string();
            assert!(told.contains("sector 152 of the CD"), "{told}");
            view.read_at(3 * 2048 + 7, &mut user[..100]).unwrap();
            assert_eq!(user[0], 4);
        }
    }

    #[test]
    fn sectors_without_their_heads_are_checked_too() {
        let mut bytes: Vec<u8> = track(Layout::Form1).chunks(RAW).flat_map(|s| s[16..].to_vec()).collect();
        bytes[2336 + 500] ^= 1;
        let view = UserBytes::new(Arc::new(Bytes(bytes)), 2336, 8, 0);
        assert!(view.read_at(0, &mut [0; 2048]).is_ok() && view.read_at(2048, &mut [0; 2048]).is_err());
    }
}
