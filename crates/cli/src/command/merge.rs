//! Base, update and add-ons in one file.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{PasscodeArg, SourcesArg};
use crate::render::{Manner, Page, exact, number, size, speed, style};
use clap::{Args, ValueEnum};
use decanter_core::native;
use decanter_core::tell::count;
use decanter_jobs::layers::{self, Kept};
use decanter_jobs::merge::{self, Form, LayerOptions, MergeReport, Merged, Options};
use decanter_jobs::{Answer, Failure, Setting, typed};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Put base, update and add-ons of a title into one file
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter merge \"saltmarsh/shelf/Kelp Courier\" --to xci -o card/\n           \
    decanter merge saltmarsh/shelf --each --to nsp -o card/\n           \
    decanter merge saltmarsh/pier9/base.pkg saltmarsh/pier9/update.pkg saltmarsh/pier9/backport -o nine.pkg\n\n\
    Switch titles stay separate inside: the newest update is taken, all add-ons are kept, what is left\n\
    out is named. Contents are carried byte for byte, so their signatures stay valid, and each is held\n\
    against the SHA-256 that its title's list has of it in the same read. The same set gives the same\n\
    bytes, whatever the order on the command line. \"decanter unmerge\" takes the result apart again.\n\n\
    PS4 packages: the base first, then updates, then folders or packages with replacement files.\n\
    A file of a later source takes the place of one at the same path, whatever its case; nothing is\n\
    unpacked on the way.")]
