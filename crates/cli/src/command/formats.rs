//! What can be read and written.

use super::{Run, With};
use crate::Stop;
use crate::render::Page;
use crate::render::style;
use clap::Args;
use decanter_jobs::formats;
use decanter_jobs::formats::FormatsReport;
use std::io::Write;

/// List the formats that can be read, and what can be made of them
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter formats --json")]
pub struct Formats {}

impl Run for Formats {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let report = formats::formats();
        with.show(out, &report, |page| show(page, &report))?;
        Ok(0)
    }
}

/// Shows the formats.
pub fn show(page: &mut Page, report: &FormatsReport) {
    let (bold, plain) = (style::BOLD, style::PLAIN);
    for format in &report.formats {
        let extensions: Vec<String> = format.extensions.iter().map(|e| format!(".{e}")).collect();
        page.line(format!("{bold}{:<9}{plain} {:<28} {}", format.id, format.name, extensions.join(" ")));
        page.line(format!("          {}", format.reads));
    }
    page.blank();
    page.line("What \"decanter convert SOURCE --to ...\" makes, and of what:");
    for target in &report.targets {
        page.line(format!("{bold}{:<9}{plain} {}, of {}", target.id, target.what, target.made_of));
    }
    page.blank();
    page.line("Everything is recognised by its content; extensions do not matter.")
}
