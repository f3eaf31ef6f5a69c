//! CD images: every sector of every track against its own sync, address, EDC and ECC.

use super::RangeState;
use super::verdict::Finding;
use super::{Counts, FileReport, FileState, NamedDigest, RangeReport, Suspect, VerifyReport};
use crate::quoted;
use crate::{Item, Setting, cd};
use decanter_core::digest::Algorithm;
use decanter_core::tell::count;
use decanter_core::track::TrackKind;
use decanter_core::tree::Content;
use decanter_core::{Result, SECTOR};
use decanter_formats::optical::cd::volume_sector;
use std::collections::HashMap;

/// Runs of faulty sectors that are told for one track or file.
const MOST_RUNS: usize = 200;
/// Digests of the tracks: the weakest is what most lists have, the other what proves.
const DIGESTS: [Algorithm; 2] = [Algorithm::Crc32, Algorithm::Sha1];

pub(super) fn check_tracks(item: &Item, setting: &Setting<'_>) -> Result<VerifyReport> {
    let (mut ranges, mut digests, mut faulty) = (Vec::new(), Vec::new(), 0);
    let mut hit: HashMap<String, Vec<Suspect>> = HashMap::new();
    let first_data = item.opened.holds.tracks.iter().position(|t| t.kind != TrackKind::Audio);
    for (index, track) in item.opened.holds.tracks.iter().enumerate() {
        let scan = cd::scan(track, &DIGESTS, setting.watch)?;
        faulty += scan.fault_count;
        let name = format!("track {}", track.number);
        let checks = track.kind != TrackKind::Audio && track.sector_len != SECTOR;
        let note = match (checks, scan.fault_count) {
            (false, _) if track.kind == TrackKind::Audio => Some("sound, which carries no checks".to_owned()),
            (false, _) => Some("2048 bytes a sector, which carry no checks".to_owned()),
            (true, 0) => None,
            (true, n) => Some(count(n, "faulty sector", "faulty sectors")),
        };
        ranges.push(RangeReport {
            name: name.clone(),
            first_sector: track.first_sector,
            sectors: scan.sectors,
            state: if !checks {
                RangeState::Unchecked
            } else if scan.fault_count == 0 {
                RangeState::Match
            } else {
                RangeState::Differs
            },
            note,
        });
        for digest in scan.digests {
            digests.push(NamedDigest { name: name.clone(), digest });
        }
        for fault in &scan.faults {
            let tree = item.opened.holds.tree.as_ref().filter(|_| Some(index) == first_data);
            let file = volume_sector(track, fault.index).and_then(|at| cd::file_at(tree?, at));
            let place = file.map_or_else(|| format!("{name}, no file"), str::to_owned);
            let why = fault.faults.words().join(", ");
            let runs = hit.entry(place).or_default();
            let has_room = runs.len() < MOST_RUNS;
            match runs.last_mut() {
                Some(run) if run.last + 1 == fault.sector && run.why == why => run.last = fault.sector,
                _ if has_room => runs.push(Suspect { first: fault.sector, last: fault.sector, why }),
                _ => {}
            }
        }
    }
    let mut files = Vec::new();
    for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
        let suspects = hit.remove(&node.path).unwrap_or_default();
        let cut = !matches!(file.content, Content::Whole(_));
        let state = if cut || !suspects.is_empty() { FileState::Unreadable } else { FileState::Match };
        let note = file.source().err().map(|e| e.to_string());
        files.push(FileReport { suspects, note, ..FileReport::new(node.path.clone(), state, file.len) });
    }
    let counts = Counts::of(&files);
    let mut others: Vec<_> = hit.into_iter().collect();
    others.sort_by(|a, b| a.0.cmp(&b.0));
    for (place, suspects) in others {
        files.push(FileReport { suspects, ..FileReport::new(place, FileState::Unreadable, 0) });
    }
    let good = "its sectors are sound; to prove its content, give a DAT file or a checksum list with --against";
    let mut report = VerifyReport::of(item, good.into());
    if faulty > 0 {
        let next = format!("decanter convert {} --repair -o repaired.bin", quoted(&item.shown));
        report.findings.next(Finding::Broken, next);
    } else if counts.unreadable > 0 {
        report.findings.next(Finding::Short, "the image ends too early: copy or dump it again");
    }
    (report.counts, report.files, report.ranges, report.digests) = (counts, files, ranges, digests);
    Ok(report)
}
