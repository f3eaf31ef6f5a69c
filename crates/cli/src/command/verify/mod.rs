//! Is it what it should be?

mod matches;

use super::{Run, With};
use crate::Stop;
use crate::global::{KeyArg, PasscodeArg, SourcesArg, WithArg, native};
use crate::render;
use crate::render::style::{self, Ink};
use crate::render::{Manner, Page, count, number};
use crate::{code_of, code_of_answer};
use clap::Args;
use decanter_jobs::verify;
use decanter_jobs::verify::{FileReport, FileState, RangeState, SealState, Suspect, Verdict, VerifyReport, VerifyRun};
use std::io::Write;

/// Check sources against what is known of them, file by file and region by region
#[derive(Debug, Clone, Args)]
#[command(
    after_help = "Example:  decanter verify \"saltmarsh/Kelp Courier.zip\" --against \"saltmarsh/Kelp Courier.ird\"\n\n\
    With a DAT file or a checksum list, every file counts by its content, also in archives and compressed\n\
    images: match, right content under another name, known bad, differs, missing, unknown.\n\
    A CD image is checked sector by sector: sync, address, EDC, ECC.\n\n\
    Without --against, a description of the same disc next to the source is used; without one, the\n\
    structure and the digests that the containers carry are checked. Every dump in a folder or an archive\n\
    and every partition of a drive has a row of its own.\n\n\
    MATCH: all that is described was compared and agrees. SOUND: digests of its own exist and hold.\n\
    READABLE: everything can be read, nothing proves it. NOTHING CHECKED, DIFFERS, INCOMPLETE, DAMAGED:\n\
    exit code 1."
)]
pub struct Verify {
    #[command(flatten)]
    sources: SourcesArg,
    /// A disc description, a DAT file or a checksum list (repeatable)
    #[arg(long, value_name = "FILE", value_parser = native())]
    against: Vec<String>,
    #[command(flatten)]
    companions: WithArg,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for Verify {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, against, companions, key, passcode } = self;
        let mut setting = with.setting_with_passcode(Some(key), passcode)?;
        setting.take_along(&companions.with)?;
        let mut code = 0;
        let run = verify::verify_all(&sources.all(&setting)?, against, &setting, |result| -> Result<(), Stop> {
            match result {
                Ok(report) => {
                    code = code.max(code_of_answer(report.answer()));
                    if !with.global.json {
                        with.print(out, |page| show(page, report, with.manner()))?;
                    }
                }
                Err(failure) => {
                    code = code.max(code_of(&failure.cause));
                    render::error(failure)?;
                }
            }
            Ok(())
        })?;
        if let Some(matches) = &run.matches {
            code = code.max(code_of_answer(matches.answer()));
            if !with.global.json {
                with.print(out, |page| matches::show(page, matches, with.manner()))?;
            }
        }
        with.show(out, &run, |page| show_totals(page, &run))?;
        Ok(code)
    }
}

/// Files that are named one by one, unless everything is asked for.
const MOST_FILES: usize = 40;

/// Shows what came of a check: first what is wrong, last the verdict and what to do.
pub fn show(page: &mut Page, report: &VerifyReport, manner: Manner) {
    if report.is_row && report.verdict.is_good() && !manner.is_verbose {
        return show_row(page, report);
    }
    show_verdict(page, report, manner);
    page.row("next", &report.next);
    page.notices(&report.notices, manner)
}

/// The same without what to do next.
pub fn show_verdict(page: &mut Page, report: &VerifyReport, manner: Manner) {
    page.title(&report.source);
    if let Some(against) = &report.against {
        page.row("against", against);
    }
    let told = |f: &&FileReport| manner.is_verbose || !matches!(f.state, FileState::Match | FileState::Locked);
    let most = if manner.is_verbose { usize::MAX } else { MOST_FILES };
    for file in report.files.iter().filter(told).take(most) {
        show_file(page, file, report.against.is_some());
    }
    let more = report.files.iter().filter(told).count().saturating_sub(most);
    if more > 0 {
        page.line(format!("  and {}; -v names them all", count(more, "more file")));
    }
    let counts = &report.counts;
    let parts = [
        (counts.matching, if report.against.is_some() { "as described" } else { "readable" }),
        (counts.differing, "different"),
        (counts.missing, "missing"),
        (counts.unexpected, "not described"),
        (counts.unreadable, "not readable as a whole"),
        (counts.locked, "encrypted"),
    ];
    let told: Vec<String> =
        parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{} {what}", number(*n as u64))).collect();
    if let Some(rom) = &report.rom {
        crate::render::rom::show(page, rom);
    }
    show_roms(page, report, manner);
    show_seals(page, report, manner);
    let says_files = report.seals.is_empty() || report.against.is_some();
    if says_files && (report.rom.is_none() || !told.is_empty()) {
        page.row("files", &if told.is_empty() { "none".into() } else { told.join(", ") });
    }
    if !report.ranges.is_empty() {
        show_ranges(page, report, manner);
    }
    for named in &report.digests {
        page.row(named.digest.algorithm.name(), format!("{} {}", named.digest.hex(), named.name));
    }
    let (colour, word) = word(report.verdict);
    page.row("verdict", format!("{colour}{word}: {}{}", reason(report), style::PLAIN));
    page.brief(format!("{word:<15} {}", report.source))
}

