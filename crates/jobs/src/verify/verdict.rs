//! From what was found to one word: how good a source is, and what says so.

use super::RangeState;
use super::{FileState, SealReport, SealState, Verdict, VerifyReport};
use crate::{Item, Setting, quoted};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::role::Role;
use decanter_core::{Error, Result, tell};

/// What was found out about a source, as far as it decides how good it is. Of those that are bad, the first in this order
/// decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Finding {
    /// What it was taken out of does not hold: nothing is known of what was packed.
    Tainted,
    /// It ends before what its headers, or its description, say.
    Short,
    /// A digest of its own does not hold, or something of it cannot be read.
    Broken,
    /// A dump of which sectors were never read.
    Unfinished,
    /// It is not as described, or has not the checksums that a game says of itself.
    Differs,
    /// Damage was noticed on the way.
    Noticed,
    /// It says what others should be, and nothing proves itself.
    AboutOthers,
    /// There was nothing to check.
    Empty,
    /// Something that is described could not be compared.
    Unproven,
    /// What is described is as described.
    Described,
    /// A digest of its own holds.
    Proven,
}

/// The one word for all of it. Nothing is better than what was compared.
pub(super) fn verdict(findings: impl IntoIterator<Item = Finding>) -> Verdict {
    let Some(decides) = findings.into_iter().min() else { return Verdict::Readable };
    match decides {
        Finding::Tainted | Finding::Broken | Finding::Noticed => Verdict::Damaged,
        Finding::Short | Finding::Unfinished => Verdict::Incomplete,
        Finding::Differs => Verdict::Differs,
        Finding::AboutOthers | Finding::Empty => Verdict::Nothing,
        Finding::Unproven | Finding::Proven => Verdict::Sound,
        Finding::Described => Verdict::Match,
    }
}

/// Findings, each with what to do about it.
#[derive(Debug, Default)]
pub(super) struct Findings(Vec<(Finding, Option<String>)>);

impl Findings {
    /// Adds one about which there is nothing more to do.
    pub(super) fn add(&mut self, finding: Finding) {
        self.0.push((finding, None));
    }

    /// Adds one with what to do next if it decides.
    pub(super) fn next(&mut self, finding: Finding, next: impl Into<String>) {
        self.0.push((finding, Some(next.into())));
    }

    pub(super) fn has(&self, finding: Finding) -> bool {
        self.0.iter().any(|(f, _)| *f == finding)
    }

    fn verdict(&self) -> Verdict {
        verdict(self.0.iter().map(|(f, _)| *f))
    }

    /// What to do about the finding that decides: of several alike, the first one's.
    fn advice(&self) -> Option<&String> {
        self.0.iter().min_by_key(|(f, _)| *f).and_then(|(_, next)| next.as_ref())
    }
}

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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ALL: [(Finding, Verdict); 11] = [
        (Finding::Tainted, Verdict::Damaged),
        (Finding::Short, Verdict::Incomplete),
        (Finding::Broken, Verdict::Damaged),
        (Finding::Unfinished, Verdict::Incomplete),
        (Finding::Differs, Verdict::Differs),
        (Finding::Noticed, Verdict::Damaged),
        (Finding::AboutOthers, Verdict::Nothing),
        (Finding::Empty, Verdict::Nothing),
        (Finding::Unproven, Verdict::Sound),
        (Finding::Described, Verdict::Match),
        (Finding::Proven, Verdict::Sound),
    ];

    #[test]
    fn each_finding_by_itself_has_its_word() {
        for (finding, word) in ALL {
            assert_eq!(verdict([finding]), word, "{finding:?}");
        }
        assert_eq!(verdict([]), Verdict::Readable, "nothing proves the content");
    }

    proptest! {
        /// Nothing that is good outweighs something bad, in whatever order it was found.
        #[test]
        fn one_bad_finding_is_enough(found in proptest::collection::vec(0usize..11, 1..8)) {
            let findings: Vec<Finding> = found.iter().map(|i| ALL[*i].0).collect();
            let is_good = findings.iter().all(|f| *f >= Finding::Unproven);
            prop_assert_eq!(verdict(findings.iter().copied()).is_good(), is_good);
            prop_assert_eq!(verdict(findings.iter().rev().copied()), verdict(findings.iter().copied()));
            // MATCH only if everything that is described was compared.
            let is_match = is_good && findings.contains(&Finding::Described) && !findings.contains(&Finding::Unproven);
            prop_assert_eq!(verdict(findings) == Verdict::Match, is_match);
        }
    }

    #[test]
    fn what_to_do_next_is_that_of_the_finding_that_decides() {
        let mut findings = Findings::default();
        findings.add(Finding::Proven);
        assert_eq!((findings.verdict(), findings.advice()), (Verdict::Sound, None));
        findings.next(Finding::Differs, "compare");
        findings.next(Finding::Broken, "dump again");
        findings.next(Finding::Broken, "copy again");
        assert_eq!(findings.advice().unwrap(), "dump again");
    }
}
