//! Recipes of packages.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{native, whole};
use crate::render::speed;
use crate::render::{Manner, Page, count, exact, number, style};
use clap::Subcommand;
use decanter_core::native;
use decanter_jobs::recipe;
use decanter_jobs::recipe::{MakeReport, NewReport, ShowReport, ShownTitle};
use std::io::Write;
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
        #[arg(long, value_name = "N", default_value_t = 1, requires = "picture", value_parser = whole::<usize>(1..=10_000))]
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
                with.show(out, &report, |page| show_new(page, &report, with.manner()))?;
                Ok(0)
            }
            Self::Show { recipe, picture, title } => {
                let report = recipe::show(recipe, picture.as_deref(), *title, &with.setting(None)?)?;
                with.show(out, &report, |page| show(page, &report, with.global.dry_run, with.manner()))?;
                Ok(0)
            }
            Self::Make { recipe, output } => {
                let (report, answer) = recipe::make(recipe, output.as_deref(), &with.setting(None)?)?;
                with.show(out, &report, |page| show_made(page, &report, with.took(), with.manner()))?;
                Ok(code_of_answer(answer))
            }
        }
    }
}

/// Shows a recipe that was written.
pub fn show_new(page: &mut Page, report: &NewReport, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    page.wrote(verb, native::text(&report.recipe));
    for (address, system) in &report.titles {
        page.row(system, address);
    }
    page.row("titles", number(report.titles.len() as u64));
    page.row("next", format!("decanter recipe show {}", native::text(&report.recipe)));
    page.notices(&report.notices, manner)
}

/// Shows what a recipe will make.
pub fn show(page: &mut Page, report: &ShowReport, is_dry: bool, manner: Manner) {
    for title in &report.titles {
        one(page, title);
    }
    if let Some(picture) = &report.picture {
        let verb = if is_dry { "would write" } else { "wrote" };
        page.wrote(verb, native::text(picture));
    }
    page.row("next", format!("decanter recipe make {}", decanter_jobs::quoted(&report.recipe)));
    page.notices(&report.notices, manner)
}

fn one(page: &mut Page, title: &ShownTitle) {
    page.title(&title.short);
    page.row("from", format!("{} ({}, {})", title.rom, title.system, exact(title.rom_bytes)));
    match &title.base {
        Some(base) => page.row("base", base),
        None => page.row("base", "none: the console's GBA mode runs it"),
    }
    page.row("long name", title.long.replace('\n', " / "));
    if !title.publisher.is_empty() {
        page.row("publisher", &title.publisher);
    }
    if !title.own_languages.is_empty() {
        page.row("own names", title.own_languages.join(", "));
    }
    let origin = if title.id_is_derived { "derived from the ROM" } else { "the recipe says so" };
    page.row("title id", format!("{} ({origin})", title.title_id));
    if let Some((save, known_by)) = &title.save {
        page.row("save", format!("{save} ({known_by})"));
    }
    if let Some(ghosting) = &title.ghosting {
        page.row("ghosting", ghosting);
    }
    if let Some(darkening) = &title.darkening {
        page.row("darkening", darkening);
    }
    page.row("makes", native::text(&title.output))
}

/// Shows the packages that were made.
pub fn show_made(page: &mut Page, report: &MakeReport, took: Duration, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for title in &report.titles {
        page.wrote(verb, native::text(&title.path));
        page.row("title", format!("{}, {}", title.short, title.title_id));
        page.row("ROM", format!("{}, as {}", title.rom, title.rom_at));
        page.row("size", exact(title.bytes));
        page.digests(&title.digests);
        if !report.dry_run {
            page.row("proof", "read back: every digest that it carries holds");
        }
    }
    for failure in &report.failed {
        page.line(format!("{}failed{}: {failure}", style::BAD, style::PLAIN));
    }
    if report.titles.len() + report.failed.len() > 1 {
        let bytes: u64 = report.titles.iter().map(|t| t.bytes).sum();
        page.row(
            "made",
            format!("{} of {}", report.titles.len(), count(report.titles.len() + report.failed.len(), "title")),
        );
        if !report.dry_run {
            page.row("took", speed(bytes, took));
        }
    }
    page.notices(&report.notices, manner)
}
