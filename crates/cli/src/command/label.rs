//! Titles and pictures.

use super::{Run, With};
use crate::Stop;
use crate::global::native;
use crate::render::{Manner, Page};
use clap::Args;
use clap::ValueEnum;
use decanter_core::native;
use decanter_jobs::label;
use decanter_jobs::label::LabelReport;
use std::io::Write;
use std::path::PathBuf;

/// Show titles and pictures that a source carries, and write a picture in another size
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter label \"saltmarsh/drawer/Lantern Post.nds\"\n           \
    decanter label \"saltmarsh/drawer/Lantern Post.nds\" -o icon.png --size 128x128\n           \
    decanter label icon.png -o cover.png --size 256x192 --fit crop")]
pub struct Label {
    /// A DS ROM, a 3DS image or package, or a picture of your own (PNG or JPEG)
    #[arg(value_name = "SOURCE", value_parser = native())]
    source: String,
    /// The PNG to write
    #[arg(short, long, value_name = "PNG")]
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
        let Self { source, output, size, fit, filter, background } = self;
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
