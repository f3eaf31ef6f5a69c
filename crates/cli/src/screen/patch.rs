use super::written::speed;
use super::{Manner, count, exact, number, row, style};
use decanter_core::native;
use decanter_jobs::patch::{ApplyReport, MakeReport, ShowReport};
use std::io::{self, Write};
use std::time::Duration;

/// Stretches that are told one by one, unless everything is asked for.
const MOST_TOUCHED: usize = 10;
/// Characters of metadata that are shown.
const MOST_METADATA: usize = 400;

/// Shows what a patch does.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &ShowReport, manner: Manner) -> io::Result<()> {
    writeln!(out, "{}{}{}", style::BOLD, report.patch, style::PLAIN)?;
    row(out, "what", &report.kind)?;
    row(out, "size", &exact(report.bytes))?;
    row(out, "expects", &report.source.words())?;
    row(out, "leads to", &report.target.words())?;
    if let Some(records) = report.records {
        row(out, "records", &number(records))?;
    }
    let stretches = count(report.touched.len(), "stretch").replace("stretchs", "stretches");
    row(out, "touches", &format!("{} bytes of the result, in {stretches}", number(report.touched_bytes)))?;
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOUCHED };
    for touched in report.touched.iter().take(most) {
        row(
            out,
            "",
            &format!(
                "{:#010x} to {:#010x}  {:>9} bytes",
                touched.offset,
                touched.offset + touched.bytes - 1,
                number(touched.bytes)
            ),
        )?;
    }
    if report.touched.len() > most {
        row(out, "", &format!("and {} more; -v names them all", number((report.touched.len() - most) as u64)))?;
    }
    row(out, "undo", if report.can_undo { "it leads back too: patch apply --undo" } else { "it does not lead back" })?;
    if let Some(metadata) = &report.metadata {
        // What an author put in may try to steer the terminal.
        let shown: String = metadata.chars().map(|c| if c.is_control() && c != '\n' { '.' } else { c }).collect();
        let most = if manner.is_verbose { usize::MAX } else { MOST_METADATA };
        let cut: String = shown.chars().take(most).collect();
        row(out, "metadata", &cut.trim_end().replace('\n', "\n               "))?;
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}

/// Shows what was patched.
///
/// # Errors
/// When it cannot be written.
pub fn show_applied(out: &mut dyn Write, report: &ApplyReport, took: Duration, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&report.target))?;
    let form = report.form.as_deref().map(|f| format!(", as {f}")).unwrap_or_default();
    row(out, "from", &format!("{}{form}", report.source))?;
    for patch in &report.patches {
        let proof = match patch.proven {
            Some(_) => format!("{}file before and result are as it says{}", style::GOOD, style::PLAIN),
            None => "without checksums".into(),
        };
        row(
            out,
            if report.undone { "undone" } else { "patch" },
            &format!("{} ({}): {proof}", patch.patch, patch.kind),
        )?;
    }
    row(out, "size", &exact(report.bytes))?;
    if let Some(kind) = &report.kind {
        row(out, "what", kind)?;
    }
    for check in report.rom.iter().flat_map(|r| &r.checks) {
        let words = if check.is_right {
            format!("{} is right", check.name)
        } else {
            format!("{} is {}, it should be {}", check.name, check.stored, check.right)
        };
        row(out, "checksum", &words)?;
    }
    for digest in &report.digests {
        row(out, digest.algorithm.name(), &digest.hex())?;
    }
    if !report.dry_run {
        row(out, "took", &speed(report.bytes, took))?;
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}

/// Shows what was made.
///
/// # Errors
/// When it cannot be written.
pub fn show_made(out: &mut dyn Write, report: &MakeReport, took: Duration, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&report.patch))?;
    row(out, "from", &format!("{} ({})", report.old, report.source.words()))?;
    row(out, "to", &format!("{} ({})", report.new, report.target.words()))?;
    row(out, "size", &format!("{}, {}", exact(report.bytes), report.format))?;
    row(
        out,
        "proof",
        &format!("{}applied before it was written: it leads to the new file{}", style::GOOD, style::PLAIN),
    )?;
    row(out, "took", &format!("{:.1} s", took.as_secs_f64()))?;
    out.flush()?;
    super::notices(&report.notices, manner)
}
