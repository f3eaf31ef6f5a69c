use super::{count, row, style};
use decanter_jobs::KeysReport;
use std::io::{self, Write};

/// Shows which keys are known; never their values.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &KeysReport) -> io::Result<()> {
    let width = report.keys.iter().map(|k| k.name.chars().count()).max().unwrap_or(0);
    writeln!(out, "{} known", count(report.keys.len(), "key"))?;
    for key in &report.keys {
        writeln!(out, "  {:<width$}  {:>4} bits  {}", key.name, key.bits, key.origin)?;
    }
    for source in &report.sources {
        let id = source.id.as_deref().map(|id| format!("  ({id})")).unwrap_or_default();
        writeln!(out, "{}{}{}{id}", style::BOLD, source.source, style::PLAIN)?;
        let state = match (source.state, &source.origin, &source.proof, &source.need) {
            (_, Some(origin), Some(proof), _) => format!("found in {origin}, proven by {proof}"),
            (_, Some(origin), None, _) => format!("found in {origin}; nothing on the disc can prove it"),
            (state, _, _, Some(need)) => format!("{state}: {need}"),
            (state, ..) => state.to_owned(),
        };
        row(out, "key", &state)?;
    }
    writeln!(
        out,
        "looked in: {}",
        if report.looked.is_empty() { "no place".into() } else { report.looked.join(", ") }
    )?;
    for line in &report.unreadable {
        writeln!(out, "{}not a key:{} {line} (a line of a list is NAME = HEX)", style::WARN, style::PLAIN)?;
    }
    Ok(())
}
