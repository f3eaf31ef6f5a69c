//! What is it, and what can it become?

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, native};
use crate::render::{Manner, count, exact, number, row, size, style};
use clap::Args;
use decanter_core::SECTOR;
use decanter_core::protection::State;
use decanter_jobs::Padding;
use decanter_jobs::identify;
use decanter_jobs::identify::{Encryption, IdentifyReport, Identity};
use decanter_jobs::starter::Starter;
use std::io::{self, Write};
use std::path::PathBuf;

/// Say what a source is, what it needs, what it can become, and what to type next
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter identify \"saltmarsh/Kelp Courier.zip\"\n\n\
    Folders are searched. Up to three sources get a screen each, more of them a table (with -v: screens).")]
pub struct Identify {
    /// Files or folders
    #[arg(required = true, value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    /// Draw the one source as a PNG: a map of files, file system, padding, encrypted regions; of a DS ROM or a 3DS title its icon
    #[arg(long, value_name = "PNG")]
    picture: Option<PathBuf>,
    #[command(flatten)]
    key: KeyArg,
}

impl Run for Identify {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { sources, picture, key } = self;
        if let Some(picture) = picture {
            identify::draw(sources, picture, &with.setting(Some(key))?)?;
        }
        let (report, answer) = identify::identify(sources, &with.setting(Some(key))?)?;
        with.show(out, &report, |out| show(out, &report, with.manner()))?;
        Ok(code_of_answer(answer))
    }
}

/// More sources than this become a table.
const MOST_SCREENS: usize = 3;
/// Hit files that are named on a screen.
const MOST_NAMED: usize = 10;

/// Shows what sources are.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &IdentifyReport, manner: Manner) -> io::Result<()> {
    if report.sources.is_empty() {
        return writeln!(out, "there are no files to identify");
    }
    if report.sources.len() > MOST_SCREENS && !manner.is_verbose {
        table(out, report)?;
        show_groups(out, report)?;
        return show_folders(out, report);
    }
    for (index, identity) in report.sources.iter().enumerate() {
        if index > 0 {
            writeln!(out)?;
        }
        one(out, identity, manner)?;
    }
    show_groups(out, report)?;
    show_folders(out, report)
}

/// Folders with programs that may be the ones to start.
fn show_folders(out: &mut dyn Write, report: &IdentifyReport) -> io::Result<()> {
    for (folder, starters) in &report.starters {
        writeln!(out)?;
        writeln!(out, "{}{folder}{}", style::BOLD, style::PLAIN)?;
        show_starters(out, starters)?;
    }
    Ok(())
}

/// Programs, the likeliest first, with the reasons.
fn show_starters(out: &mut dyn Write, starters: &[Starter]) -> io::Result<()> {
    for (index, starter) in starters.iter().enumerate() {
        let label = if index == 0 { "start" } else { "" };
        row(out, label, &format!("{}. {}: {}", index + 1, starter.path, starter.why.join("; ")))?;
    }
    Ok(())
}

/// Titles that belong together.
fn show_groups(out: &mut dyn Write, report: &IdentifyReport) -> io::Result<()> {
    for group in &report.groups {
        let title = if group.title.is_empty() { String::new() } else { format!(", {}", group.title) };
        writeln!(out)?;
        writeln!(out, "{}belong together: {}{title}{}", style::BOLD, group.name, style::PLAIN)?;
        for (address, kind) in &group.members {
            writeln!(out, "  {address}: {kind}")?;
        }
    }
    Ok(())
}

fn one(out: &mut dyn Write, identity: &Identity, manner: Manner) -> io::Result<()> {
    writeln!(out, "{}{}{}", style::BOLD, identity.source, style::PLAIN)?;
    if let Some(error) = &identity.error {
        row(out, "what", &identity.kind)?;
        row(out, "why", error)?;
        return match &identity.next {
            Some(next) => row(out, "next", next),
            None => Ok(()),
        };
    }
    let around: String = identity.inside.iter().rev().map(|k| format!(", in a {k}")).collect();
    row(
        out,
        "what",
        &format!("{}{}{around}", identity.kind, state(identity).map(|s| format!(", {s}")).unwrap_or_default()),
    )?;
    for fact in &identity.facts {
        row(out, fact.name, &fact.value)?;
    }
    row(out, "size", &size_line(identity))?;
    if let Some(unread) = identity.unread_sectors {
        let (bad, plain) = (style::BAD, style::PLAIN);
        row(out, "dump", &format!("{bad}NOT FINISHED{plain}: {} sectors were not read yet", number(unread)))?;
    }
    if let Some(rom) = &identity.rom {
        crate::render::rom::show(out, rom)?;
    }
    if identity.hit_count > 0 {
        for (index, path) in identity.hit_files.iter().take(MOST_NAMED).enumerate() {
            row(out, if index == 0 { "hit files" } else { "" }, path)?;
        }
        if identity.hit_count > MOST_NAMED {
            row(out, "", &format!("and {} more", number((identity.hit_count - MOST_NAMED) as u64)))?;
        }
    }
    if let Some(files) = identity.files {
        let folders = identity.folders.unwrap_or_default();
        row(out, "holds", &format!("{} in {}", count(files, "file"), count(folders, "folder")))?;
    }
    if let Some(r) = identity.regions.as_ref().filter(|r| r.encrypted > 0 || !identity.is_package) {
        row(out, "regions", &format!("{} plain, {} encrypted ({})", r.plain, r.encrypted, size(r.encrypted_bytes)))?;
    }
    if let Some(padding) = &identity.padding {
        show_padding(out, padding)?;
    }
    if let Some(encryption) = &identity.encryption {
        if manner.is_verbose || encryption.state == State::Unclear {
            row(out, "known by", &encryption.evidence)?;
        }
        row(out, "key", &key_line(encryption))?;
    }
    show_starters(out, &identity.starters)?;
    for becomes in &identity.becomes {
        row(out, "becomes", &format!("{:<17} {}", becomes.what, becomes.command))?;
    }
    if let Some(next) = &identity.next {
        row(out, "next", &format!("{}{next}{}", style::GOOD, style::PLAIN))?;
    }
    out.flush()?;
    crate::render::notices(&identity.notices, manner)
}

