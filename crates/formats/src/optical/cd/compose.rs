//! Raw sectors made of 2,048 user bytes each: sync, header, EDC and ECC are computed as they are read.

use super::sector::{self, Layout, RAW};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::track::{Track, TrackKind};
use decanter_core::{Result, SECTOR};
use std::fmt::Write;

/// Subheader of a sector with data of form 1 (Green Book, II.4.5): file 0, channel 0, submode "data", coding 0.
const DATA: [u8; 4] = [0, 0, 8, 0];

/// A source of whole raw sectors over a source of user bytes.
pub struct RawSectors {
    inner: SourceRef,
    layout: Layout,
    first: u64,
}

impl RawSectors {
    /// The sectors of `inner`, which has whole sectors of 2,048 bytes; the first stands at `first` on the disc.
    pub fn new(inner: SourceRef, kind: TrackKind, first: u64) -> Self {
        let layout = if kind == TrackKind::Mode2 { Layout::Form1 } else { Layout::Mode1 };
        Self { inner, layout, first }
    }
}

impl Source for RawSectors {
    fn len(&self) -> u64 {
        self.inner.len().div_ceil(SECTOR) * RAW as u64
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let (at, count) = sector::user(self.layout);
        let mut user = Vec::new();
        let mut raw = [0u8; RAW];
        while !buf.is_empty() {
            let number = offset / RAW as u64;
            // Read many sectors' data at once, but seal one after the other.
            let wanted = (buf.len() as u64).div_ceil(RAW as u64).min(128) + 1;
            let from = number * SECTOR;
            let have = (wanted * SECTOR).min(self.inner.len() - from);
            user.clear();
            user.resize(have.next_multiple_of(SECTOR) as usize, 0);
            self.inner.read_at(from, &mut user[..have as usize])?;
            for (index, data) in user.chunks_exact(SECTOR as usize).enumerate() {
                if buf.is_empty() {
                    break;
                }
                raw.fill(0);
                if self.layout == Layout::Form1 {
                    raw[16..20].copy_from_slice(&DATA);
                    raw[20..24].copy_from_slice(&DATA);
                }
                raw[at..at + count].copy_from_slice(data);
                sector::seal(&mut raw, self.first + number + index as u64, self.layout);
                let into = (offset % RAW as u64) as usize;
                let len = buf.len().min(RAW - into);
                let (now, later) = buf.split_at_mut(len);
                now.copy_from_slice(&raw[into..into + len]);
                offset += len as u64;
                buf = later;
            }
        }
        Ok(())
    }
}

/// A cue sheet for one file with these tracks in it, one after the other.
pub fn sheet(file: &str, tracks: &[Track]) -> String {
    let mut text = format!("FILE \"{file}\" BINARY\n");
    let mut at = 0;
    for track in tracks {
        let kind = match (track.kind, track.sector_len) {
            (TrackKind::Audio, _) => "AUDIO".to_owned(),
            (TrackKind::Mode1, len) => format!("MODE1/{len}"),
            (TrackKind::Mode2, len) => format!("MODE2/{len}"),
        };
        let _ = writeln!(text, "  TRACK {:02} {kind}", track.number);
        if track.pregap_sectors > 0 {
            let _ = writeln!(text, "    PREGAP {}", super::time(track.pregap_sectors));
        }
        if track.gap_sectors > 0 {
            let _ = writeln!(text, "    INDEX 00 {}", super::time(at));
        }
        let _ = writeln!(text, "    INDEX 01 {}", super::time(at + track.gap_sectors));
        at += track.source.len() / track.sector_len;
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use std::sync::Arc;

    #[test]
    fn any_part_reads_as_it_does_in_the_whole() {
        let data: Vec<u8> = (0..300 * 2048u32).map(|i| (i ^ i >> 9) as u8).collect();
        let raw = RawSectors::new(Arc::new(Bytes(data.clone())), TrackKind::Mode1, 0);
        let mut whole = vec![0; raw.len() as usize];
        raw.read_at(0, &mut whole).unwrap();
        for (number, sector) in whole.chunks(RAW).enumerate() {
            assert!(!sector::check(sector, Some(number as u64)).any());
            assert_eq!(sector[16..2064], data[number * 2048..][..2048]);
        }
        for (from, len) in [(0, 1), (2351, 3), (5_000, 400_000), (whole.len() - 7, 7)] {
            let mut part = vec![0; len];
            raw.read_at(from as u64, &mut part).unwrap();
            assert_eq!(part, whole[from..from + len]);
        }
    }
}
