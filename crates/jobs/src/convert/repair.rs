//! The sectors of a CD image, corrected by their own parities.

use crate::{Item, Setting, cd};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::track::{Track, TrackKind};
use decanter_core::view::Overlay;
use decanter_core::{Error, Result, SECTOR};
use decanter_formats::optical::cd::repair::{Outcome, repair};
use decanter_formats::optical::cd::sector::{self, RAW};
use decanter_formats::optical::cd::volume_sector;
use serde::Serialize;
use std::sync::Arc;

/// Corrected sectors that are held in memory.
const MOST_PATCHES: usize = 50_000;

/// What came of a repair.
#[derive(Debug, Clone, Default, Serialize)]
pub struct RepairReport {
    /// Sectors with faults.
    pub faulty: u64,
    /// Sectors that were corrected, each proven by its EDC.
    pub corrected_count: u64,
    /// Sectors that could not be.
    pub beyond_count: u64,
    /// Every sector with faults.
    pub sectors: Vec<RepairedSector>,
}

/// One sector of a repair.
#[derive(Debug, Clone, Serialize)]
pub struct RepairedSector {
    /// Number of the track.
    pub track: u8,
    /// Address on the disc.
    pub sector: u64,
    /// What was wrong.
    pub faults: Vec<&'static str>,
    /// Bytes that were changed; `None` where it is beyond repair.
    pub changed_bytes: Option<usize>,
    /// The file it belongs to.
    pub file: Option<String>,
}

/// The tracks with their sectors corrected as far as that can be.
pub(super) fn repaired(item: &Item, setting: &Setting<'_>) -> Result<(Vec<Track>, RepairReport)> {
    let mut report = RepairReport::default();
    let mut tracks = item.opened.holds.tracks.clone();
    let total = tracks.iter().map(|t| t.source.len()).sum();
    setting.watch.begin("looking for faults", Some(total));
    let data_track = tracks.iter().position(|t| t.kind != TrackKind::Audio);
    for (index, track) in tracks.iter_mut().enumerate() {
        if track.kind == TrackKind::Audio || track.sector_len == SECTOR {
            setting.watch.advance(track.source.len());
            continue;
        }
        let scan = cd::scan(track, &[], setting.watch)?;
        report.faulty += scan.fault_count;
        if scan.fault_count > MOST_PATCHES as u64 {
            let limit = MOST_PATCHES as u64;
            return Err(Error::Limit { what: "faulty sectors", asked: scan.fault_count, limit });
        }
        let mut patches: Vec<(u64, SourceRef)> = Vec::new();
        for fault in &scan.faults {
            let at = fault.index * track.sector_len;
            let stored_len = (track.sector_len as usize).min(RAW);
            let mut raw = vec![0; RAW];
            let from = RAW - stored_len;
            track.source.read_at(at, &mut raw[from..])?;
            if from > 0 {
                raw[..12].copy_from_slice(&sector::SYNC);
                raw[12..15].copy_from_slice(&sector::address(fault.sector));
                raw[15] = 2;
            }
            let outcome = repair(&mut raw, Some(fault.sector));
            let changed = match outcome {
                Outcome::Corrected(changed) => {
                    patches.push((at, Arc::new(Bytes(raw[from..].to_vec()))));
                    report.corrected_count += 1;
                    Some(changed)
                }
                Outcome::Sound => Some(0),
                Outcome::Beyond => {
                    report.beyond_count += 1;
                    None
                }
            };
            let file = item.opened.holds.tree.as_ref().filter(|_| Some(index) == data_track);
            let file = file.and_then(|t| cd::file_at(t, volume_sector(track, fault.index)?));
            report.sectors.push(RepairedSector {
                track: track.number,
                sector: fault.sector,
                faults: fault.faults.words(),
                changed_bytes: changed,
                file: file.map(str::to_owned),
            });
        }
        track.source = Arc::new(Overlay::new(track.source.clone(), patches)?);
    }
    setting.watch.end();
    Ok((tracks, report))
}
