use super::style;
use decanter_jobs::formats::FormatsReport;
use std::io::{self, Write};

/// Shows the formats.
///
/// # Errors
/// When they cannot be written.
pub fn show(out: &mut dyn Write, report: &FormatsReport) -> io::Result<()> {
    for format in &report.formats {
        let (bold, plain) = (style::BOLD, style::PLAIN);
        let extensions: Vec<String> = format.extensions.iter().map(|e| format!(".{e}")).collect();
        writeln!(out, "{bold}{:<9}{plain} {:<26} {}", format.id, format.name, extensions.join(" "))?;
        writeln!(out, "          {}", format.reads)?;
    }
    writeln!(out, "Everything is recognised by its content; extensions do not matter.")
}
