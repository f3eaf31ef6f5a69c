//! A disc that was read, as text.

use crate::render::speed;
use crate::render::{Manner, Page, count, number, size, style};
use decanter_core::native;
use decanter_jobs::dump::{DumpReport, line};
use std::time::Duration;

/// Things that are told one by one, unless everything is asked for.
const MOST_TOLD: usize = 12;

/// Shows what was dumped.
pub fn show(page: &mut Page, report: &DumpReport, took: Duration, manner: Manner) {
    let (good, bad, plain) = (style::GOOD, style::BAD, style::PLAIN);
    match (report.dry_run, report.complete) {
        (true, _) => page.line(format!("{good}would write{plain} {}", native::text(&report.path))),
        (_, true) => page.line(format!("{good}wrote{plain} {}", native::text(&report.path))),
        (_, false) => page.line(format!("{bad}INCOMPLETE{plain} {}", native::text(&report.path))),
    }
    let resumed = if report.resumed { ", going on with an earlier run" } else { "" };
    page.row("from", format!("{} ({}){resumed}", report.drive, report.drive_kind));
    if let Some(line) = line(report) {
        page.row("what", &line);
    }
    page.row(
        "size",
        format!("{} ({} bytes), {} sectors", size(report.bytes), number(report.bytes), number(report.sectors)),
    );
    if let Some(gone) = &report.gone {
        page.row("stopped", format!("{bad}{gone}{plain}"));
    }
    if report.missing_sectors > 0 && !report.dry_run {
        page.row(
            "missing",
            format!(
                "{bad}{}{plain}, after {}",
                count(report.missing_sectors as usize, "sector"),
                count(report.passes as usize, "pass").replace("passs", "passes")
            ),
        );
        let most = if manner.is_verbose { usize::MAX } else { MOST_TOLD };
        for run in report.missing.iter().take(most) {
            let last = run.first + run.count - 1;
            page.row(
                "",
                &if run.count == 1 {
                    format!("sector {}", run.first)
                } else {
                    format!("sectors {} to {last}", run.first)
                },
            );
        }
        if report.missing.len() > most {
            page.row("", format!("and {}; -v names them all", count(report.missing.len() - most, "more range")));
        }
        for (index, file) in report.hit_files.iter().take(most).enumerate() {
            page.row(if index == 0 { "hit files" } else { "" }, file);
        }
        page.row("map", native::text(&report.map));
    }
    if report.unstable_sectors > 0 {
        page.row(
            "unstable",
            format!(
                "{} gave other bytes at first; two later reads agreed",
                count(report.unstable_sectors as usize, "sector")
            ),
        );
    }
    for fill in &report.fills {
        page.row(
            "filled",
            format!(
                "{} from {} ({} compared)",
                count(fill.filled as usize, "sector"),
                fill.from,
                count(fill.compared as usize, "sector")
            ),
        );
        for (first, last) in fill.disagreements.iter().take(MOST_TOLD) {
            let place = if first == last { format!("sector {first}") } else { format!("sectors {first} to {last}") };
            page.row("", format!("{bad}the copies disagree{plain} at {place}; what was read first is kept"));
        }
    }
    page.digests(&report.digests);
    if let Some(picture) = &report.picture {
        page.row("picture", native::text(picture));
    }
    if !report.dry_run {
        page.row("took", speed(report.bytes, took));
    }
    page.row("next", &report.next);
    page.notices(&report.notices, manner)
}
