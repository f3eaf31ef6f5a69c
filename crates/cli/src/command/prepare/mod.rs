//! From a shelf to a machine.

mod profile;

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::page::{Column, Table};
use crate::render::{Page, count, lasting, number, size, speed, style};
use clap::{Args, Subcommand};
use decanter_core::{native, tell};
use decanter_jobs::prepare::{self, ANOTHER_COPY, About, FollowReport, Following, LeftOut, PlanReport, Prepared};
use decanter_jobs::shelf::{Row, State};
use decanter_jobs::{Failure, quoted, shelf};
use profile::Profiles;
use std::collections::BTreeMap;
use std::io::Write;
use std::path::PathBuf;

/// Entries that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 40;
/// Characters of the word that a row begins with.
const WORD: usize = 8;

/// Prepare a shelf for a machine: what it loads, in its folders, read back, with a sheet of what was done
#[derive(Debug, Clone, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    subcommand_negates_reqs = true,
    subcommand_value_name = "COMMAND",
    after_help = "Examples:  decanter prepare saltmarsh/drawer --for handheld\n           \
    decanter prepare saltmarsh/drawer --for cartridges --plan plan.toml\n           \
    decanter prepare --follow plan.toml --onto /media/card\n           \
    decanter prepare profile show handheld\n\n\
    Without --onto nothing is made: what would be made of what is told, and what will not load, and why.\n\
    --plan keeps that as a text, which --follow does. Both at once: SOURCE --for PROFILE --onto CARD.\n\
    Following goes on where it was stopped; what stands on the card already is compared, not made again.\n\
    Everything is read back from the medium, and listed; \"decanter sheet.html\" says all of it."
)]
pub struct Prepare {
    #[command(subcommand)]
    below: Option<Below>,
    /// Files, folders, archives, or what is inside them
    #[arg(required_unless_present_any = ["from", "follow"], value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    /// Read sources from a list, too: a path on each line, or paths that end with a zero byte; - is standard input
    #[arg(long, value_name = "FILE|-", value_parser = native())]
    from: Option<String>,
    /// What the machine loads: a profile that ships (decanter prepare profile show), or a file
    #[arg(long = "for", value_name = "NAME|FILE", required_unless_present = "follow", value_parser = native())]
    profile: Option<String>,
    /// Write the plan: what would be made of what, to be read, changed and followed
    #[arg(long, value_name = "FILE")]
    plan: Option<PathBuf>,
    /// Follow a plan that was written
    #[arg(long, value_name = "PLAN", conflicts_with_all = ["sources", "from", "profile", "plan"], requires = "onto", value_parser = native())]
    follow: Option<String>,
    /// The folder where the card is mounted
    #[arg(long, value_name = "DIR")]
    onto: Option<PathBuf>,
    /// Make what there is room for, in the order of the plan, instead of refusing all of it
    #[arg(long, requires = "onto")]
    what_fits: bool,
    /// Take file system, limits and free room from this image of a card instead of the folder's
    #[arg(long, value_name = "IMAGE", requires = "onto", value_parser = native())]
    like: Option<String>,
    /// Where the sheet goes [default: "decanter sheet.html" on the card]
    #[arg(long, value_name = "FILE", requires = "onto")]
    sheet: Option<PathBuf>,
}

#[derive(Debug, Clone, Subcommand)]
enum Below {
    #[command(subcommand)]
    Profile(Profiles),
}

