//! What is inside?

use super::{Run, With};
use crate::Stop;
use crate::global::{KeyArg, native};
use crate::render::{Manner, count, number, row, size, style};
use clap::Args;
use decanter_formats::time;
use decanter_jobs::list;
use decanter_jobs::list::{EntryKind, EntryState, ListReport};
use std::io::{self, Write};

/// List what is inside a source
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter list \"saltmarsh/Kelp Courier.iso\"\n\n\
    Columns: size in bytes, date (UTC), first sector, state (* encrypted and the key is missing,\n\
    ! cut short or broken), path.")]
pub struct List {
    /// A disc image, an archive, or anything with files or values inside
    #[arg(value_name = "SOURCE", value_parser = native())]
    source: String,
    #[command(flatten)]
    key: KeyArg,
}

impl Run for List {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { source, key } = self;
        let report = list::list(source, &with.setting(Some(key))?)?;
        with.show(out, &report, |out| show(out, &report, with.manner()))?;
        Ok(0)
    }
}

/// Shows what is inside.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &ListReport, manner: Manner) -> io::Result<()> {
    let longest = report.parameters.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
    for (name, value) in &report.parameters {
        if longest <= 12 { row(out, name, value)? } else { writeln!(out, "{name:<longest$}  {value}")? }
    }
    let width = report.entries.iter().map(|e| number(e.bytes).len()).max().unwrap_or(0).max("BYTES".len());
    let sectors =
        report.entries.iter().filter_map(|e| e.sector).max().map_or(0, |s| s.to_string().len().max("SECTOR".len()));
    if !report.entries.is_empty() {
        let sector = if sectors > 0 { "SECTOR" } else { "" };
        let (bold, plain) = (style::BOLD, style::PLAIN);
        writeln!(out, "{bold}{:>width$}  {:<19}  {sector:>sectors$}   PATH{plain}", "BYTES", "DATE")?;
    }
    for entry in &report.entries {
        let date = entry.modified.map(time::text).unwrap_or_default();
        let sector = entry.sector.map(|s| s.to_string()).unwrap_or_default();
        let mark = match entry.state {
            EntryState::Locked => '*',
            EntryState::Cut | EntryState::Broken => '!',
            EntryState::Whole => ' ',
        };
        let bytes = if entry.kind == EntryKind::Folder { String::new() } else { number(entry.bytes) };
        let slash = if entry.kind == EntryKind::Folder { "/" } else { "" };
        let about = if entry.about.is_empty() { String::new() } else { format!("   {}", entry.about.join(", ")) };
        let note = match &entry.note {
            Some(note) if entry.state != EntryState::Locked => format!("   ({note})"),
            _ => String::new(),
        };
        writeln!(
            out,
            "{bytes:>width$}  {date:<19}  {sector:>sectors$} {mark} {}{slash}{about}{note}",
            printable(&entry.path)
        )?;
    }
    if !report.entries.is_empty() {
        let files = report.entries.iter().filter(|e| e.kind == EntryKind::File);
        let bytes = files.clone().map(|e| e.bytes).sum();
        let folders = report.entries.iter().filter(|e| e.kind == EntryKind::Folder).count();
        let locked = report.entries.iter().filter(|e| e.state == EntryState::Locked).count();
        let locked = if locked > 0 { format!("; {locked} marked * need the key") } else { String::new() };
        writeln!(out, "{} in {}, {}{locked}", count(files.count(), "file"), count(folders, "folder"), size(bytes))?;
    }
    out.flush()?;
    crate::render::notices(&report.notices, manner)
}

/// A path without what could move the cursor.
fn printable(path: &str) -> String {
    path.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect()
}
