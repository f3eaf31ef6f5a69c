//! One good dump of several bad ones.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::page::{Column, Table};
use crate::render::{Manner, Page, count, exact, number, speed, style};
use clap::Args;
use decanter_core::{Algorithm, native};
use decanter_jobs::repair::{self, By, RepairVerdict, RepairedReport};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Make one good dump of several bad copies
#[derive(Debug, Clone, Args)]
#[command(
    after_help = "Example:  decanter repair \"saltmarsh/Kelp Courier.iso\" \"saltmarsh/Kelp Courier (damaged).iso\" \\\n             \
    --against \"saltmarsh/Kelp Courier.ird\" --keys saltmarsh -o \"Kelp Courier (repaired).iso\"\n\n\
    Where copies differ, that one is taken which the description proves: files and regions of a disc\n\
    description, the digests of a DAT file or a checksum list. Sectors of a raw CD image are proven by their\n\
    own parities, packed images by the checksums of their blocks. Copies may be packed, cut short, or not\n\
    finished. Without a description, what most copies agree on is taken, and told as such: AGREED is no proof.\n\
    Nothing gets its name that is not as described."
)]
pub struct Repair {
    /// Copies of one dump
    #[arg(value_name = "COPY", required = true, value_parser = native())]
    copies: Vec<String>,
    /// A disc description, a DAT file or a checksum list (repeatable)
    #[arg(long, value_name = "FILE", value_parser = native())]
    against: Vec<String>,
    /// The dump to write [default: the first copy's name, in the current folder]
    #[arg(short, long, value_name = "FILE-OR-DIR")]
    output: Option<PathBuf>,
    /// Write the best there is although it is not as described; the exit code is then 1
    #[arg(long)]
    keep_damage: bool,
    /// Digests of the result, separated by commas: crc32, md5, sha1, sha256
    #[arg(short, long, value_delimiter = ',', value_name = "LIST", hide_short_help = true)]
    algorithm: Vec<Algorithm>,
}

impl Run for Repair {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let options = repair::Options {
            against: self.against.clone(),
            keep_damage: self.keep_damage,
            digests: self.algorithm.clone(),
        };
        let setting = with.setting(None)?;
        let (report, answer) = repair::repair(&self.copies, self.output.as_deref(), &options, &setting)?;
        with.show(out, &report, |page| show(page, &report, &with.typed_keys(), with.took(), with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// Places that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 20;

fn show(page: &mut Page, report: &RepairedReport, keys: &str, took: Duration, manner: Manner) {
    if let Some(target) = &report.target {
        page.wrote(if report.dry_run { "would write" } else { "wrote" }, native::text(target));
    }
    page.table(Table {
        head: vec![Column::number("copy"), Column::text("file"), Column::number("lacks"), Column::number("gave")],
        rows: (report.copies.iter().enumerate())
            .map(|(at, copy)| {
                let cells = [copy.missing_sectors, copy.taken_sectors].map(number);
                let [lacks, gave] = cells;
                vec![(at + 1).to_string(), copy.source.clone(), lacks, gave]
            })
            .collect(),
    });
    page.row("differ", report.differing());
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
    for stretch in report.stretches.iter().take(most) {
        let last = stretch.first + stretch.count - 1;
        let sectors = match stretch.count {
            1 => format!("sector {}", number(stretch.first)),
            _ => format!("sectors {} to {}", number(stretch.first), number(last)),
        };
        let from = stretch.from.map_or_else(|| "from none".to_owned(), |from| format!("from copy {from}"));
        let why = match &stretch.by {
            By::Parity => "its parities hold".to_owned(),
            By::Digest(part) => format!("proven by {part}"),
            By::Majority => "most copies agree; not proven".to_owned(),
            By::OnlyCopy => "no other copy has it".to_owned(),
            By::Nothing => "nothing tells which copy is right".to_owned(),
        };
        page.row("", format!("{sectors} {from}: {why}"));
    }
    if report.stretch_count > most {
        page.row("", format!("and {}; -v names them", count(report.stretch_count - most, "more place")));
    }
    let (colour, word) = match report.verdict {
        RepairVerdict::Match => (style::GOOD, "MATCH"),
        RepairVerdict::Sound => (style::GOOD, "SOUND"),
        RepairVerdict::Agreed => (style::WARN, "AGREED"),
        RepairVerdict::Unsolved => (style::BAD, "UNSOLVED"),
    };
    page.line(format!("  {colour}{word}{}: {}", style::PLAIN, report.proof));
    if report.target.is_some() {
        page.row("size", exact(report.bytes));
    }
    page.digests(&report.digests);
    if report.target.is_some() && !report.dry_run {
        page.row("took", speed(report.bytes, took));
    }
    if let Some(next) = report.next().filter(|_| !report.dry_run) {
        page.row("next", format!("{next}{keys}"));
    }
    page.notices(&report.notices, manner);
}
