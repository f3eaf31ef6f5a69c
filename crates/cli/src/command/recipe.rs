//! Recipes of packages.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::native;
use crate::render::speed;
use crate::render::{Manner, count, exact, number, row, style};
use clap::Subcommand;
use decanter_core::native;
use decanter_jobs::recipe;
use decanter_jobs::recipe::{MakeReport, NewReport, ShowReport, ShownTitle};
use std::io::{self, Write};
use std::path::PathBuf;
use std::time::Duration;

/// Make titles of ROMs: a recipe keeps names, pictures and settings, and makes them again
#[derive(Debug, Clone, Subcommand)]
pub enum Recipe {
    /// Write a recipe for a ROM, or for all ROMs of a folder, with everything in it that they show
    #[command(after_help = "Example:  decanter recipe new \"saltmarsh/drawer/Moth Hour.gba\" -o moth.toml\n\n\
        The recipe is a text: every field is explained in it, and what is left out has the value shown.")]
    New {
        /// A ROM, or a folder with ROMs
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// The recipe to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// Check a recipe and show what it will make
    #[command(after_help = "Example:  decanter recipe show saltmarsh/handheld/moth.toml --picture sheet.png\n\n\
        The picture shows both icons and the wide picture as the console does, and the darkening before and after.")]
    Show {
        /// The recipe
        #[arg(value_name = "RECIPE", value_parser = native())]
        recipe: String,
        /// Draw a title of it on a sheet, as a PNG
        #[arg(long, value_name = "PNG")]
        picture: Option<PathBuf>,
        /// Which title is drawn, from 1
        #[arg(long, value_name = "N", default_value_t = 1, requires = "picture")]
        title: usize,
    },
    /// Make the packages of a recipe
    #[command(after_help = "Example:  decanter recipe make saltmarsh/handheld/moth.toml -o \"Moth Hour.cia\"\n\n\
        The same recipe makes the same bytes. Every digest of a package is checked before it gets its name.")]
    Make {
        /// The recipe
        #[arg(value_name = "RECIPE", value_parser = native())]
        recipe: String,
        /// The package, or a folder for several [default: what the recipe says, in the current folder]
        #[arg(short, long, value_name = "FILE-OR-DIR")]
        output: Option<PathBuf>,
    },
}

impl Run for Recipe {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        match self {
            Self::New { source, output } => {
                let report = recipe::new(source, output, &with.setting(None)?)?;
                with.show(out, &report, |out| show_new(out, &report, with.manner()))?;
                Ok(0)
            }
            Self::Show { recipe, picture, title } => {
                let report = recipe::show(recipe, picture.as_deref(), *title, &with.setting(None)?)?;
                with.show(out, &report, |out| show(out, &report, with.global.dry_run, with.manner()))?;
                Ok(0)
            }
            Self::Make { recipe, output } => {
                let (report, answer) = recipe::make(recipe, output.as_deref(), &with.setting(None)?)?;
                with.show(out, &report, |out| show_made(out, &report, with.took(), with.manner()))?;
                Ok(code_of_answer(answer))
            }
        }
    }
}

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
    crate::render::notices(&report.notices, manner)
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
    crate::render::notices(&report.notices, manner)
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
        crate::render::digests(out, &title.digests)?;
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
    crate::render::notices(&report.notices, manner)
}