/// A verdict in a word.
pub fn word(verdict: Verdict) -> (Ink, &'static str) {
    match verdict {
        Verdict::Match => (style::GOOD, "MATCH"),
        Verdict::Sound => (style::GOOD, "SOUND"),
        Verdict::Readable => (style::WARN, "READABLE"),
        Verdict::Nothing => (style::WARN, "NOTHING CHECKED"),
        Verdict::Differs => (style::BAD, "DIFFERS"),
        Verdict::Incomplete => (style::BAD, "INCOMPLETE"),
        Verdict::Damaged => (style::BAD, "DAMAGED"),
    }
}

/// What was checked, in a sentence.
fn reason(report: &VerifyReport) -> String {
    match report.verdict {
        Verdict::Match => "everything that is described was compared and agrees".into(),
        Verdict::Sound if report.against.is_some() => "what could be compared agrees; the rest could not be".into(),
        Verdict::Sound => format!("what it says of itself holds: {}", report.proofs.join(", ")),
        Verdict::Readable if !report.proofs.is_empty() => {
            format!("not all of it could be compared; of the rest {} hold", report.proofs.join(", "))
        }
        Verdict::Readable if !report.seals.is_empty() => {
            "the checks of its structure hold; nothing proves the content".into()
        }
        Verdict::Readable => "everything in it can be read; nothing proves the content".into(),
        Verdict::Nothing => "there is nothing in it that could be checked".into(),
        Verdict::Differs if report.rom.is_some() || !report.roms.is_empty() => {
            "a ROM is not as its own header says".into()
        }
        Verdict::Differs => "it is not as described".into(),
        Verdict::Incomplete => "some of it is missing".into(),
        Verdict::Damaged if report.seals.iter().any(|s| s.state == SealState::Differs) => match has_digests(report) {
            true => "a digest that it carries does not hold".into(),
            false => "a check of its structure does not hold".into(),
        },
        Verdict::Damaged => "some of it cannot be read as it was written".into(),
    }
}

/// Shows one of many that has nothing to tell but its verdict.
pub fn show_row(page: &mut Page, report: &VerifyReport) {
    let (colour, word) = word(report.verdict);
    page.line(format!("  {colour}{word:<15}{} {}", style::PLAIN, report.source));
    page.brief(format!("{word:<15} {}", report.source));
}

/// Shows how many of several sources came to what.
pub fn show_totals(page: &mut Page, run: &VerifyRun) {
    let all = [
        Verdict::Match,
        Verdict::Sound,
        Verdict::Readable,
        Verdict::Nothing,
        Verdict::Differs,
        Verdict::Incomplete,
        Verdict::Damaged,
    ];
    if run.sources.len() + run.failed.len() < 2 {
        return;
    }
    let of = |verdict: Verdict| run.sources.iter().filter(|r| r.verdict == verdict).count();
    let mut told: Vec<String> =
        all.into_iter().map(|v| (of(v), word(v).1)).filter(|(n, _)| *n > 0).map(|(n, w)| format!("{n} {w}")).collect();
    if !run.failed.is_empty() {
        told.push(format!("{} could not be checked", run.failed.len()));
    }
    if run.unknown > 0 {
        told.push(format!("{} of no known kind", count(run.unknown, "file")));
    }
    page.row("in all", told.join(", "));
    page.brief(told.join(", "))
}

/// Whether it carries digests of its bytes, beside what its structure says.
fn has_digests(report: &VerifyReport) -> bool {
    report.seals.iter().any(|s| s.range.is_some())
}

