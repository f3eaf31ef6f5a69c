//! What is inside?

use super::{Run, With, shelf};
use crate::Stop;
use crate::global::{KeyArg, PasscodeArg, SourcesArg, WithArg};
use crate::render::page::{Column, Table};
use crate::render::{Manner, Page, count, number, size};
use clap::Args;
use decanter_formats::time;
use decanter_jobs::list;
use decanter_jobs::list::{Entry, EntryKind, EntryState, ListReport};
use decanter_jobs::shelf::{Row, Work};
use std::io::Write;

/// List what is inside a source
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter list \"saltmarsh/Kelp Courier.iso\"\n\n\
    Columns, as far as there is something in them: size in bytes, date (UTC), first sector, state\n\
    (* encrypted and the key is missing, ! cut short or broken), path, what else is known.")]
pub struct List {
    #[command(flatten)]
    sources: SourcesArg,
    #[command(flatten)]
    companions: WithArg,
    #[command(flatten)]
    key: KeyArg,
    #[command(flatten)]
    passcode: PasscodeArg,
}

impl Run for List {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, companions, key, passcode } = self;
        let mut setting = with.setting_with_passcode(Some(key), passcode)?;
        setting.take_along(&companions.with)?;
        let search = match list::sort_out(&sources.all(&setting)?, sources.how(false, false), &setting)? {
            Work::One(shown) => {
                let report = list::list(&shown, &setting)?;
                with.show(out, &report, |page| show(page, &report, with.manner()))?;
                return Ok(0);
            }
            Work::Many(search) => search,
        };
        let mut is_first = true;
        let mut tell = |row: &Row<ListReport>| match (&row.result, with.global.json) {
            (Some(report), false) => {
                let describe = |page: &mut Page| {
                    if !std::mem::take(&mut is_first) {
                        page.blank();
                    }
                    page.title(&report.source);
                    show(page, report, with.manner());
                };
                with.watch.aside(|| with.print(out, describe))
            }
            _ => shelf::show_row(with, out, row, &|_| String::new()),
        };
        let report = list::list_each(search, &setting, &mut tell)?;
        if !with.global.json {
            with.print(out, Page::blank)?;
        }
        Ok(shelf::conclude(with, out, &report)?)
    }
}

/// Shows what is inside.
pub fn show(page: &mut Page, report: &ListReport, manner: Manner) {
    let longest = report.parameters.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    for (name, value) in &report.parameters {
        if longest <= 12 { page.row(name, value) } else { page.line(format!("{name:<longest$}  {value}")) }
    }
    let head = vec![
        Column::number("BYTES"),
        Column::text("DATE"),
        Column::number("SECTOR"),
        Column::text(""),
        Column::text("PATH"),
        Column::text("NOTE"),
    ];
    page.table(Table { head, rows: report.entries.iter().map(cells).collect() });
    if !report.entries.is_empty() {
        let files = report.entries.iter().filter(|e| e.kind == EntryKind::File);
        let bytes = files.clone().map(|e| e.bytes).sum();
        let folders = report.entries.iter().filter(|e| e.kind == EntryKind::Folder).count();
        let locked = report.entries.iter().filter(|e| e.state == EntryState::Locked).count();
        let locked = if locked > 0 { format!("; {locked} marked * need the key") } else { String::new() };
        let files = count(files.count(), "file");
        page.line(format!("{files} in {}, {}{locked}", count(folders, "folder"), size(bytes)));
    }
    if report.entries.is_empty() && report.parameters.is_empty() {
        page.line("it holds no files");
    }
    page.notices(&report.notices, manner);
}

/// Size, date, first sector, state, path, and what else there is to say of an entry.
fn cells(entry: &Entry) -> Vec<String> {
    let is_folder = entry.kind == EntryKind::Folder;
    let mark = match entry.state {
        EntryState::Locked => "*",
        EntryState::Cut | EntryState::Broken => "!",
        EntryState::Whole => "",
    };
    let mut notes = entry.about.clone();
    notes.extend(entry.note.clone().filter(|_| entry.state != EntryState::Locked));
    vec![
        if is_folder { String::new() } else { number(entry.bytes) },
        entry.modified.map(time::text).unwrap_or_default(),
        entry.sector.map(|s| s.to_string()).unwrap_or_default(),
        mark.to_owned(),
        if is_folder { format!("{}/", entry.path) } else { entry.path.clone() },
        notes.join(", "),
    ]
}
