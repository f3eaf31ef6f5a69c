//! What came of many sources: a row each while the work goes on, and totals in the end.

use super::With;
use crate::code_of_answer;
use crate::render::{Page, count, number, size, speed, style};
use decanter_core::tell;
use decanter_jobs::shelf::{Row, ShelfReport, State};
use serde::Serialize;
use std::io::{self, Write};

/// Characters of the word that a row begins with.
const WORD: usize = 11;

/// Shows a row, unless all of them are shown together in the end. `result` says in a line what was made.
///
/// # Errors
/// When it cannot be written.
pub fn show_row<R>(
    with: &With<'_>,
    out: &mut dyn Write,
    row: &Row<R>,
    result: &dyn Fn(&R) -> String,
) -> io::Result<()> {
    if with.global.json {
        return Ok(());
    }
    let manner = with.manner();
    // What was only found and fits nothing is counted: a folder may hold anything.
    if row.state == State::PassedOver && !manner.is_verbose {
        return Ok(());
    }
    let describe = |page: &mut Page| {
        let (colour, word) = match row.state {
            State::Done => (style::GOOD, "done"),
            State::Flawed => (style::BAD, "FLAWED"),
            State::Present => (style::GOOD, "there"),
            State::PassedOver => (style::DIM, "passed over"),
            State::Failed => (style::BAD, "FAILED"),
        };
        let what = match (&row.result, row.state) {
            (Some(report), _) if manner.is_verbose => format!("{} -> {}", row.source, result(report)),
            (Some(report), _) => result(report),
            _ => row.source.clone(),
        };
        page.line(format!("{colour}{word:<WORD$}{} {what}", style::PLAIN));
        let tells_why = !manner.is_quiet && (row.state != State::Present || manner.is_verbose);
        for text in row.why.iter().chain(&row.hint).filter(|_| tells_why) {
            page.line(format!("{:WORD$}   {text}", ""));
        }
    };
    with.watch.aside(|| with.print(out, describe))
}

/// Shows what all rows came to, and returns the exit code.
///
/// # Errors
/// When it cannot be written.
pub fn conclude<R: Serialize>(with: &With<'_>, out: &mut dyn Write, report: &ShelfReport<R>) -> io::Result<u8> {
    with.show(out, report, |page| totals(page, report, with))?;
    Ok(if report.stopped { 130 } else { code_of_answer(report.answer()) })
}

fn totals<R>(page: &mut Page, report: &ShelfReport<R>, with: &With<'_>) {
    let totals = &report.totals;
    let counts = [
        (totals.done, if with.global.dry_run { "would be done" } else { "done" }),
        (totals.flawed, "flawed"),
        (totals.present, "there already"),
        (totals.passed_over, if with.manner().is_verbose { "passed over" } else { "passed over (-v names them)" }),
        (totals.failed, "failed"),
    ];
    let told: Vec<String> =
        counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{} {what}", number(*n as u64))).collect();
    let unknown = match totals.unknown {
        0 => String::new(),
        n => format!("; {} of other kinds", count(n, "file")),
    };
    if with.manner().is_quiet {
        return;
    }
    page.line(format!(
        "{}{}{unknown}",
        count(report.rows.len(), "source"),
        match told.is_empty() {
            true => String::new(),
            false => format!(": {}", told.join(", ")),
        }
    ));
    if report.stopped {
        page.row("stopped", "the same command goes on with what is missing");
    }
    let (before, after) = (totals.bytes_before, totals.bytes_after);
    if after > 0 {
        let share = tell::share(after, before).map(|share| format!(": {share}")).unwrap_or_default();
        page.row("size", format!("{} before, {} after{share}", size(before), size(after)));
        if !with.global.dry_run {
            page.row("took", speed(before.max(after), with.took()));
        }
    }
}
