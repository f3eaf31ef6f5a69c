//! What else counts for a verdict: what the source was taken out of, what was noticed, what proves anything at all.

use super::RangeState;
use super::verdict::Finding;
use super::{FileState, SealReport, SealState, Verdict, VerifyReport};
use crate::{Item, Setting, quoted};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::role::Role;
use decanter_core::{Error, Result, tell};

/// Draws the conclusion from what was found; what to do next follows from the finding that decides.
pub(super) fn conclude(report: &mut VerifyReport) {
    report.verdict = report.findings.verdict();
    if let Some(next) = report.findings.advice() {
        report.next = next.clone();
    }
}

/// Takes into account what the source was taken out of, what was noticed on the way, and what proves anything at all.
///
/// # Errors
/// What reading fails with; [`Error::Cancelled`].
pub(super) fn settle(report: &mut VerifyReport, item: &Item, setting: &Setting<'_>) -> Result<()> {
    around(report, item, setting)?;
    let proofs = proofs(report, item);
    report.proofs.extend(proofs);
    // A description that was compared as a whole says more than what was noticed, and than what is empty.
    let is_described = report.findings.has(Finding::Described) && !report.findings.has(Finding::Unproven);
    if !is_described {
        if report.notices.iter().any(|n| n.is_damage) {
            let next = "what is damaged stands in the notices: copy or dump it again";
            report.findings.next(Finding::Noticed, next);
        }
        if item.opened.holds.catalogue.is_some() || item.opened.holds.expectation.is_some() {
            report.findings.add(Finding::AboutOthers);
        }
        if is_nothing(report, item) {
            report.findings.next(Finding::Empty, "\"decanter formats\" lists what can be checked");
        }
    }
    if !report.proofs.is_empty() && !report.findings.has(Finding::Described) {
        report.findings.add(Finding::Proven);
    }
    if item.unfinished.as_ref().is_some_and(|map| map.missing() > 0) {
        let target = quoted(&native::text(item.host.with_extension("")));
        report.findings.next(Finding::Unfinished, format!("decanter dump DRIVE -o {target}"));
    }
    conclude(report);
    if report.verdict == Verdict::Incomplete && report.findings.has(Finding::Unfinished) {
        report.proofs.clear();
    }
    Ok(())
}

/// Checksums of what it was taken out of.
fn around(report: &mut VerifyReport, item: &Item, setting: &Setting<'_>) -> Result<()> {
    let checked = item.through.iter().filter(|s| s.is_checked());
    for (source, kind) in
        checked.zip(item.around.iter().map(|around| around.kind.as_str()).chain(std::iter::repeat("archive")))
    {
        let (state, note) = match source.settle(setting.watch) {
            Ok(()) => (SealState::Holds, None),
            Err(e) if e.blame() == Blame::Source => (SealState::Differs, Some(e.to_string())),
            Err(e) => return Err(e),
        };
        if state == SealState::Differs {
            let next = "the archive is damaged, or was packed from something else: get another copy";
            report.findings.next(Finding::Tainted, next);
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
