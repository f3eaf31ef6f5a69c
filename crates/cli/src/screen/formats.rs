use super::style;
use decanter_jobs::formats::FormatsReport;
use std::io::{self, Write};

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
