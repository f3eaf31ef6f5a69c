//! Lists of what is known to run.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::page::{Column, Table};
use crate::render::{Manner, Page, count};
use clap::Subcommand;
use decanter_core::native;
use decanter_jobs::Answer;
use decanter_jobs::notes::{self, FindReport, ImportReport};
use std::io::Write;

/// Keep lists of what is known to run, and search them
#[derive(Debug, Clone, Subcommand)]
pub enum Notes {
    /// Bring a list in: a table with a head line (.csv), or TOML
    #[command(after_help = "Example:  decanter notes import saltmarsh/console/notes.csv\n\n\
        Columns: id, title, region, target, verdict, remark, source, date; it needs verdict, and id or title.\n\
        Others are kept as they are. Lists stay in your configuration folder; identify and convert show what\n\
        they say of the very title at hand.")]
    Import {
        /// The list
        #[arg(value_name = "LIST", value_parser = native())]
        list: String,
        /// What it is called from now on [default: the file's name]
        #[arg(long, value_name = "NAME", value_parser = native())]
        name: Option<String>,
    },
    /// Look for a text in ids, titles, targets, verdicts and remarks
    #[command(after_help = "Example:  decanter notes find moth")]
    Find {
        /// Case does not count, nor do hyphens in ids
        #[arg(value_name = "TEXT", value_parser = native())]
        text: String,
    },
}

impl Run for Notes {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let setting = with.setting(None)?;
        match self {
            Self::Import { list, name } => {
                let report = notes::import(list, name.as_deref(), &setting)?;
                with.show(out, &report, |page| show_import(page, &report, with.manner()))?;
                Ok(code_of_answer(if report.left.is_empty() { Answer::Yes } else { Answer::No }))
            }
            Self::Find { text } => {
                let report = notes::find(text, &setting)?;
                with.show(out, &report, |page| show_find(page, &report))?;
                Ok(code_of_answer(if report.notes.is_empty() { Answer::No } else { Answer::Yes }))
            }
        }
    }
}

/// Lines that are told one by one, unless everything is asked for.
const MOST_LINES: usize = 20;

fn show_import(page: &mut Page, report: &ImportReport, manner: Manner) {
    let most = if manner.is_verbose { usize::MAX } else { MOST_LINES };
    page.wrote(if report.dry_run { "would write" } else { "wrote" }, native::text(&report.list));
    page.row("from", &report.source);
    page.row("notes", count(report.notes, "title"));
    if !report.unknown.is_empty() {
        page.row("kept too", format!("columns {}", report.unknown.join(", ")));
    }
    for left in report.left.iter().take(most) {
        page.row("left out", format!("line {}: {}", left.line, left.why));
    }
    if report.left.len() > most {
        page.row("", format!("and {}; -v names them all", count(report.left.len() - most, "more line")));
    }
    page.row("next", "decanter notes find TEXT, or decanter identify SOURCE");
}

fn show_find(page: &mut Page, report: &FindReport) {
    if report.notes.is_empty() {
        page.line(format!("none of {} has \"{}\"", count(report.all, "note"), report.text));
        return;
    }
    let head = ["ID", "TITLE", "REGION", "TARGET", "VERDICT", "REMARK", "BY", "DATE"].map(Column::text).to_vec();
    let row = |n: &notes::Note| {
        let by = if n.source.is_empty() { &n.list } else { &n.source };
        [&n.id, &n.title, &n.region, &n.target, &n.verdict, &n.remark, by, &n.date].map(String::clone).to_vec()
    };
    page.table(Table { head, rows: report.notes.iter().map(row).collect() });
    page.line(format!("{} of {}", report.notes.len(), count(report.all, "note")));
}
