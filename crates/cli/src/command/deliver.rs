//! Results onto a card or stick, and whether they are still there.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::{Manner, Page, count, exact, number, size, speed, style};
use clap::Args;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use decanter_core::native;
use decanter_jobs::Failure;
use decanter_jobs::deliver::{self, CheckReport, CheckedState, DeliverReport, LAYOUTS, Layout};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Put results onto a card or stick, within its limits, and read them back
#[derive(Debug, Clone, Args)]
#[command(
    after_help = "Examples:  decanter deliver \"saltmarsh/Moth Parade.iso\" --onto /media/stick --layout psp\n           \
    decanter deliver --check /media/stick\n\n\
    What the card cannot hold (names, large files, too little room) is told before the first byte, with\n\
    the command that splits a file. What is there already with the same bytes stays. A list of what was\n\
    put there is written beside it, as checksum programs read it. Nothing is ever formatted."
)]
pub struct Deliver {
    /// Files, or folders with all that is in them
    #[arg(value_name = "SOURCE", value_parser = native(), required_unless_present = "check")]
    sources: Vec<String>,
    /// The folder where the card or stick is mounted
    #[arg(long, value_name = "DIR", required_unless_present = "check")]
    onto: Option<PathBuf>,
    /// Folders by what a file is: plain (all at the top), ps3, psp
    #[arg(long, value_name = "NAME", default_value = LAYOUTS[0].name, value_parser = PossibleValuesParser::new(LAYOUTS.iter().map(|l| l.name)).try_map(|name| Layout::named(&name).ok_or("no layout")))]
    layout: &'static Layout,
    /// Take file system, limits and free room from this image of a card instead of the folder's
    #[arg(long, value_name = "IMAGE", value_parser = native())]
    like: Option<String>,
    /// Compare what is in this folder with the list of what was put there
    #[arg(long, value_name = "DIR", conflicts_with_all = ["sources", "onto", "like", "layout"])]
    check: Option<PathBuf>,
}

impl Run for Deliver {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let setting = with.setting(None)?;
        if let Some(onto) = &self.onto {
            let options = deliver::Options { layout: self.layout, like: self.like.clone() };
            let (report, answer) = deliver::deliver(&self.sources, onto, &options, &setting)?;
            with.show(out, &report, |page| show(page, &report, with.took(), with.manner()))?;
            return Ok(code_of_answer(answer));
        }
        let folder = self.check.as_ref().ok_or_else(|| Failure::usage("cannot deliver", "no folder is named"))?;
        let (report, answer) = deliver::check(folder, &setting)?;
        with.show(out, &report, |page| show_check(page, &report, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// Names that are told one by one, unless everything is asked for.
const MOST_NAMES: usize = 40;

fn show(page: &mut Page, report: &DeliverReport, took: Duration, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_NAMES };
    let onto = report.onto.components().collect::<PathBuf>().join("");
    page.wrote(if report.dry_run { "would put files into" } else { "put files into" }, native::text(&onto));
    for file in report.files.iter().take(most) {
        let there = if file.was_there { ", there already" } else { "" };
        page.row("file", format!("{}  {}{there}", file.path, size(file.bytes)));
    }
    if report.files.len() > most {
        page.row("", format!("and {}; -v names them all", count(report.files.len() - most, "more file")));
    }
    let card = &report.card;
    page.row("card", format!("{} ({})", card.file_system, card.known_by));
    if let Some(largest) = card.largest_file {
        page.row("largest file", size(largest));
    }
    if let Some(free) = card.free_bytes {
        page.row("was free", size(free));
    }
    page.row("written", exact(report.bytes));
    if !report.dry_run {
        let there = report.files.iter().filter(|f| f.was_there).count();
        let proof = match (there, report.files.len() - there) {
            (_, 0) => "what is there was compared with the sources, and is identical",
            (0, _) => "every file was read back after it was on the medium, and is identical",
            _ => "what is new was read back after it was on the medium, what was there was compared: all is identical",
        };
        page.row("proof", format!("{}{proof}{}", style::GOOD, style::PLAIN));
        page.row("list", native::text(&report.manifest));
        page.row("took", speed(report.bytes, took));
    }
    page.row("next", format!("decanter deliver --check {}", decanter_jobs::quoted(&native::text(&report.onto))));
}

fn show_check(page: &mut Page, report: &CheckReport, took: Duration, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_NAMES };
    let wrong: Vec<_> = report.files.iter().filter(|f| f.state != CheckedState::Match).collect();
    page.line(native::text(&report.folder));
    for file in wrong.iter().take(most) {
        let word = match file.state {
            CheckedState::Match => "match",
            CheckedState::Differs => "differs",
            CheckedState::Missing => "missing",
            CheckedState::Unreadable => "unreadable",
        };
        page.line(format!("  {}{word:<12}{} {}", style::BAD, style::PLAIN, file.path));
        if let Some(why) = &file.why {
            page.row("", why);
        }
    }
    if wrong.len() > most {
        page.row("", format!("and {}; -v names them all", count(wrong.len() - most, "more file")));
    }
    let all = report.files.len();
    page.row(
        "files",
        format!("{} of {} as they were put there", number((all - wrong.len()) as u64), number(all as u64)),
    );
    page.row("took", speed(report.bytes, took));
    if !wrong.is_empty() {
        page.row("next", "deliver what is missing or differs once more: with --replace where a file differs");
    }
}