pub struct Merge {
    #[command(flatten)]
    sources: SourcesArg,
    /// What the result is: a package (nsp) or a gamecard image (xci) of a Switch title; may be left out for PS4 packages
    #[arg(long, value_name = "FORMAT")]
    to: Option<To>,
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
    /// Of a PS4 title: instead of merging, say whether the update installs over the base as it is, and what decides that
    #[arg(long, conflicts_with_all = ["to", "output", "set", "deflated", "prove"])]
    keep_update: bool,
    /// Give the parameter file of a merged PS4 package this value: a text, or a number as in SYSTEM_VER=0x05050000 (repeatable)
    #[arg(long, value_name = "KEY=VALUE")]
    set: Vec<String>,
    /// Keep the files of a merged PS4 package deflated, in blocks; that takes longer, and less room [default: stored]
    #[arg(long)]
    deflated: bool,
    #[command(flatten)]
    passcode: PasscodeArg,
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
    /// A PS4 package.
    #[value(name = "ps4-pkg")]
    Ps4Pkg,
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
        let mut setting = with.setting_with_passcode(None, &self.passcode)?;
        setting.unchecked = self.unchecked;
        let sources = self.sources.all(&setting)?;
        if self.keep_update {
            let (kept, answer) = layers::keep(&sources, &setting)?;
            with.show(out, &kept, |page| show_kept(page, &kept))?;
            return Ok(code_of_answer(answer));
        }
        let (report, answer) = self.merged(&sources, &setting)?;
        with.show(out, &report, |page| show(page, &report, self.unchecked, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

impl Merge {
    /// Merges titles, or files over each other: `--to` says which, or else what the sources are.
    fn merged(&self, sources: &[String], setting: &Setting<'_>) -> Result<(MergeReport, Answer), Failure> {
        let what = "cannot merge";
        let form = match self.to {
            Some(To::Nsp) => Some(Form::Nsp),
            Some(To::Xci) => Some(Form::Xci),
            Some(To::Ps4Pkg) => None,
            None if merge::are_layers(sources, setting)? => None,
            None => {
                let hint = "add --to nsp for a package, or --to xci for a gamecard image; of a PS4 title, give the packages themselves: decanter identify FOLDER says which, and in which order";
                return Err(Failure::usage(what, "what the result is to be is not said").hint(hint));
            }
        };
        let output = self.output.as_deref();
        let Some(form) = form else {
            let given = [
                ("--each", self.each),
                ("--without-base", self.without_base),
                ("--pad", self.pad),
                ("--standard-crypto", self.standard_crypto),
                ("--required-system lowest", matches!(self.required_system, System::Lowest)),
            ];
            if let Some((name, _)) = given.iter().find(|(_, is_given)| *is_given) {
                return Err(Failure::usage(what, format!("{name} has no meaning with PS4 packages"))
                    .hint("it is for --to nsp and xci: leave it out"));
            }
            let options = LayerOptions { set: self.set.clone(), deflated: self.deflated, prove: self.prove };
            return merge::merge_layers(sources, output, &options, setting);
        };
        let given = [("--set", !self.set.is_empty()), ("--deflated", self.deflated)];
        if let Some((name, _)) = given.iter().find(|(_, is_given)| *is_given) {
            return Err(Failure::usage(what, format!("{name} has no meaning with --to {}", form.id()))
                .hint("it is for PS4 packages: leave it out"));
        }
        let options = Options {
            each: self.each,
            without_base: self.without_base,
            pad: self.pad,
            prove: self.prove,
            standard_crypto: self.standard_crypto,
            lowest_system: matches!(self.required_system, System::Lowest),
        };
        merge::merge(sources, form, output, &options, setting)
    }
}

/// Shows whether updates install over a base.
fn show_kept(page: &mut Page, kept: &Kept) {
    let (good, bad, plain) = (style::GOOD, style::BAD, style::PLAIN);
    page.title(&kept.base.source);
    page.row("base", format!("{} [{}], {}", kept.base.title, kept.base.title_id, kept.base.what()));
    for (own, points) in &kept.updates {
        page.blank();
        page.title(&own.source);
        page.row("update", own.what());
        for point in points {
            let (color, word) = match point.holds {
                Some(true) => (good, "fits"),
                Some(false) => (bad, "does not fit"),
                None => (style::WARN, "not known"),
            };
            page.row(&point.what, format!("{color}{word}{plain}: {}", point.found));
        }
    }
    page.blank();
    let sources: Vec<String> =
        std::iter::once(&kept.base).chain(kept.updates.iter().map(|(own, _)| own)).map(|l| typed(&l.source)).collect();
    let (answer, next) = match kept.holds() {
        true => {
            (format!("{good}YES{plain}: nothing stands against installing the update over the base"), String::new())
        }
        false => (
            format!("{bad}NO{plain}: as it is, the update does not install over the base"),
            format!("decanter merge {}", sources.join(" ")),
        ),
    };
    page.brief(if kept.holds() { "installs" } else { "does not install" });
    page.row("answer", answer);
    if !next.is_empty() {
        page.row("next", next);
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
        show_layers(page, merged);
        let checked = match (is_unchecked, is_dry) {
            (true, _) => format!("{}NOTHING: contents were copied as they are{}", style::WARN, style::PLAIN),
            (_, true) => "nothing yet: this is a dry run".into(),
            _ if !merged.taken.is_empty() => "what comes out of packages, by their signatures and digests".into(),
            _ => format!("{} by the SHA-256 in their lists", count(merged.checked as u64, "content", "contents")),
        };
        page.row("checked", checked);
        if let Some(proven) = &merged.proven {
            let same = match (proven.same_plaintext, proven.same_files) {
                (_, Some(files)) => {
                    format!("; all {} are those of their sources", count(files as u64, "file", "files"))
                }
                (0, _) => String::new(),
                (n, _) => format!("; {} under other keys are the same without them", size(n)),
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

/// Files that are named one by one.
const MOST_NAMES: usize = 12;

/// Shows what each source gave, and what was left behind.
fn show_layers(page: &mut Page, merged: &Merged) {
    for (index, taken) in merged.taken.iter().enumerate() {
        let mut words = vec![format!("{}, {}", count(taken.files as u64, "file", "files"), size(taken.bytes))];
        if index > 0 {
            words.push(format!("{} replaced, {} added", number(taken.replaced as u64), number(taken.added as u64)));
        }
        if taken.superseded > 0 {
            words.push(format!("{} replaced by later ones", number(taken.superseded as u64)));
        }
        page.row(if index == 0 { "takes" } else { "" }, format!("{}: {}", taken.what, words.join("; ")));
    }
    for (index, dropped) in merged.dropped.iter().take(MOST_NAMES).enumerate() {
        let name = if index == 0 { "leaves out" } else { "" };
        page.row(name, format!("{} of {}: {}", dropped.path, dropped.source, dropped.why));
    }
    if merged.dropped.len() > MOST_NAMES {
        page.row("", format!("and {} more; --json names them all", number((merged.dropped.len() - MOST_NAMES) as u64)));
    }
}
