//! Titles and pictures.

use super::{Run, With};
use crate::Stop;
use crate::global::native;
use crate::render::{Manner, Page};
use clap::Args;
use clap::ValueEnum;
use decanter_core::native;
use decanter_jobs::label;
use decanter_jobs::label::{LabelReport, SuggestReport};
use decanter_jobs::quoted;
use std::io::Write;
use std::path::PathBuf;

/// Show titles and pictures that a source carries, and write a picture in another size
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter label \"saltmarsh/drawer/Lantern Post.nds\"\n           \
    decanter label \"saltmarsh/drawer/Lantern Post.nds\" -o icon.png --size 128x128\n           \
    decanter label icon.png -o cover.png --size 256x192 --fit crop\n           \
    decanter label \"saltmarsh/Moth Parade.iso\" --suggest -o pictures/\n\n\
    --suggest finds icons and wide pictures of discs, packages, banners and Xbox programs. Of a ROM\n\
    it draws a sheet of the graphics that it plainly holds, from which a title picture can be cut.\n\
    Nothing is fetched from anywhere.")]
pub struct Label {
    /// Find all pictures in it, and the graphics of a ROM; -o is the folder for them
    #[arg(long, conflicts_with_all = ["size", "fit", "filter", "background"])]
    suggest: bool,
    /// A DS ROM, a 3DS image or package, or a picture of your own (PNG or JPEG)
    #[arg(value_name = "SOURCE", value_parser = native())]
    source: String,
    /// The PNG to write; with --suggest, a folder
    #[arg(short, long, value_name = "PNG-OR-DIR")]
    output: Option<PathBuf>,
    /// Width and height in pixels, as in 256x256 [default: as it is]
    #[arg(long, value_name = "WxH", value_parser = dimensions, requires = "output")]
    size: Option<(u32, u32)>,
    /// How it fills a shape that is not its own
    #[arg(long, value_enum, default_value = "letterbox")]
    fit: FitArg,
    /// How pixels are computed
    #[arg(long, value_enum, default_value = "smooth")]
    filter: FilterArg,
    /// Colour of the bars of a letterbox: six hexadecimal digits, or none
    #[arg(long, value_name = "RRGGBB", default_value = "none", value_parser = colour)]
    background: [u8; 4],
}

impl Run for Label {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        if self.suggest {
            let report = label::suggest(&self.source, self.output.as_deref(), &with.setting(None)?)?;
            with.show(out, &report, |page| show_suggested(page, &report))?;
            return Ok(0);
        }
        let Self { source, output, size, fit, filter, background, suggest: _ } = self;
        let options = label::Options {
            size: *size,
            fit: match fit {
                FitArg::Letterbox => label::Fit::Letterbox,
                FitArg::Crop => label::Fit::Crop,
                FitArg::Stretch => label::Fit::Stretch,
            },
            filter: if *filter == FilterArg::Sharp { label::Filter::Sharp } else { label::Filter::Smooth },
            background: *background,
        };
        let report = label::label(source, output.as_deref(), &options, &with.setting(None)?)?;
        with.show(out, &report, |page| show(page, &report, with.manner()))?;
        Ok(0)
    }
}

/// How a picture is made to fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FitArg {
    /// All of it is shown, with bars where it does not reach
    Letterbox,
    /// All of the shape is filled; what is too much is cut from both sides
    Crop,
    /// It is stretched
    Stretch,
}

/// How it is scaled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FilterArg {
    /// Soft edges, for photographs and drawings
    Smooth,
    /// Hard edges, for small icons
    Sharp,
}

/// Reads a width and a height such as `256x128`.
fn dimensions(text: &str) -> Result<(u32, u32), String> {
    let read = || {
        let (width, height) = text.split_once('x')?;
        Some((width.trim().parse().ok()?, height.trim().parse().ok()?))
    };
    read().ok_or_else(|| format!("\"{text}\" is no size: use a width and a height, as in 256x256"))
}

/// Reads a colour such as `14171c`, or `none`.
fn colour(text: &str) -> Result<[u8; 4], String> {
    if text == "none" {
        return Ok([0; 4]);
    }
    let digits = text.strip_prefix('#').unwrap_or(text);
    let value = u32::from_str_radix(digits, 16).ok().filter(|_| digits.len() == 6);
    let [_, red, green, blue] =
        value.ok_or_else(|| format!("\"{text}\" is no colour: use six hexadecimal digits"))?.to_be_bytes();
    Ok([red, green, blue, 0xff])
}

/// Shows titles and pictures, and what was written.
pub fn show(page: &mut Page, report: &LabelReport, manner: Manner) {
    match &report.target {
        Some(target) => {
            let verb = if report.dry_run { "would write" } else { "wrote" };
            page.wrote(verb, native::text(target));
            page.row("from", &report.source);
            if let Some((width, height)) = report.size {
                page.row("size", format!("{width} by {height} pixels"));
            }
        }
        None => page.title(&report.source),
    }
    for (name, width, height) in &report.pictures {
        page.row(name, format!("{width} by {height} pixels"));
    }
    for (language, title) in &report.titles {
        page.row(language, title.replace('\n', " / "));
    }
    page.notices(&report.notices, manner)
}

/// Shows what was found.
fn show_suggested(page: &mut Page, report: &SuggestReport) {
    page.title(&report.source);
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for picture in &report.pictures {
        let (width, height) = picture.size;
        let from = if picture.from.is_empty() { String::new() } else { format!(", {}", picture.from) };
        page.row(&picture.what, format!("{width} by {height} pixels{from}"));
        if let Some(target) = &picture.target {
            page.wrote(verb, native::text(target));
        }
    }
    if let Some(tiles) = &report.tiles {
        let offsets: Vec<String> = tiles.offsets.iter().map(|offset| format!("{offset:#x}")).collect();
        page.row("graphics", format!("{}, from {}", tiles.layout, offsets.join(", ")));
        if let Some(target) = &tiles.target {
            page.wrote(verb, native::text(target));
        }
    }
    let is_written =
        report.pictures.iter().any(|p| p.target.is_some()) || report.tiles.as_ref().is_some_and(|t| t.target.is_some());
    if !is_written {
        page.row("next", format!("decanter label {} --suggest -o pictures/", quoted(&report.source)));
    }
}
