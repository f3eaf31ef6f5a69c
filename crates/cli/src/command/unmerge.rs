//! A merged file apart again.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::{Manner, Page, exact, speed, style};
use clap::Args;
use decanter_core::native;
use decanter_core::tell::count;
use decanter_jobs::merge::{self, UnmergeReport};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Take a merged file or a gamecard image apart: one package for each title in it
#[derive(Debug, Clone, Args)]
#[command(
    after_help = "Example:  decanter unmerge \"card/Kelp Courier [05009A3E11D20000] [v131072] (1 base, 1 update, 2 add-ons).xci\" -o parts\n\n\
    Each package has the contents, list, ticket and certificate that belong to its title, byte for\n\
    byte; merged again, they give the same file."
)]
pub struct Unmerge {
    /// A package or a gamecard image
    #[arg(value_name = "SOURCE", value_parser = native())]
    source: String,
    /// The folder to write [default: the source's name, in the current folder]
    #[arg(short, long, value_name = "DIR")]
    output: Option<PathBuf>,
    /// Copy contents without holding them against their digests; the report says so
    #[arg(long)]
    unchecked: bool,
}

impl Run for Unmerge {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { source, output, unchecked } = self;
        let mut setting = with.setting(None)?;
        setting.unchecked = *unchecked;
        let (report, answer) = merge::unmerge(source, output.as_deref(), &setting)?;
        with.show(out, &report, |page| show(page, &report, *unchecked, with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// Shows what was taken apart.
pub fn show(page: &mut Page, report: &UnmergeReport, is_unchecked: bool, took: Duration, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for row in &report.results {
        match (&row.path, &row.error) {
            (_, Some(error)) => {
                page.line(format!("{}not made{} {} [{}]", style::BAD, style::PLAIN, row.what, row.id));
                page.brief(format!("not made {} [{}]: {error}", row.what, row.id));
                page.row("why", error);
            }
            (Some(path), None) => {
                page.wrote(verb, native::text(path));
                let checked = match (is_unchecked, report.dry_run) {
                    (true, _) => "not checked".into(),
                    (_, true) => "not checked yet".into(),
                    _ => format!("{} checked", count(row.checked as u64, "content", "contents")),
                };
                page.row("holds", format!("{}, {}, {checked}", row.what, exact(row.bytes)));
            }
            (None, None) => {}
        }
    }
    page.row("from", &report.source);
    let bytes: u64 = report.results.iter().map(|r| r.bytes).sum();
    if !report.dry_run && bytes > 0 {
        page.row("took", speed(bytes, took));
    }
    page.notices(&report.notices, manner);
}
