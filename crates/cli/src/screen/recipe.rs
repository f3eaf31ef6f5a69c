//! Recipes: what was detected, what will be made, what was made.

use super::written::speed;
use super::{Manner, count, exact, number, row, style};
use decanter_core::native;
use decanter_jobs::recipe::{MakeReport, NewReport, ShowReport, ShownTitle};
use std::io::{self, Write};
use std::time::Duration;

/// Shows a recipe that was written.
///
/// # Errors
/// When it cannot be written.
pub fn show_new(out: &mut dyn Write, report: &NewReport, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&report.recipe))?;
    for (address, system) in &report.titles {
        row(out, system, address)?;
    }
    row(out, "titles", &number(report.titles.len() as u64))?;
    row(out, "next", &format!("decanter recipe show {}", native::text(&report.recipe)))?;
    out.flush()?;
    super::notices(&report.notices, manner)
}

/// Shows what a recipe will make.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &ShowReport, is_dry: bool, manner: Manner) -> io::Result<()> {
    for title in &report.titles {
        one(out, title)?;
    }
    if let Some(picture) = &report.picture {
        let verb = if is_dry { "would write" } else { "wrote" };
        writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(picture))?;
    }
    row(out, "next", &format!("decanter recipe make {}", decanter_jobs::quoted(&report.recipe)))?;
    out.flush()?;
    super::notices(&report.notices, manner)
}

fn one(out: &mut dyn Write, title: &ShownTitle) -> io::Result<()> {
    writeln!(out, "{}{}{}", style::BOLD, title.short, style::PLAIN)?;
    row(out, "from", &format!("{} ({}, {})", title.rom, title.system, exact(title.rom_bytes)))?;
    match &title.base {
        Some(base) => row(out, "base", base)?,
        None => row(out, "base", "none: the console's GBA mode runs it")?,
    }
    row(out, "long name", &title.long.replace('\n', " / "))?;
    if !title.publisher.is_empty() {
        row(out, "publisher", &title.publisher)?;
    }
    if !title.own_languages.is_empty() {
        row(out, "own names", &title.own_languages.join(", "))?;
    }
    let origin = if title.id_is_derived { "derived from the ROM" } else { "the recipe says so" };
    row(out, "title id", &format!("{} ({origin})", title.title_id))?;
    if let Some((save, known_by)) = &title.save {
        row(out, "save", &format!("{save} ({known_by})"))?;
    }
    if let Some(ghosting) = &title.ghosting {
        row(out, "ghosting", ghosting)?;
    }
    if let Some(darkening) = &title.darkening {
        row(out, "darkening", darkening)?;
    }
    row(out, "makes", &native::text(&title.output))
}

/// Shows the packages that were made.
///
/// # Errors
/// When it cannot be written.
pub fn show_made(out: &mut dyn Write, report: &MakeReport, took: Duration, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for title in &report.titles {
        writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&title.path))?;
        row(out, "title", &format!("{}, {}", title.short, title.title_id))?;
        row(out, "ROM", &format!("{}, as {}", title.rom, title.rom_at))?;
        row(out, "size", &exact(title.bytes))?;
        for digest in &title.digests {
            row(out, digest.algorithm.name(), &digest.hex())?;
        }
        if !report.dry_run {
            row(out, "proof", "read back: every digest that it carries holds")?;
        }
    }
    for failure in &report.failed {
        writeln!(out, "{}failed{}: {failure}", style::BAD, style::PLAIN)?;
    }
    if report.titles.len() + report.failed.len() > 1 {
        let bytes: u64 = report.titles.iter().map(|t| t.bytes).sum();
        row(
            out,
            "made",
            &format!("{} of {}", report.titles.len(), count(report.titles.len() + report.failed.len(), "title")),
        )?;
        if !report.dry_run {
            row(out, "took", &speed(bytes, took))?;
        }
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}
