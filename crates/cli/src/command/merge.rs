//! Base, update and add-ons in one file.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::SourcesArg;
use crate::render::{Manner, Page, exact, size, speed, style};
use clap::{Args, ValueEnum};
use decanter_core::native;
use decanter_core::tell::count;
use decanter_jobs::merge::{self, Form, MergeReport, Merged, Options};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Put base, update and add-ons of a title into one file, each still separate inside
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter merge \"saltmarsh/shelf/Kelp Courier\" --to xci -o card/\n           \
    decanter merge saltmarsh/shelf --each --to nsp -o card/\n\n\
    The newest update is taken, all add-ons are kept; what is left out is named. Contents are carried\n\
    byte for byte, so their signatures stay valid, and each is held against the SHA-256 that its title's\n\
    list has of it in the same read. The same set gives the same bytes, whatever the order on the\n\
    command line. \"decanter unmerge\" takes the result apart again.")]
pub struct Merge {
    #[command(flatten)]
    sources: SourcesArg,
    /// What the result is: a package or a gamecard image
    #[arg(long, value_name = "FORMAT")]
    to: To,
    /// The file to write, or with / at its end the folder [default: named after what it holds, in the current folder]
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Make a file for each title; what fails does not stop the rest
    #[arg(long)]
    each: bool,
    /// Merge updates and add-ons although their base is not there
    #[arg(long, hide_short_help = true)]
    without_base: bool,
    /// Make a gamecard image as long as the card [default: as long as what it holds]
    #[arg(long)]
    pad: bool,
    /// Read the result back and check every digest in it before it gets its name
    #[arg(long)]
    prove: bool,
    /// Move the keys of contents under a title key into their own key area, so that no ticket is needed. Their bytes
    /// stay, headers and lists are redone; the makers' signatures do not hold any more
    #[arg(long, hide_short_help = true)]
    standard_crypto: bool,
    /// Which system a console must have to start the title. lowest asks for the first one that has the keys of its
    /// contents, where the maker asks for a later one; that changes lists, whose signatures do not hold any more
    #[arg(long, value_name = "WHICH", default_value = "keep", hide_short_help = true)]
    required_system: System,
    /// Copy contents without holding them against their digests; the report says so
    #[arg(long, hide_short_help = true)]
    unchecked: bool,
}

/// What a result is.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum To {
    /// A package.
    Nsp,
    /// A gamecard image.
    Xci,
}

/// Which system is asked for.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum System {
    /// The one that each title asks for.
    Keep,
    /// The first one that has the keys.
    Lowest,
}

impl Run for Merge {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, to, output, each, without_base, pad, prove, standard_crypto, required_system, unchecked } =
            self;
        let form = match to {
            To::Nsp => Form::Nsp,
            To::Xci => Form::Xci,
        };
        let options = Options {
            each: *each,
            without_base: *without_base,
            pad: *pad,
            prove: *prove,
            standard_crypto: *standard_crypto,
            lowest_system: matches!(required_system, System::Lowest),
        };
        let mut setting = with.setting(None)?;
        setting.unchecked = *unchecked;
        let (report, answer) = merge::merge(&sources.all(&setting)?, form, output.as_deref(), &options, &setting)?;
        with.show(out, &report, |page| show(page, &report, *unchecked, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// Shows what was merged.
pub fn show(page: &mut Page, report: &MergeReport, is_unchecked: bool, took: Duration, manner: Manner) {
    for (index, merged) in report.results.iter().enumerate() {
        if index > 0 {
            page.blank();
        }
        one(page, merged, report.dry_run, is_unchecked);
    }
    for why in &report.failed {
        page.line(format!("{}passed over{} {why}", style::BAD, style::PLAIN));
        page.brief(format!("passed over {why}"));
    }
    let bytes: u64 = report.results.iter().filter(|r| r.error.is_none()).map(|r| r.bytes).sum();
    if !report.dry_run && bytes > 0 {
        page.row("took", speed(bytes, took));
    }
    for merged in &report.results {
        page.notices(&merged.notices, manner);
    }
    page.notices(&report.notices, manner);
}

fn one(page: &mut Page, merged: &Merged, is_dry: bool, is_unchecked: bool) {
    let title = merged.title.as_deref().unwrap_or(&merged.id);
    match (&merged.path, &merged.error) {
        (_, Some(error)) => {
            page.line(format!("{}not made{} {title} [{}]", style::BAD, style::PLAIN, merged.id));
            page.brief(format!("not made {title} [{}]: {error}", merged.id));
            page.row("why", error);
        }
        (Some(path), None) => {
            let verb = if is_dry { "would write" } else { "wrote" };
            page.wrote(verb, native::text(path));
        }
        (None, None) => {}
    }
    page.row("title", format!("{title} [{}]", merged.id));
    page.row("holds", &merged.holds);
    for (index, (source, what)) in merged.parts.iter().enumerate() {
        page.row(if index == 0 { "from" } else { "" }, format!("{source}: {what}"));
    }
    if merged.error.is_none() {
        page.row("size", format!("{}, {}", exact(merged.bytes), count(merged.files as u64, "file", "files")));
        for (name, value) in &merged.facts {
            page.row(name, value);
        }
        let checked = match (is_unchecked, is_dry) {
            (true, _) => format!("{}NOTHING: contents were copied as they are{}", style::WARN, style::PLAIN),
            (_, true) => "nothing yet: this is a dry run".into(),
            _ => format!("{} by the SHA-256 in their lists", count(merged.checked as u64, "content", "contents")),
        };
        page.row("checked", checked);
        if let Some(proven) = &merged.proven {
            let same = match proven.same_plaintext {
                0 => String::new(),
                n => format!("; {} under other keys are the same without them", size(n)),
            };
            page.row(
                "proof",
                format!(
                    "{}read back: {} hold{same}{}",
                    style::GOOD,
                    count(proven.digests as u64, "digest", "digests"),
                    style::PLAIN
                ),
            );
        }
    }
    if let Some(hint) = &merged.hint {
        page.row("next", hint);
    }
}