impl Run for Prepare {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        if let Some(Below::Profile(profiles)) = &self.below {
            return profiles.run(with, out);
        }
        let setting = with.setting(None)?;
        let how = Following { what_fits: self.what_fits, like: self.like.clone(), sheet: self.sheet.clone() };
        let mut tell = |row: &Row<Prepared>| show_row(with, out, row);
        if let (Some(path), Some(onto)) = (&self.follow, &self.onto) {
            let report = prepare::follow(path, onto, &how, &setting, &mut tell)??;
            return Ok(conclude(with, out, &report)?);
        }
        let missing = || Failure::usage("cannot prepare this", "no profile is named").hint("add --for NAME");
        let profile = self.profile.as_deref().ok_or_else(missing)?;
        let mut sources = self.sources.clone();
        if let Some(list) = &self.from {
            sources.extend(shelf::listed(list, &setting)?);
        }
        let (report, plan) = prepare::plan(&sources, profile, self.plan.as_deref(), self.onto.as_deref(), &setting)?;
        if let Some(onto) = self.onto.as_deref().filter(|_| self.plan.is_none()) {
            let report = prepare::follow_plan(plan, onto, &how, &setting, &mut tell)??;
            return Ok(conclude(with, out, &report)?);
        }
        with.show(out, &report, |page| show_plan(page, &report, self, with))?;
        Ok(if report.make.is_empty() { 1 } else { 0 })
    }
}

/// Shows what would be made.
fn show_plan(page: &mut Page, report: &PlanReport, given: &Prepare, with: &With<'_>) {
    let most = if with.manner().is_verbose { usize::MAX } else { MOST_TOLD };
    page.title(format!("for {}", report.profile));
    if !report.about_machine.is_empty() {
        page.row("machine", &report.about_machine);
    }
    page.table(Table {
        head: vec![
            Column::text("becomes"),
            Column::text("way"),
            Column::text("keeps"),
            Column::number("about"),
            Column::text("of"),
        ],
        rows: (report.make.iter().take(most))
            .map(|make| {
                let sources = match make.more.len() {
                    0 => make.source.clone(),
                    more => format!("{} and {} more", make.source, number(more as u64)),
                };
                vec![
                    make.path.clone(),
                    make.way.join(", then "),
                    make.keeps.words().into(),
                    size(make.about_bytes),
                    sources,
                ]
            })
            .collect(),
    });
    if report.make.len() > most {
        page.row("", format!("and {}; -v names them all", count(report.make.len() - most, "more result")));
    }
    show_left(page, &report.left_out, with);
    let unknown = match report.unknown {
        0 => String::new(),
        n => format!("; {} of other kinds", count(n, "file")),
    };
    let left = report.left_out.len();
    page.row("results", format!("{}, {} left out{unknown}", number(report.make.len() as u64), number(left as u64)));
    let share = tell::share(report.about_bytes, report.bytes_before).map(|s| format!(": {s}")).unwrap_or_default();
    if !report.make.is_empty() {
        page.row(
            "size",
            format!("{} before, about {} after{share}", size(report.bytes_before), size(report.about_bytes)),
        );
    }
    if let Some(About { seconds, known_by }) = &report.about_time {
        page.row("time", format!("about {} ({known_by})", lasting(*seconds)));
    }
    let keys = with.typed_keys();
    let onto = given.onto.as_ref().map_or_else(|| "CARD".to_owned(), |onto| quoted(&native::text(onto)));
    match &report.plan {
        Some(plan) if !report.make.is_empty() => {
            page.wrote(if report.dry_run { "would write" } else { "wrote" }, native::text(plan));
            let plan = quoted(&native::text(plan));
            page.row("next", format!("decanter prepare --follow {plan} --onto {onto}{keys}"));
        }
        _ if report.make.is_empty() => {
            let profile = quoted(given.profile.as_deref().unwrap_or_default());
            page.row("next", format!("decanter prepare profile show {profile}"));
        }
        _ => {
            let profile = quoted(given.profile.as_deref().unwrap_or_default());
            let sources: Vec<String> = given.sources.iter().map(|s| quoted(s)).collect();
            let sources = match &given.from {
                Some(list) => format!("{} --from {}", sources.join(" "), quoted(list)),
                None => sources.join(" "),
            };
            page.row("next", format!("decanter prepare {} --for {profile} --plan plan.toml{keys}", sources.trim()));
        }
    }
}

