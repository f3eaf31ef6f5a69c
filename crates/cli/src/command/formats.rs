//! What can be read and written.

use super::{Run, With};
use crate::Stop;
use crate::render::style;
use clap::Args;
use decanter_jobs::formats;
use decanter_jobs::formats::FormatsReport;
use std::io::{self, Write};

/// List the formats that can be read, and what can be made of them
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter formats --json")]
pub struct Formats {}

impl Run for Formats {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let report = formats::formats();
        with.show(out, &report, |out| show(out, &report))?;
        Ok(0)
    }
}

/// Shows the formats.
///
/// # Errors
/// When they cannot be written.
pub fn show(out: &mut dyn Write, report: &FormatsReport) -> io::Result<()> {
    let (bold, plain) = (style::BOLD, style::PLAIN);
    for format in &report.formats {
        let extensions: Vec<String> = format.extensions.iter().map(|e| format!(".{e}")).collect();
        writeln!(out, "{bold}{:<9}{plain} {:<28} {}", format.id, format.name, extensions.join(" "))?;
        writeln!(out, "          {}", format.reads)?;
    }
    writeln!(out)?;
    writeln!(out, "What \"decanter convert SOURCE --to ...\" makes, and of what:")?;
    for target in &report.targets {
        writeln!(out, "{bold}{:<9}{plain} {}, of {}", target.id, target.what, target.made_of)?;
    }
    writeln!(out)?;
    writeln!(out, "Everything is recognised by its content; extensions do not matter.")
}
