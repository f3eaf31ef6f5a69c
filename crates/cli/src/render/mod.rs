//! Pages, and what they share: sizes, counts, colours; pages as text, reports as JSON.

pub mod page;
pub mod paper;
pub mod rom;
pub mod style;
pub mod text;

pub use decanter_core::tell::{grouped as number, size};
use decanter_jobs::Failure;
pub use page::Page;
use serde::Serialize;
use serde_json::json;
use std::io::{self, Write};
use std::time::Duration;

/// What took less, in seconds, says nothing of a speed.
const LEAST_TIMED: f64 = 0.2;

/// How much is told.
#[derive(Debug, Clone, Copy)]
pub struct Manner {
    pub is_verbose: bool,
    pub is_quiet: bool,
}

/// Prints a report as one JSON object.
///
/// # Errors
/// When it cannot be written.
pub fn json(out: &mut dyn Write, report: &impl Serialize) -> io::Result<()> {
    serde_json::to_writer_pretty(&mut *out, report).map_err(io::Error::from)?;
    writeln!(out)
}

/// Shows why a job failed, on standard error.
///
/// # Errors
/// When it cannot be written.
pub fn error(failure: &Failure) -> io::Result<()> {
    let (red, plain) = (style::BAD, style::PLAIN);
    let mut err = paper::stderr();
    writeln!(err, "{red}error:{plain} {}", failure.what)?;
    writeln!(err, "  {}", failure.cause)?;
    if let Some(hint) = &failure.hint {
        writeln!(err, "  {hint}")?;
    }
    Ok(())
}

/// The same for programs.
///
/// # Errors
/// When it cannot be written.
pub fn json_error(out: &mut dyn Write, failure: &Failure, code: u8) -> io::Result<()> {
    let object = json!({
        "schema": "decanter.error/1",
        "what": failure.what,
        "why": failure.cause.to_string(),
        "hint": failure.hint,
        "exit_code": code,
    });
    writeln!(out, "{object:#}")
}

/// Says for programs that there is nothing to do.
///
/// # Errors
/// When it cannot be written.
pub fn json_nothing(out: &mut dyn Write, failure: &Failure) -> io::Result<()> {
    let object = json!({
        "schema": "decanter.nothing/1",
        "what": failure.what,
        "why": failure.cause.to_string(),
        "exit_code": 0,
    });
    writeln!(out, "{object:#}")
}

/// Says for programs what is wrong with what was typed: `text` is what people are told.
///
/// # Errors
/// When it cannot be written.
pub fn json_usage(out: &mut dyn Write, text: &str) -> io::Result<()> {
    let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let why = lines.next().unwrap_or_default().trim_start_matches("error: ");
    let hint = lines.collect::<Vec<_>>().join("; ");
    let object = json!({
        "schema": "decanter.error/1",
        "what": "cannot understand what was typed",
        "why": why,
        "hint": hint,
        "exit_code": 2,
    });
    writeln!(out, "{object:#}")
}

/// The same with the exact number: `64.0 MiB (67,108,864 bytes)`, `156 bytes`.
pub fn exact(bytes: u64) -> String {
    if bytes < 1024 { size(bytes) } else { format!("{} ({} bytes)", size(bytes), number(bytes)) }
}

/// How long something took, and how fast that was where it took long enough to tell.
pub fn speed(bytes: u64, took: Duration) -> String {
    let seconds = took.as_secs_f64();
    match seconds < LEAST_TIMED {
        true => "less than 0.2 s".into(),
        false => format!("{seconds:.1} s, {} a second", size((bytes as f64 / seconds) as u64)),
    }
}

/// Seconds as people say them.
pub fn lasting(seconds: u64) -> String {
    match seconds {
        0..=1 => "a second".into(),
        2..=119 => format!("{seconds} seconds"),
        120..=7199 => format!("{} minutes", seconds.div_ceil(60)),
        _ => format!("{} hours", seconds.div_ceil(3600)),
    }
}

/// `1 file`, `2 files`.
pub fn count(value: usize, what: &str) -> String {
    format!("{} {what}{}", number(value as u64), if value == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(number(1_234_567), "1,234,567");
        assert_eq!(number(999), "999");
        assert_eq!(size(1023), "1023 bytes");
        assert_eq!(size(64 << 20), "64.0 MiB");
        assert_eq!(size((1 << 30) - 1), "1.0 GiB");
        assert_eq!((exact(156), exact(2048)), ("156 bytes".into(), "2.0 KiB (2,048 bytes)".into()));
        assert_eq!(count(1, "file"), "1 file");
    }
}