/// What is left out: why, once for all that it is the same for.
fn show_left(page: &mut Page, left_out: &[LeftOut], with: &With<'_>) {
    let mut by_reason: BTreeMap<(&str, Option<&str>), Vec<String>> = BTreeMap::new();
    for left in left_out {
        // What differs from source to source stands with the source.
        let (why, own) = match left.why.strip_prefix(ANOTHER_COPY) {
            Some(other) => (ANOTHER_COPY.trim_end_matches(": "), format!("{} (for {other})", left.source)),
            None => (left.why.as_str(), left.source.clone()),
        };
        by_reason.entry((why, left.next.as_deref())).or_default().push(own);
    }
    let most = if with.manner().is_verbose { usize::MAX } else { 3 };
    for ((why, next), sources) in by_reason {
        page.line(format!("  {}left out{} {why}", style::WARN, style::PLAIN));
        for source in sources.iter().take(most) {
            page.line(format!("             {source}"));
        }
        if sources.len() > most {
            page.line(format!("             and {}; -v names them all", count(sources.len() - most, "more source")));
        }
        if let Some(next) = next {
            page.line(format!("             {next}"));
        }
    }
}

/// Shows what came of an entry.
fn show_row(with: &With<'_>, out: &mut dyn Write, row: &Row<Prepared>) -> std::io::Result<()> {
    if with.global.json {
        return Ok(());
    }
    let manner = with.manner();
    with.watch.aside(|| {
        with.print(out, |page| {
            let was_there = row.result.as_ref().is_some_and(|made| made.was_there);
            let (colour, word) = match row.state {
                State::Done if with.global.dry_run => (style::GOOD, "to make"),
                State::Done if was_there => (style::GOOD, "there"),
                State::Done => (style::GOOD, "made"),
                State::Flawed => (style::BAD, "FLAWED"),
                State::Present => (style::GOOD, "there"),
                State::PassedOver => (style::DIM, "passed"),
                State::Failed => (style::BAD, "FAILED"),
            };
            let what = row.result.as_ref().map_or_else(
                || row.source.clone(),
                |made| match made.files.is_empty() {
                    true => made.path.clone(),
                    false => format!("{}  {}, {}", made.path, size(made.bytes_after), made.proof),
                },
            );
            page.line(format!("{colour}{word:<WORD$}{}{what}", style::PLAIN));
            let notices = row.result.iter().flat_map(|made| &made.notices).filter(|_| manner.is_verbose);
            for text in row.why.iter().chain(&row.hint).chain(notices).filter(|_| !manner.is_quiet) {
                page.line(format!("{:WORD$}  {text}", ""));
            }
        })
    })
}

/// Shows what all of it came to, and returns the exit code.
fn conclude(with: &With<'_>, out: &mut dyn Write, report: &FollowReport) -> std::io::Result<u8> {
    with.show(out, report, |page| {
        let totals = &report.made.totals;
        let made = if report.dry_run { "would be made" } else { "made" };
        let counts = [
            (totals.done, made),
            (totals.present, "there already"),
            (totals.flawed, "flawed"),
            (totals.failed, "failed"),
            (report.left_out.len(), if with.manner().is_verbose { "left out" } else { "left out (-v says why)" }),
        ];
        let told: Vec<String> =
            counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{} {what}", number(*n as u64))).collect();
        if with.manner().is_verbose {
            show_left(page, &report.left_out, with);
        }
        page.row("results", told.join(", "));
        let (before, after) = (totals.bytes_before, totals.bytes_after);
        if after > 0 {
            let share = tell::share(after, before).map(|share| format!(": {share}")).unwrap_or_default();
            page.row("size", format!("{} before, {} after{share}", size(before), size(after)));
            page.row("took", speed(before.max(after), with.took()));
        }
        if !report.starts.is_empty() {
            page.row("starts", count(report.starts.len(), "start entry").replace("entrys", "entries"));
        }
        if report.made.stopped {
            page.row("stopped", "the same command goes on with what is missing");
        }
        let onto = quoted(&native::text(&report.onto));
        if !report.dry_run {
            page.row("sheet", native::text(&report.sheet));
            if let Some(list) = &report.list {
                page.row("list", native::text(list));
                page.row("next", format!("decanter deliver --check {onto}"));
            }
        }
        page.notices(&report.notices, with.manner());
    })?;
    Ok(if report.is_stopped() { 130 } else { code_of_answer(report.answer()) })
}
