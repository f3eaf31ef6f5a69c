use super::{Manner, row, style};
use decanter_core::native;
use decanter_jobs::launcher::LauncherReport;
use decanter_jobs::typed;
use std::io::{self, Write};

/// Shows what was written.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &LauncherReport, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for path in [&report.entry, &report.script] {
        writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(path))?;
    }
    let words: Vec<String> = report.command.iter().map(|w| typed(w)).collect();
    row(out, "runs", &words.join(" "))?;
    row(out, "next", &format!("copy {} to ~/.local/share/applications", native::text(&report.entry)))?;
    out.flush()?;
    super::notices(&report.notices, manner)
}