fn show_padding(out: &mut dyn Write, padding: &Padding) -> io::Result<()> {
    if padding.bytes > 0 {
        let kinds: Vec<String> = padding.kinds.iter().map(|(kind, share)| format!("{share} % {kind}")).collect();
        row(out, "padding", &format!("{} belong to no file: {}", size(padding.bytes), kinds.join(", ")))?;
    }
    for filler in &padding.filler {
        row(out, "filler", &format!("{} ({}): {}", filler.path, size(filler.bytes), filler.why))?;
    }
    Ok(())
}

fn state(identity: &Identity) -> Option<&'static str> {
    identity.encryption.as_ref().map(|e| match e.state {
        State::Encrypted => "encrypted",
        State::Decrypted => "decrypted",
        State::Unclear => "not clear whether encrypted",
    })
}

fn size_line(identity: &Identity) -> String {
    let bytes = exact(identity.bytes);
    match identity.promised_bytes {
        Some(promised) if identity.missing_sectors > 0 => format!(
            "{bytes}; {}INCOMPLETE{}: {} of {} sectors are missing at its end",
            style::BAD,
            style::PLAIN,
            number(identity.missing_sectors),
            number(promised.div_ceil(SECTOR)),
        ),
        Some(_) if identity.is_package && identity.missing_bytes > 0 => format!(
            "{bytes}; {}INCOMPLETE{}: {} bytes are missing at its end",
            style::BAD,
            style::PLAIN,
            number(identity.missing_bytes),
        ),
        Some(_) if identity.is_package => format!("{bytes}, complete"),
        Some(promised) => format!("{bytes}, complete ({} sectors)", number(promised.div_ceil(SECTOR))),
        None => bytes,
    }
}

fn key_line(encryption: &Encryption) -> String {
    let (good, bad, plain) = (style::GOOD, style::BAD, style::PLAIN);
    let origin = encryption.key_origin.as_deref().unwrap_or_default();
    match (encryption.key, &encryption.key_proof, &encryption.key_trouble) {
        ("found", Some(proof), _) => format!("{good}found{plain} in {origin}, proven by {proof}"),
        ("unproven", ..) => format!("found in {origin}; nothing on the disc can prove it"),
        (_, _, Some(trouble)) => format!("{bad}{trouble}{plain}"),
        _ => "not needed".into(),
    }
}

fn table(out: &mut dyn Write, report: &IdentifyReport) -> io::Result<()> {
    let mut rows = vec![["SOURCE", "WHAT", "SIZE", "ID", "TITLE", "STATE"].map(str::to_owned)];
    let fact = |identity: &Identity, name: &str| -> String {
        identity.facts.iter().find(|f| f.name == name).map(|f| f.value.clone()).unwrap_or_default()
    };
    let known = report.sources.iter().filter(|i| i.error.is_none());
    for identity in known.clone() {
        let mut state: Vec<String> = state(identity).map(str::to_owned).into_iter().collect();
        if let Some(rom) = &identity.rom {
            state.extend(crate::render::rom::short_state(rom));
        }
        if let Some(unread) = identity.unread_sectors {
            state.push(format!("not finished, {} sectors unread", number(unread)));
        }
        if identity.missing_sectors > 0 {
            state.push(format!("{} sectors missing", number(identity.missing_sectors)));
        }
        if let Some(key) = identity.encryption.as_ref().map(|e| e.key).filter(|k| *k == "missing" || *k == "wrong") {
            state.push(format!("key {key}"));
        }
        let form = identity.rom.as_ref().map(|r| r.form);
        let what = form.or(identity.format).unwrap_or_default().to_owned();
        let (id, title) = (fact(identity, "id"), fact(identity, "title"));
        rows.push([identity.source.clone(), what, size(identity.bytes), id, title, state.join(", ")]);
    }
    let mut widths = [0; 6];
    for row in &rows {
        for (width, cell) in widths.iter_mut().zip(row) {
            *width = cell.chars().count().max(*width);
        }
    }
    for (index, row) in rows.into_iter().enumerate() {
        let cells: Vec<String> = row.iter().zip(widths).map(|(cell, width)| format!("{cell:<width$}")).collect();
        let line = cells.join("  ");
        match index {
            0 => writeln!(out, "{}{}{}", style::BOLD, line.trim_end(), style::PLAIN)?,
            _ => writeln!(out, "{}", line.trim_end())?,
        }
    }
    let others = report.sources.len() - known.count();
    if others > 0 {
        writeln!(out, "{} of no known format; -v tells why", count(others, "more file"))?;
    }
    writeln!(out, "{}; -v shows more of each", count(report.sources.len(), "file"))
}
