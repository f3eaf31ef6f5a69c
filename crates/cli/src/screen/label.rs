use super::{Manner, row, style};
use decanter_core::native;
use decanter_jobs::label::LabelReport;
use std::io::{self, Write};

/// Shows titles and pictures, and what was written.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &LabelReport, manner: Manner) -> io::Result<()> {
    match &report.target {
        Some(target) => {
            let verb = if report.dry_run { "would write" } else { "wrote" };
            writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(target))?;
            row(out, "from", &report.source)?;
            if let Some((width, height)) = report.size {
                row(out, "size", &format!("{width} by {height} pixels"))?;
            }
        }
        None => writeln!(out, "{}{}{}", style::BOLD, report.source, style::PLAIN)?,
    }
    for (name, width, height) in &report.pictures {
        row(out, name, &format!("{width} by {height} pixels"))?;
    }
    for (language, title) in &report.titles {
        row(out, language, &title.replace('\n', " / "))?;
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}
