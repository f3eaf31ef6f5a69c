use super::written::speed;
use super::{Manner, count, exact, number, row, size, style};
use decanter_core::native;
use decanter_jobs::convert::{ConvertReport, RepairReport};
use std::io::{self, Write};
use std::time::Duration;

/// Things that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 20;

/// Shows what was converted.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &ConvertReport, took: Duration, manner: Manner) -> io::Result<()> {
    if let Some(repair) = &report.repair {
        show_repair(out, repair, manner)?;
    }
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for file in &report.files {
        writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&file.path))?;
        for digest in &file.digests {
            row(out, digest.algorithm.name(), &digest.hex())?;
        }
    }
    row(out, "from", &report.source)?;
    for more in &report.more_sources {
        row(out, "", more)?;
    }
    let (before, after) = (report.bytes_before, report.bytes_after);
    let share = after as f64 * 100.0 / (before as f64).max(1.0);
    let holes =
        if report.hole_bytes > 0 { format!(", {} of it holes", size(report.hole_bytes)) } else { String::new() };
    if report.dry_run && before == after {
        row(out, "size", &exact(after))?;
    } else {
        row(
            out,
            "size",
            &format!(
                "{} ({} bytes) before, {} ({} bytes) after: {share:.1} %{holes}",
                size(before),
                number(before),
                size(after),
                number(after)
            ),
        )?;
    }
    for (name, value) in &report.facts {
        row(out, name, value)?;
    }
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
    for (index, left) in report.left_out.iter().take(most).enumerate() {
        let label = if index == 0 { "left out" } else { "" };
        row(out, label, &format!("{}: {} ({})", left.what, size(left.bytes), left.why))?;
    }
    if report.left_out.len() > most {
        row(out, "", &format!("and {} more; -v names them all", number((report.left_out.len() - most) as u64)))?;
    }
    row(out, "keeps", &report.preserved)?;
    if let Some(proven) = &report.proven {
        let colour = if proven.identical { style::GOOD } else { style::WARN };
        row(out, "proof", &format!("{colour}{}{}", proven.words, style::PLAIN))?;
    }
    for digest in &report.digests {
        row(out, digest.algorithm.name(), &digest.hex())?;
    }
    if !report.dry_run {
        // What was left out was not read either.
        let left_out: u64 = report.left_out.iter().map(|l| l.bytes).sum();
        row(out, "took", &speed(before.saturating_sub(left_out).max(after), took))?;
    }
    out.flush()?;
    super::notices(&report.notices, manner)
}

fn show_repair(out: &mut dyn Write, repair: &RepairReport, manner: Manner) -> io::Result<()> {
    let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
    for sector in repair.sectors.iter().take(most) {
        let (colour, word) = match sector.changed_bytes {
            Some(0) => (style::WARN, "as it is"),
            Some(_) => (style::GOOD, "corrected"),
            None => (style::BAD, "uncorrected"),
        };
        let file = sector.file.as_deref().map(|f| format!(", {f}")).unwrap_or_default();
        let changed = sector.changed_bytes.map(|n| format!(", {} changed", count(n, "byte"))).unwrap_or_default();
        writeln!(
            out,
            "  {colour}{word:<13}{}track {} sector {} ({}){changed}{file}",
            style::PLAIN,
            sector.track,
            sector.sector,
            sector.faults.join(", ")
        )?;
    }
    if repair.sectors.len() > most {
        writeln!(out, "  and {}; -v names them all", count(repair.sectors.len() - most, "more sector"))?;
    }
    let beyond = if repair.beyond_count > 0 {
        format!(
            ", {}{} beyond repair{}: dump them again",
            style::BAD,
            count(repair.beyond_count as usize, "sector"),
            style::PLAIN
        )
    } else {
        String::new()
    };
    row(
        out,
        "repair",
        &format!(
            "{} with faults, {} corrected and proven by EDC{beyond}",
            count(repair.faulty as usize, "sector"),
            number(repair.corrected_count)
        ),
    )
}
