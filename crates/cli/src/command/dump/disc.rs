//! A disc that was read, as text.

use crate::render::speed;
use crate::render::{Manner, count, number, row, size, style};
use decanter_core::native;
use decanter_jobs::dump::{DumpReport, line};
use std::io::{self, Write};
use std::time::Duration;

/// Things that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 12;

/// Shows what was dumped.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &DumpReport, took: Duration, manner: Manner) -> io::Result<()> {
    let (good, bad, plain) = (style::GOOD, style::BAD, style::PLAIN);
    match (report.dry_run, report.complete) {
        (true, _) => writeln!(out, "{good}would write{plain} {}", native::text(&report.path))?,
        (_, true) => writeln!(out, "{good}wrote{plain} {}", native::text(&report.path))?,
        (_, false) => writeln!(out, "{bad}INCOMPLETE{plain} {}", native::text(&report.path))?,
    }
    let resumed = if report.resumed { ", going on with an earlier run" } else { "" };
    row(out, "from", &format!("{} ({}){resumed}", report.drive, report.drive_kind))?;
    if let Some(line) = line(report) {
        row(out, "what", &line)?;
    }
    row(
        out,
        "size",
        &format!("{} ({} bytes), {} sectors", size(report.bytes), number(report.bytes), number(report.sectors)),
    )?;
    if let Some(gone) = &report.gone {
        row(out, "stopped", &format!("{bad}{gone}{plain}"))?;
    }
    if report.missing_sectors > 0 && !report.dry_run {
        row(
            out,
            "missing",
            &format!(
                "{bad}{}{plain}, after {}",
                count(report.missing_sectors as usize, "sector"),
                count(report.passes as usize, "pass").replace("passs", "passes")
            ),
        )?;
        let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
        for run in report.missing.iter().take(most) {
            let last = run.first + run.count - 1;
            row(
                out,
                "",
                &if run.count == 1 {
                    format!("sector {}", run.first)
                } else {
                    format!("sectors {} to {last}", run.first)
                },
            )?;
        }
        if report.missing.len() > most {
            row(out, "", &format!("and {}; -v names them all", count(report.missing.len() - most, "more range")))?;
        }
        for (index, file) in report.hit_files.iter().take(most).enumerate() {
            row(out, if index == 0 { "hit files" } else { "" }, file)?;
        }
        row(out, "map", &native::text(&report.map))?;
    }
    if report.unstable_sectors > 0 {
        row(
            out,
            "unstable",
            &format!(
                "{} gave other bytes at first; two later reads agreed",
                count(report.unstable_sectors as usize, "sector")
            ),
        )?;
    }
    for fill in &report.fills {
        row(
            out,
            "filled",
            &format!(
                "{} from {} ({} compared)",
                count(fill.filled as usize, "sector"),
                fill.from,
                count(fill.compared as usize, "sector")
            ),
        )?;
        for (first, last) in fill.disagreements.iter().take(MOST_TOLD) {
            let place = if first == last { format!("sector {first}") } else { format!("sectors {first} to {last}") };
            row(out, "", &format!("{bad}the copies disagree{plain} at {place}; what was read first is kept"))?;
        }
    }
    crate::render::digests(out, &report.digests)?;
    if let Some(picture) = &report.picture {
        row(out, "picture", &native::text(picture))?;
    }
    if !report.dry_run {
        row(out, "took", &speed(report.bytes, took))?;
    }
    row(out, "next", &report.next)?;
    out.flush()?;
    crate::render::notices(&report.notices, manner)
}
