use super::{Manner, count, number, row, size, style};
use decanter_core::native;
use decanter_jobs::Answer;
use decanter_jobs::decrypt::DecryptReport;
use decanter_jobs::extract::ExtractReport;
use decanter_jobs::overlay::OverlayReport;
use std::io::{self, Write};
use std::time::Duration;

/// Names that are told one by one, unless everything is asked for.
const MOST_NAMES: usize = 40;

/// Shows what was extracted.
///
/// # Errors
/// When it cannot be written.
pub fn show_extract(out: &mut dyn Write, report: &ExtractReport, took: Duration, manner: Manner) -> io::Result<()> {
    let most = if manner.is_verbose { usize::MAX } else { MOST_NAMES };
    for left in report.left_out.iter().take(most) {
        writeln!(out, "  {}left out{}     {}", style::BAD, style::PLAIN, left.path)?;
        row(out, "", &left.why)?;
    }
    if report.left_out.len() > most {
        writeln!(out, "  and {}; -v names them all", count(report.left_out.len() - most, "more file"))?;
    }
    for renamed in report.renamed.iter().take(most) {
        writeln!(
            out,
            "  {}renamed{}      {} became {}",
            style::WARN,
            style::PLAIN,
            renamed.from,
            native::text(&renamed.to)
        )?;
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    let what = format!("{}, {} ({} bytes)", count(report.files, "file"), size(report.bytes), number(report.bytes));
    // As a folder is written, whether it was typed with a slash at its end or not.
    let folder = report.folder.components().collect::<std::path::PathBuf>().join("");
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&folder))?;
    row(out, "from", &report.source)?;
    row(out, "holds", &what)?;
    if let Some(against) = &report.against {
        row(out, "checked", &format!("every file that it describes, against {against}"))?;
    }
    for wrong in report.structure.iter().take(most) {
        row(out, "damaged", &format!("{}{wrong}{}", style::BAD, style::PLAIN))?;
    }
    if let Some(name) = &report.attributes {
        row(out, "attributes", &format!("protection bits, comments and dates are in {name}; convert puts them back"))?;
    }
    if let Some(overlay) = &report.overlay {
        show_overlay(out, overlay, most)?;
    }
    if let Some(originals) = &report.originals {
        row(out, "originals", &format!("{}: with --overlay they undo it", native::text(originals)))?;
    }
    if !report.dry_run {
        row(out, "took", &speed(report.bytes, took))?;
    }
    if let Some(advice) = report.advice.as_ref().filter(|_| !report.left_out.is_empty()) {
        let (bad, plain) = (style::BAD, style::PLAIN);
        row(out, "but", &format!("{bad}{} left out{plain}; {advice}", count(report.left_out.len(), "file")))?;
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}

/// Shows which files were laid over.
fn show_overlay(out: &mut dyn Write, overlay: &OverlayReport, most: usize) -> io::Result<()> {
    let parts = [("replaced", &overlay.replaced), ("new", &overlay.added), ("the same already", &overlay.matching)];
    let told: Vec<String> =
        parts.iter().map(|(what, paths)| format!("{} {what}", number(paths.len() as u64))).collect();
    row(out, "laid over", &told.join(", "))?;
    for (what, paths) in parts {
        for path in paths.iter().take(most) {
            row(out, "", &format!("{what:<17} {path}"))?;
        }
    }
    Ok(())
}

/// Shows what was decrypted.
///
/// # Errors
/// When it cannot be written.
pub fn show_decrypt(
    out: &mut dyn Write,
    report: &DecryptReport,
    answer: Answer,
    took: Duration,
    manner: Manner,
) -> io::Result<()> {
    if let Some(verify) = &report.verify {
        if answer != Answer::Yes {
            super::verify::show(out, verify, manner)?;
            let (bad, plain) = (style::BAD, style::PLAIN);
            return writeln!(
                out,
                "{bad}not kept{plain} {}: the source is not as described",
                native::text(&report.target)
            );
        }
        super::verify::show_verdict(out, verify, manner)?;
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&report.target))?;
    row(out, "from", &report.source)?;
    row(
        out,
        "size",
        &format!(
            "{} ({} bytes), {} of it decrypted",
            size(report.bytes),
            number(report.bytes),
            size(report.decrypted_bytes)
        ),
    )?;
    if let Some(origin) = &report.key_origin {
        let proof = report.key_proof.as_deref().map(|p| format!(", proven by {p}")).unwrap_or_default();
        row(out, "key", &format!("{origin}{proof}"))?;
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

pub(super) fn speed(bytes: u64, took: Duration) -> String {
    let seconds = took.as_secs_f64().max(0.001);
    format!("{seconds:.1} s, {} a second", size((bytes as f64 / seconds) as u64))
}
