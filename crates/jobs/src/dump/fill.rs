//! Missing sectors from another copy of the same disc.

use super::map::{Map, State};
use crate::{Setting, grouped};
use decanter_core::native;
use decanter_core::pour::Partial;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Result, watch};
use serde::Serialize;
use std::sync::Arc;

/// Sectors that are compared at once.
const STRETCH: u64 = 512;
/// Disagreeing runs that are told.
const MOST_TOLD: usize = 1000;
/// Of all sectors that both copies have, one of so many may differ before they are taken for two discs.
const LEAST_SHARE: u64 = 20;

/// What another copy gave.
#[derive(Debug, Default, Serialize)]
pub struct FillReport {
    /// The other copy.
    pub from: String,
    /// Sectors that were taken from it.
    pub filled: u64,
    /// Sectors that both have.
    pub compared: u64,
    /// Sectors in which they differ.
    pub disagreeing: u64,
    /// Where they differ: first and last sector.
    pub disagreements: Vec<(u64, u64)>,
}

/// A copy with the map of what it has.
struct Copy {
    source: SourceRef,
    map: Map,
}

fn open(other: &str, own: &Map, setting: &Setting<'_>) -> Result<Copy> {
    let path = &native::path(other);
    let is_incomplete = path.extension().is_some_and(|e| e == "incomplete");
    let mut map = Map::beside(path)?;
    if is_incomplete && map.is_none() {
        let text = "it is unfinished, and no map beside it says what it has".to_owned();
        return Err(Error::WrongDescription { text });
    }
    // A complete image may be in an archive, or compressed.
    let source: SourceRef = match map.is_some() {
        true => Arc::new(FileSource::open(path, &setting.guard)?),
        false => match crate::locate::open(other, "fill from", setting) {
            Ok(item) => item.source.ok_or_else(|| Error::Usage("it is a folder".into()))?,
            Err(_) => crate::locate::bytes(other, setting)?,
        },
    };
    let len = own.sectors * own.sector_len;
    if source.len() != len {
        return Err(Error::WrongDescription {
            text: format!(
                "it is not the same disc: it has {} bytes instead of {}",
                grouped(source.len()),
                grouped(len)
            ),
        });
    }
    if let Some(map) = &mut map {
        if (map.sectors, map.sector_len) != (own.sectors, own.sector_len) {
            return Err(Error::WrongDescription {
                text: format!("its map is of {} sectors of {} bytes", grouped(map.sectors), map.sector_len),
            });
        }
        map.cut_to(source.len());
    }
    let whole = || {
        let mut map = Map::new(own.sectors, own.sector_len);
        map.set(0, own.sectors, State::Read);
        map
    };
    Ok(Copy { source, map: map.unwrap_or_else(whole) })
}

/// Takes what is missing from `other`, after comparing all that both have.
///
/// # Errors
/// [`Error::WrongDescription`] when it is not the same disc, with the first sector that differs.
pub(super) fn fill(other: &str, output: &Partial, map: &mut Map, setting: &Setting<'_>) -> Result<FillReport> {
    let copy = open(other, map, setting)?;
    let own: SourceRef = Arc::new(FileSource::own(output.path())?);
    let mut report = FillReport { from: other.to_owned(), ..FillReport::default() };
    let len = map.sector_len;
    setting.watch.begin("comparing", Some(map.sectors * len));
    let (mut left, mut right) = (Vec::new(), Vec::new());
    let mut at = 0;
    while at < map.sectors {
        watch::check(setting.watch)?;
        let count = STRETCH.min(map.sectors - at);
        left.resize((count * len) as usize, 0);
        right.resize((count * len) as usize, 0);
        own.read_at(at * len, &mut left)?;
        copy.source.read_at(at * len, &mut right)?;
        for index in 0..count {
            let sector = at + index;
            let both = map.state_of(sector).is_content() && copy.map.state_of(sector).is_content();
            if !both {
                continue;
            }
            report.compared += 1;
            let span = (index * len) as usize..((index + 1) * len) as usize;
            if left[span.clone()] != right[span] {
                report.disagreeing += 1;
                let has_room = report.disagreements.len() < MOST_TOLD;
                match report.disagreements.last_mut() {
                    Some(run) if run.1 + 1 == sector => run.1 = sector,
                    _ if has_room => report.disagreements.push((sector, sector)),
                    _ => {}
                }
            }
        }
        at += count;
        setting.watch.advance(count * len);
    }
    setting.watch.end();
    // The first sectors carry the volume's name and layout: two copies of one disc cannot differ there.
    let first = report.disagreements.first().map(|d| d.0);
    if let Some(first) = first.filter(|&f| f < 32 || report.disagreeing * LEAST_SHARE > report.compared) {
        let text = format!(
            "it is not the same disc: sector {first} is the first that differs ({} of {} sectors do)",
            grouped(report.disagreeing),
            grouped(report.compared)
        );
        return Err(Error::WrongDescription { text });
    }
    if report.compared == 0 && map.sectors > 0 {
        let text = "no sector is in both copies, so nothing shows that they are of the same disc".to_owned();
        return Err(Error::WrongDescription { text });
    }
    for gap in map.gaps() {
        let mut sector = gap.first;
        while sector < gap.first + gap.count {
            let count = STRETCH.min(gap.first + gap.count - sector);
            let mut bytes = vec![0; (count * len) as usize];
            copy.source.read_at(sector * len, &mut bytes)?;
            for index in 0..count {
                // What a plan left blank there was not read by anybody.
                if copy.map.state_of(sector + index).is_content() {
                    output
                        .write(&bytes[(index * len) as usize..((index + 1) * len) as usize], (sector + index) * len)?;
                    map.set(sector + index, 1, State::Filled);
                    report.filled += 1;
                }
            }
            sector += count;
        }
    }
    Ok(report)
}
