use super::{Manner, count, exact, number, row, style};
use decanter_core::native;
use decanter_jobs::save::{MoveReport, ShowReport};
use std::io::{self, Write};

/// Shows what a save file is, or what save memory a ROM has.
///
/// # Errors
/// When it cannot be written.
pub fn show(out: &mut dyn Write, report: &ShowReport, manner: Manner) -> io::Result<()> {
    writeln!(out, "{}{}{}", style::BOLD, report.source, style::PLAIN)?;
    row(out, "size", &exact(report.bytes))?;
    if let Some(memory) = &report.memory {
        row(out, "save memory", &super::rom::save(memory))?;
    }
    for (index, reading) in report.may_be.iter().enumerate() {
        let label = if index == 0 { "save" } else { "or" };
        row(out, label, &format!("{} bytes of {}; {}", number(reading.bytes), reading.kinds, reading.layout))?;
        if !reading.parts.is_empty() {
            row(out, "parts", &reading.parts.join(", "))?;
        }
    }
    for copy in &report.copies {
        let label = if copy.is_current { "current copy" } else { "other copy" };
        let (colour, words) = match copy.holds {
            Some(true) => (style::GOOD, "its code holds"),
            Some(false) => (style::BAD, "its code does not hold"),
            None => (style::WARN, "its code is not checked"),
        };
        let (bytes, times) = (number(copy.bytes), count(copy.times as usize, "time"));
        row(
            out,
            label,
            &format!("{bytes} bytes at {:#x}, saved {times}; {colour}{words}{}", copy.offset, style::PLAIN),
        )?;
    }
    if let Some(first) = report.copies.first() {
        row(out, "title id", &first.title_id)?;
    }
    if report.misfit && report.copies.is_empty() {
        row(out, "save", &format!("{}no layout of that memory has this size{}", style::BAD, style::PLAIN))?;
    }
    if let Some(used) = report.used_bytes {
        row(out, "in use", &format!("{} bytes are neither 0x00 nor 0xff", number(used)))?;
    }
    if let Some(digest) = &report.digest {
        row(out, digest.algorithm.name(), &digest.hex())?;
    }
    row(out, "next", &report.next)?;
    out.flush()?;
    super::notices(&report.notices, manner)
}

/// Shows what was exported or imported.
///
/// # Errors
/// When it cannot be written.
pub fn show_moved(out: &mut dyn Write, report: &MoveReport, manner: Manner) -> io::Result<()> {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    writeln!(out, "{}{verb}{} {}", style::GOOD, style::PLAIN, native::text(&report.target))?;
    row(out, "from", &report.source)?;
    if let Some(holder) = &report.holder {
        row(out, "copy of", &format!("{holder}, which was not changed"))?;
    }
    row(out, "layout", &report.layout)?;
    row(out, "size", &exact(report.bytes))?;
    if let Some(old) = &report.old {
        row(out, "old save", &format!("{} {}", old.algorithm.name(), old.hex()))?;
    }
    row(out, "new save", &format!("{} {}", report.new.algorithm.name(), report.new.hex()))?;
    out.flush()?;
    super::notices(&report.notices, manner)
}
