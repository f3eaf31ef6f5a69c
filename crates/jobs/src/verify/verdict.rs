//! From what was found to one word: how good a source is, and what says so.

use super::RangeState;
use super::{FileState, SealReport, SealState, Verdict, VerifyReport};
use crate::{Item, Setting, quoted};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::role::Role;
use decanter_core::{Error, Result, tell};

/// Takes into account what the source was taken out of, what was noticed on the way, and what proves anything at all.
///
/// # Errors
/// What reading fails with; [`Error::Cancelled`].
pub(super) fn settle(report: &mut VerifyReport, item: &Item, setting: &Setting<'_>) -> Result<()> {
    around(report, item, setting)?;
    let proofs = proofs(report, item);
    report.proofs.extend(proofs);
    let has_damage = report.notices.iter().any(|n| n.is_damage);
    let is_about_others = item.opened.holds.catalogue.is_some() || item.opened.holds.expectation.is_some();
    let missing = item.unfinished.as_ref().map_or(0, |map| map.missing());
    (report.verdict, report.next) = match report.verdict {
        verdict if missing > 0 && verdict != Verdict::Damaged => {
            let target = item.host.with_extension("");
            let next = format!("decanter dump DRIVE -o {}", quoted(&native::text(target)));
            report.proofs.clear();
            (Verdict::Incomplete, next)
        }
        Verdict::Sound if has_damage => {
            let next = "what is damaged stands in the notices: copy or dump it again".to_owned();
            (Verdict::Damaged, next)
        }
        Verdict::Sound if is_about_others => (Verdict::Nothing, std::mem::take(&mut report.next)),
        Verdict::Sound if is_nothing(report, item) => {
            (Verdict::Nothing, "\"decanter formats\" lists what can be checked".to_owned())
        }
        Verdict::Sound if report.proofs.is_empty() => (Verdict::Readable, std::mem::take(&mut report.next)),
        verdict => (verdict, std::mem::take(&mut report.next)),
    };
    Ok(())
}

/// Checksums of what it was taken out of.
fn around(report: &mut VerifyReport, item: &Item, setting: &Setting<'_>) -> Result<()> {
    let checked = item.through.iter().filter(|s| s.is_checked());
    for (source, kind) in checked.zip(item.around.iter().map(String::as_str).chain(std::iter::repeat("archive"))) {
        let (state, note) = match source.settle(setting.watch) {
            Ok(()) => (SealState::Holds, None),
            Err(e) if e.blame() == Blame::Source => (SealState::Differs, Some(e.to_string())),
            Err(e) => return Err(e),
        };
        if state == SealState::Differs {
            report.verdict = Verdict::Damaged;
            report.next = "the archive is damaged, or was packed from something else: get another copy".into();
        }
        report.seals.push(SealReport {
            of: kind.to_owned(),
            name: "checksum of the entry".into(),
            range: Some((0, source.len())),
            state,
            note,
            files: Vec::new(),
            matters: Some("what is in the archive is not what was packed"),
            is_digest: true,
        });
    }
    Ok(())
}

/// What proves the content: how many digests of its own hold, and of what.
fn proofs(report: &VerifyReport, item: &Item) -> Vec<String> {
    let mut proofs = Vec::new();
    let mut add = |count: usize, one: &str, many: &str| {
        if count > 0 {
            proofs.push(tell::count(count as u64, one, many));
        }
    };
    let held = report.seals.iter().filter(|s| s.is_digest && s.state == SealState::Holds);
    add(held.count(), "digest that it carries", "digests that it carries");
    let roms = report.rom.iter().chain(report.roms.iter().map(|r| &r.rom));
    add(roms.flat_map(|r| &r.checks).filter(|c| c.is_right).count(), "checksum of a header", "checksums of headers");
    let tracks = report.ranges.iter().filter(|r| r.state == RangeState::Match && !item.opened.holds.tracks.is_empty());
    let sectors: u64 = tracks.map(|r| r.sectors).sum();
    add(sectors as usize, "EDC of a sector", "EDCs of sectors");
    proofs
}

/// Whether there was nothing that anything is known of.
fn is_nothing(report: &VerifyReport, item: &Item) -> bool {
    let is_folder = item.opened.identity.role == Role::Folder;
    let is_empty = report.files.iter().all(|f| f.state != FileState::Match) && report.roms.is_empty();
    is_folder && report.roms.is_empty() && super::inside::game_folder(item).is_none()
        || (is_empty && item.source.is_none())
        || item.source.as_ref().is_some_and(|s| s.is_empty())
}

/// What a failure to open says of a source among others.
pub(super) fn is_unknown(error: &Error) -> bool {
    matches!(error, Error::NotUnderstood { .. })
}
