//! What the collection has and lacks.

use super::super::{Run, With};
use super::show;
use crate::Stop;
use crate::global::native;
use crate::render::page::{Column, Table};
use crate::render::{Page, count, number, size};
use clap::{Args, ValueEnum};
use decanter_jobs::cellar::{self, Asked, Row, StatusReport};
use std::io::Write;

/// Show what the collection has, lacks, has twice, and what is wrong with it
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:\n  \
    decanter cellar status --cellar saltmarsh-cellar\n  \
    decanter cellar status --cellar saltmarsh-cellar --missing --csv\n  \
    decanter cellar status --cellar saltmarsh-cellar --names have\n\n\
    A set is a DAT file, by the name in it. Complete: everything of a game is here; in part: something;\n\
    missing: nothing. What nobody has dumped is not missing. Damaged is what cannot be read, has\n\
    changed, or has the name of an entry and other bytes.")]
pub struct Status {
    /// What the sets have and the collection has not
    #[arg(long, group = "which")]
    missing: bool,
    /// Content that is there more than once
    #[arg(long, group = "which")]
    doubles: bool,
    /// What no set knows
    #[arg(long, group = "which")]
    unknown: bool,
    /// What cannot be read, has changed, or differs from its set
    #[arg(long, group = "which")]
    damaged: bool,
    /// Only this set; without a list, its games
    #[arg(long, value_name = "NAME", value_parser = native())]
    set: Option<String>,
    /// A table that other programs read (RFC 4180)
    #[arg(long, conflicts_with_all = ["json", "names"])]
    csv: bool,
    /// Nothing but the names of entries, a line each
    #[arg(long, value_name = "WHICH", conflicts_with_all = ["json", "which"])]
    names: Option<Names>,
}

/// Which entries are named.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Names {
    /// Those that are here.
    Have,
    /// Those that are not.
    Missing,
}

impl Status {
    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        self.csv || self.names.is_some()
    }

    fn asked(&self) -> Asked {
        match (self.missing, self.doubles, self.unknown, self.damaged) {
            (true, ..) => Asked::Missing,
            (_, true, ..) => Asked::Doubles,
            (_, _, true, _) => Asked::Unknown,
            (_, _, _, true) => Asked::Damaged,
            _ => Asked::All,
        }
    }
}

impl Run for Status {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let setting = with.setting(None)?;
        let set = self.set.as_deref();
        if let Some(which) = self.names {
            for name in cellar::names(which == Names::Have, set, &setting)? {
                writeln!(out, "{name}")?;
            }
            return Ok(0);
        }
        let report = cellar::status(self.asked(), set, &setting)?;
        if self.csv {
            // Line by line: what a name has of control characters is told as such.
            for line in cellar::csv(&report).lines() {
                writeln!(out, "{line}")?;
            }
            return Ok(0);
        }
        with.show(out, &report, |page| page_of(page, &report))?;
        Ok(0)
    }
}

fn page_of(page: &mut Page, report: &StatusReport) {
    match (&report.rows, report.list) {
        (Some(rows), Some(list)) => {
            rows_of(page, list, rows);
            page.line(count(rows.len(), "line"));
        }
        _ => {
            for place in report.places.iter().filter(|place| !place.is_mounted) {
                page.row("not mounted", format!("{}: its files stay counted", place.root));
            }
            show::sets(page, &report.sets);
            if !report.sets.is_empty() {
                page.blank();
            }
            show::counts(page, &report.counts);
            let cellar = decanter_jobs::quoted(&report.cellar);
            let counts = &report.counts;
            let next = match () {
                () if counts.files == 0 => format!("decanter cellar scan --cellar {cellar} FOLDER..."),
                () if counts.damaged > 0 => format!("decanter cellar status --cellar {cellar} --damaged"),
                () if report.sets.is_empty() => format!("decanter cellar match --cellar {cellar} --dat FILE"),
                () if counts.missing > 0 => format!("decanter cellar status --cellar {cellar} --missing"),
                () if counts.unknown > 0 => format!("decanter cellar status --cellar {cellar} --unknown"),
                () => return,
            };
            page.row("next", next);
        }
    }
}

fn rows_of(page: &mut Page, list: &str, rows: &[Row]) {
    let columns = cellar::columns(list);
    let head = |name: &'static str| match name {
        "bytes" => Column::number("SIZE"),
        "group" => Column::number("GROUP"),
        "path" => Column::text("PATH"),
        "set" => Column::text("SET"),
        "game" => Column::text("GAME"),
        "name" => Column::text("NAME"),
        "state" => Column::text("STATE"),
        "kind" => Column::text("KIND"),
        "damage" => Column::text("DAMAGE"),
        "why" => Column::text("WHY"),
        "good_copy" => Column::text("GOOD COPY"),
        "parent" => Column::text("VARIANT OF"),
        _ => Column::text("DIGEST"),
    };
    let has = |name: &str| rows.iter().any(|row| !cellar::cell(row, name).is_empty());
    // Digests are for programs; what no row has needs no column.
    let shown: Vec<&'static str> = columns.iter().copied().filter(|name| *name != "digest" && has(name)).collect();
    let cell = |row: &Row, name: &str| match (name, row.bytes) {
        ("bytes", Some(bytes)) => size(bytes),
        ("group", _) => row.group.map(number).unwrap_or_default(),
        _ => cellar::cell(row, name),
    };
    let line = |row: &Row| shown.iter().map(|name| cell(row, name)).collect();
    page.table(Table { head: shown.iter().copied().map(head).collect(), rows: rows.iter().map(line).collect() });
}
