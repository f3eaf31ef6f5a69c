//! Whether the disc in the drive is the one that an unfinished dump is of: two discs in one image would be told by nobody
//! later.

use super::drive::Drive;
use super::map::Map;
use decanter_core::source::{FileSource, Source};
use decanter_core::{Error, Result};
use std::path::Path;

/// The first sectors carry a disc's name and layout: no two discs are alike in all of them.
const KNOWN_BY: u64 = 32;
/// Sectors that are compared besides, all over the disc: the first ones may be those that are scratched.
const SAMPLES: u64 = 24;
/// Reads of a sector whose bytes are others than before; a drive may be wrong once.
const READS: usize = 3;
/// Of the samples, one of so many may differ: some sectors give other bytes each time.
const LEAST_SHARE: u64 = 4;

/// Compares what was read of a disc with the disc in the drive, at a few places.
///
/// # Errors
/// [`Error::WrongDescription`] when it is another one; what reading the dump fails with.
pub(super) fn check(drive: &mut dyn Drive, map: &mut Map, dump: &Path) -> Result<()> {
    let own = FileSource::own(dump)?;
    let (mut compared, mut differing, mut first) = (0, 0, None);
    for sector in places(map) {
        match is_other(drive, map.sector_len, &own, sector)? {
            None => {}
            Some(is_other) => {
                compared += 1;
                differing += u64::from(is_other);
                first = first.or(is_other.then_some(sector));
            }
        }
    }
    match first {
        Some(sector) if sector < KNOWN_BY || differing * LEAST_SHARE > compared => Err(other(sector)),
        // Nothing of it was read yet, or nothing can be read again: the sum is all that is known.
        None if compared == 0 => by_sum(drive, map),
        _ => Ok(()),
    }
}

fn other(sector: u64) -> Error {
    let text = format!("the disc in the drive is not the one that was begun with: sector {sector} has other bytes");
    Error::WrongDescription { text }
}

/// Sectors to be compared: of the first ones all that were read, of the others some.
fn places(map: &Map) -> Vec<u64> {
    let mut places: Vec<u64> = (0..KNOWN_BY.min(map.sectors)).filter(|s| map.state_of(*s).is_content()).collect();
    let content = || map.runs().iter().filter(|r| r.state.is_content());
    let all: u64 = content().map(|r| r.count).sum();
    for nth in (0..SAMPLES).map(|i| i * all / SAMPLES) {
        let mut left = nth;
        let run = content().find(|r| {
            let is_here = left < r.count;
            left -= if is_here { 0 } else { r.count };
            is_here
        });
        places.extend(run.map(|r| r.first + left).filter(|s| *s >= KNOWN_BY));
    }
    places.dedup();
    places
}

/// Whether a sector has other bytes than before, each time it is read; `None` if it cannot be read, or gives other bytes
/// each time.
fn is_other(drive: &mut dyn Drive, len: u64, own: &FileSource, sector: u64) -> Result<Option<bool>> {
    let mut before = vec![0; len as usize];
    own.read_at(sector * len, &mut before)?;
    let mut last: Option<Vec<u8>> = None;
    for _ in 0..READS {
        let mut now = vec![0; len as usize];
        if drive.read(sector, &mut now).is_err() {
            return Ok(None);
        }
        if now == before {
            return Ok(Some(false));
        }
        if last.as_ref().is_some_and(|last| *last != now) {
            return Ok(None);
        }
        last = Some(now);
    }
    Ok(Some(true))
}

/// Holds the sum of the first sectors against the one in the map, or puts it there.
fn by_sum(drive: &mut dyn Drive, map: &mut Map) -> Result<()> {
    let mut bytes = vec![0; (KNOWN_BY.min(map.sectors) * map.sector_len) as usize];
    if drive.read(0, &mut bytes).is_err() {
        return Ok(());
    }
    let sum = crc32fast::hash(&bytes);
    match map.disc {
        Some(known) if known != sum => Err(other(0)),
        _ => {
            map.disc = Some(sum);
            Ok(())
        }
    }
}