/// The digests that a package carries: stretch by stretch, what holds and what does not.
fn show_seals(page: &mut Page, report: &VerifyReport, manner: Manner) {
    let mut stretches: Vec<&str> = report.seals.iter().map(|s| s.of.as_str()).collect();
    stretches.dedup();
    for of in stretches {
        let seals: Vec<_> = report.seals.iter().filter(|s| s.of == of).collect();
        let good = seals.iter().filter(|s| s.state == SealState::Holds).count();
        let (what, kind) = match (of.is_empty(), has_digests(report)) {
            (true, false) => ("structure", "check"),
            (true, true) => ("headers", "check"),
            (false, _) => (of, "digest"),
        };
        page.row(
            what,
            format!("{good} of {} {}", count(seals.len(), kind), if seals.len() == 1 { "holds" } else { "hold" }),
        );
        for seal in seals.iter().filter(|s| manner.is_verbose || s.state != SealState::Holds) {
            let (colour, word) = match seal.state {
                SealState::Holds => (style::GOOD, "holds"),
                SealState::Differs if seal.matters.is_none() => (style::WARN, "differs"),
                SealState::Differs => (style::BAD, "differs"),
                SealState::Cut => (style::BAD, "cut short"),
                SealState::Locked => (style::WARN, "encrypted"),
            };
            let note = seal.note.as_deref().map(|n| format!(": {n}")).unwrap_or_default();
            page.line(format!("  {colour}{word:<12} {}{}{note}", style::PLAIN, seal.name));
            for file in &seal.files {
                page.row("", format!("hit: {file}"));
            }
            if seal.state == SealState::Differs {
                page.row("", seal.matters.unwrap_or("nothing that loads it looks at this"));
            }
        }
    }
}

/// The ROMs of a folder or an archive: those with something to say, and how many there are.
fn show_roms(page: &mut Page, report: &VerifyReport, manner: Manner) {
    if report.roms.is_empty() {
        return;
    }
    for inner in report.roms.iter().filter(|r| manner.is_verbose || !r.rom.is_right()) {
        let state = crate::render::rom::short_state(&inner.rom);
        let (colour, word) = if inner.rom.is_right() { (style::GOOD, "sound") } else { (style::BAD, "differs") };
        let words = if state.is_empty() { String::new() } else { format!(": {}", state.join(", ")) };
        page.line(format!("  {colour}{word:<12} {}{}{words}", style::PLAIN, inner.path));
    }
    let right = report.roms.iter().filter(|r| r.rom.is_right()).count();
    let all = report.roms.len();
    page.row("ROMs", format!("{}; the checksums of {right} hold", count(all, "ROM")))
}

fn show_file(page: &mut Page, file: &FileReport, is_compared: bool) {
    let (colour, word) = match file.state {
        FileState::Match if is_compared => (style::GOOD, "match"),
        FileState::Match => (style::GOOD, "readable"),
        FileState::Differs => (style::BAD, "differs"),
        FileState::Missing => (style::BAD, "missing"),
        FileState::Unexpected => (style::WARN, "unexpected"),
        FileState::Unreadable => (style::BAD, "unreadable"),
        FileState::Locked => (style::WARN, "encrypted"),
    };
    page.line(format!("  {colour}{word:<12} {}{}", style::PLAIN, file.path));
    for suspect in &file.suspects {
        page.row("", sectors(suspect));
    }
    if let Some(note) = &file.note {
        page.row("", note)
    }
}

fn sectors(suspect: &Suspect) -> String {
    if suspect.first == suspect.last {
        format!("sector {}: {}", suspect.first, suspect.why)
    } else {
        let sum = suspect.last - suspect.first + 1;
        format!("sectors {} to {} ({}): {}", suspect.first, suspect.last, number(sum), suspect.why)
    }
}

fn state_word(state: RangeState) -> &'static str {
    match state {
        RangeState::Match => "match",
        RangeState::Differs => "differs",
        RangeState::Cut => "cut",
        RangeState::Unchecked => "unchecked",
    }
}

fn show_ranges(page: &mut Page, report: &VerifyReport, manner: Manner) {
    let good = report.ranges.iter().filter(|r| r.state == RangeState::Match).count();
    let all = report.ranges.len();
    if report.against.is_none() {
        let sectors: u64 = report.ranges.iter().map(|r| r.sectors).sum();
        let sound = report.ranges.iter().all(|r| r.state != RangeState::Differs);
        let words = if sound {
            "sync, address, EDC and ECC hold wherever sectors have them"
        } else {
            "some sectors have faults"
        };
        page.row("sectors", format!("{} in {}; {words}", number(sectors), count(all, "track")));
    }
    if good == all && !manner.is_verbose && report.against.is_some() {
        return page.row("areas", format!("header, footer and all {} regions match", all.saturating_sub(2)));
    }
    if report.against.is_some() {
        page.row("areas", format!("{good} of {all} match"));
    }
    for range in report.ranges.iter().filter(|r| manner.is_verbose || r.state != RangeState::Match) {
        let note = range.note.as_deref().map(|n| format!(" ({n})")).unwrap_or_default();
        let last = range.first_sector + range.sectors.saturating_sub(1);
        page.row(
            "",
            format!("{:<9} sectors {} to {last}: {}{note}", range.name, range.first_sector, state_word(range.state)),
        );
    }
}
