//! Recipes of packages.

use super::{Run, With};
use crate::Stop;
use crate::code_of_answer;
use crate::global::{KeyArg, native, whole};
use crate::render::page::{Column, Table};
use crate::render::speed;
use crate::render::{Manner, Page, count, exact, number, style};
use clap::Subcommand;
use decanter_core::native;
use decanter_jobs::recipe;
use decanter_jobs::recipe::{MakeReport, NewReport, ShowReport, ShownFile, ShownTitle};
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

/// Make titles of ROMs and discs: a recipe keeps names, pictures and settings, and makes them again
#[derive(Debug, Clone, Subcommand)]
pub enum Recipe {
    /// Write a recipe for a ROM or disc, or for all of a folder, with everything in it that they show
    #[command(after_help = "Example:  decanter recipe new \"saltmarsh/Moth Parade.iso\" -o parade.toml\n\n\
        ROMs become titles of a handheld, PSP and PS2 discs packages for a PS3.\n\
        The recipe is a text: every field is explained in it, and what is left out has the value shown.")]
    New {
        /// A ROM, a disc, or a folder with some
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// The recipe to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// Check a recipe and show what it will make
    #[command(after_help = "Example:  decanter recipe show saltmarsh/handheld/moth.toml --picture sheet.png\n\n\
        The picture shows a title as the console's menu does: icons and wide picture, or background, icon and name.")]
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
        The same recipe makes the same bytes. Before a package gets its name, every digest in it is\n\
        checked, and a disc in it is compared with the one that it was made of.")]
    #[command(mut_arg("key", |arg| arg.help("The licence key of a PS2 disc, 32 hexadecimal digits; goes before all that are found elsewhere")))]
    Make {
        /// The recipe
        #[arg(value_name = "RECIPE", value_parser = native())]
        recipe: String,
        /// The package, or a folder for several [default: what the recipe says, in the current folder]
        #[arg(short, long, value_name = "FILE-OR-DIR")]
        output: Option<PathBuf>,
        #[command(flatten)]
        key: KeyArg,
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
            Self::Make { recipe, output, key } => {
                let (report, answer) = recipe::make(recipe, output.as_deref(), &with.setting(Some(key))?)?;
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
    page.row("next", &report.next);
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
    page.row("next", &report.next);
    page.notices(&report.notices, manner)
}

fn one(page: &mut Page, title: &ShownTitle) {
    page.title(&title.title);
    page.row("from", format!("{} ({}, {})", title.source, title.kind, exact(title.bytes)));
    page.row("title id", format!("{} ({})", title.title_id, title.id_from));
    for (name, value) in &title.facts {
        page.row(name, value);
    }
    let bytes = |file: &ShownFile| file.bytes.map_or_else(String::new, number);
    page.row("makes", native::text(&title.output));
    page.table(Table {
        head: vec![Column::text("file"), Column::number("bytes"), Column::text("from")],
        rows: title.files.iter().map(|f| vec![f.path.clone(), bytes(f), f.from.clone()]).collect(),
    });
}

/// Shows the packages that were made.
pub fn show_made(page: &mut Page, report: &MakeReport, took: Duration, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for title in &report.titles {
        page.wrote(verb, native::text(&title.path));
        page.row("title", format!("{}, {}", title.title, title.title_id));
        page.row("from", format!("{}, as {}", title.source, title.source_at));
        page.row("size", exact(title.bytes));
        page.digests(&title.digests);
        if !report.dry_run {
            page.row("proof", format!("{}{}{}", style::GOOD, title.proof, style::PLAIN));
        }
    }
    for failure in &report.failed {
        page.line(format!("{}failed{}: {failure}", style::BAD, style::PLAIN));
    }
    let all = report.titles.len() + report.failed.len();
    if all > 1 {
        page.row("made", format!("{} of {}", report.titles.len(), count(all, "title")));
    }
    if !report.dry_run {
        page.row("took", speed(report.titles.iter().map(|t| t.bytes).sum(), took));
    }
    page.notices(&report.notices, manner)
}
