//! Files out of a source.

use super::{Run, With, shelf};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, PasscodeArg, SourcesArg, WithArg, native};
use crate::render::{Manner, Page, count, exact, number, size, speed, style};
use clap::Args;
use decanter_core::native;
use decanter_jobs::extract;
use decanter_jobs::extract::ExtractReport;
use decanter_jobs::overlay::OverlayReport;
use decanter_jobs::shelf::{Row, Work};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Copy the files inside a source into a folder, decrypting on the way
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter extract \"saltmarsh/Kelp Courier.zip\" -o kelp\n           \
    decanter extract \"saltmarsh/Kelp Courier.iso\" --only '*.png' --only PS3_GAME/TROPDIR\n           \
    decanter extract \"saltmarsh/machines/Fogbell arcade.chd::1::GAMES/FOGBELL\" -o fogbell\n           \
    decanter extract fogbell -o fixed --overlay saltmarsh/machines/fixes --originals before\n           \
    decanter extract saltmarsh/downloads/3c41d9a7e05b2f68c19d.xcp -o rowing\n\n\
    What is damaged or missing in the source is left out and named; the exit code is then 1. Every file is\n\
    held against a description of the disc that lies next to it, and against what the source says of itself.")]
pub struct Extract {
    #[command(flatten)]
    sources: SourcesArg,
    /// The folder to write; of several sources the folder for a folder of each; - writes the one file that --only
    /// chooses to standard output [default: the source's name, in the current folder]
    #[arg(short, long, value_name = "DIR|-")]
    output: Option<PathBuf>,
    /// Only what matches: a path, a name, or a folder, with * and ? (repeatable; case does not count)
    #[arg(long, value_name = "GLOB", value_parser = native())]
    only: Vec<String>,
    /// Lay the files of this folder or archive over the result: those of the same path are replaced (repeatable)
    #[arg(long, value_name = "FOLDER", value_parser = native())]
    overlay: Vec<String>,
    /// Keep what the overlay replaces in this folder; laid over the result, it undoes the overlay
    #[arg(long, value_name = "DIR", requires = "overlay", hide_short_help = true)]
    originals: Option<PathBuf>,
    /// Of a content package: put TITLEID/KIND/NAME in front of its files, as emulators expect it
    #[arg(long)]
    content_tree: bool,
    /// Fail if there is no description to hold the files against; one next to the source is used in any case
    #[arg(long)]
    verify: bool,
    /// The description of this disc [default: the one next to the source]
    #[arg(long, value_name = "FILE", value_parser = native(), hide_short_help = true)]
    against: Vec<String>,
    /// Take the files as they are: ask no checksum around them, no digest of the source, no description
    #[arg(long, conflicts_with_all = ["verify", "against"])]
    unchecked: bool,
    #[command(flatten)]
    companions: WithArg,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for Extract {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let mut setting = with.setting_with_passcode(Some(&self.key), &self.passcode)?;
        setting.unchecked = self.unchecked;
        setting.take_along(&self.companions.with)?;
        let options = extract::Options {
            only: self.only.clone(),
            overlay: self.overlay.clone(),
            originals: self.originals.clone(),
            verify: self.verify,
            against: self.against.clone(),
            content_tree: self.content_tree,
        };
        let output = self.output.as_deref();
        let sources = self.sources.all(&setting)?;
        let shown = match extract::sort_out(&sources, &options, self.sources.how(false, false), &setting)? {
            Work::One(shown) => shown,
            Work::Many(search) => {
                let mut tell = |row: &Row<ExtractReport>| shelf::show_row(with, out, row, &in_short);
                let report = extract::extract_each(search, output, &options, &setting, &mut tell)??;
                return Ok(shelf::conclude(with, out, &report)?);
            }
        };
        if let Some(mut stream) = with.stream(output)? {
            let report = extract::extract_onto(&mut stream, &shown, &options, &setting)?;
            with.show_aside(&report, |page| page.row("wrote", format!("{} to standard output", exact(report.bytes))))?;
            return Ok(0);
        }
        let (report, answer) = extract::extract(&shown, output, &options, &setting)?;
        with.show(out, &report, |page| show_extract(page, &report, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// What was copied out of one of many sources.
fn in_short(report: &ExtractReport) -> String {
    let folder = as_folder(&report.folder);
    let left = match report.left_out.len() {
        0 => String::new(),
        n => format!(", {} left out", count(n, "file")),
    };
    let there = match report.there_already {
        0 => String::new(),
        n => format!(", {} there already", number(n as u64)),
    };
    format!("{folder}  {}, {}{there}{left}", count(report.files, "file"), size(report.bytes))
}

/// Names that are told one by one, unless everything is asked for.
const MOST_NAMES: usize = 40;

/// Shows what was extracted.
pub fn show_extract(page: &mut Page, report: &ExtractReport, took: Duration, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_NAMES };
    for left in report.left_out.iter().take(most) {
        page.line(format!("  {}left out{}     {}", style::BAD, style::PLAIN, left.path));
        page.row("", &left.why);
    }
    if report.left_out.len() > most {
        page.line(format!("  and {}; -v names them all", count(report.left_out.len() - most, "more file")));
    }
    for renamed in report.renamed.iter().take(most) {
        page.line(format!(
            "  {}renamed{}      {} became {}",
            style::WARN,
            style::PLAIN,
            renamed.from,
            native::text(&renamed.to)
        ));
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    let what = format!("{}, {} ({} bytes)", count(report.files, "file"), size(report.bytes), number(report.bytes));
    let folder = as_folder(&report.folder);
    page.wrote(verb, &folder);
    page.row("from", &report.source);
    page.row("holds", &what);
    if let Some(against) = &report.against {
        page.row("checked", format!("every file that it describes, against {against}"));
    }
    for wrong in report.structure.iter().take(most) {
        page.row("damaged", format!("{}{wrong}{}", style::BAD, style::PLAIN));
    }
    if let Some(name) = &report.attributes {
        page.row("attributes", format!("protection bits, comments and dates are in {name}; convert puts them back"));
    }
    if let Some(overlay) = &report.overlay {
        show_overlay(page, overlay, most);
    }
    if let Some(originals) = &report.originals {
        page.row("originals", format!("{}: with --overlay they undo it", native::text(originals)));
    }
    if !report.dry_run {
        page.row("took", speed(report.bytes, took));
    }
    if let Some(advice) = report.advice.as_ref().filter(|_| !report.left_out.is_empty()) {
        let (bad, plain) = (style::BAD, style::PLAIN);
        page.row("but", format!("{bad}{} left out{plain}; {advice}", count(report.left_out.len(), "file")));
        page.brief(format!("{} left out", count(report.left_out.len(), "file")));
    }
    page.notices(&report.notices, manner)
}

/// Shows which files were laid over.
fn show_overlay(page: &mut Page, overlay: &OverlayReport, most: usize) {
    let parts = [("replaced", &overlay.replaced), ("new", &overlay.added), ("the same already", &overlay.matching)];
    let told: Vec<String> =
        parts.iter().map(|(what, paths)| format!("{} {what}", number(paths.len() as u64))).collect();
    page.row("laid over", told.join(", "));
    for (what, paths) in parts {
        for path in paths.iter().take(most) {
            page.row("", format!("{what:<17} {path}"));
        }
    }
}

/// A folder as it is written, whether it was typed with a slash at its end or not.
fn as_folder(path: &Path) -> String {
    let text = native::text(path);
    match text.contains("://") {
        // The slashes of an address are its own.
        true => format!("{}/", text.trim_end_matches('/')),
        false => native::text(path.components().collect::<PathBuf>().join("")),
    }
}
