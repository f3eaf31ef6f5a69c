//! Progress on standard error: how much of it, how fast, how long still. A bar on a terminal; lines where there is none and
//! they are asked for.

use crate::machine;
use crate::render::paper::{printable, stderr};
use crate::render::text::shortened;
use crate::render::{size, style};
use decanter_core::{Error, Notice, Watch};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use serde_json::json;
use std::collections::HashSet;
use std::fmt;
use std::io::Write;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a stop may take before another Ctrl-C ends the process.
const GRACE: Duration = Duration::from_secs(2);
/// Before this nothing is said of a speed, and of the time that is left.
const SETTLING: Duration = Duration::from_secs(2);
/// Between two lines where there is no terminal.
const BETWEEN_LINES: Duration = Duration::from_secs(10);
/// The same for lines that programs read.
const BETWEEN_OBJECTS: Duration = Duration::from_secs(1);
/// Columns of what numbers take, at most: "1023.9 MiB of 1023.9 GiB, 1023.9 MiB a second, 59 min left".
const NUMBERS: usize = 58;
/// Columns of the bar itself.
const BAR: usize = 8;

/// How progress is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manner {
    /// Not at all.
    Silent,
    /// A bar that is drawn over.
    Bar,
    /// A line from time to time.
    Lines,
    /// The same as JSON objects.
    Objects,
}

/// Tells of progress while work goes on, and passes on the wish to stop.
pub struct Screen {
    bar: Mutex<Option<ProgressBar>>,
    stretch: Mutex<Option<Stretch>>,
    done: AtomicU64,
    manner: Manner,
    /// Whether nothing is told but what is damaged.
    is_quiet: bool,
    stop: Arc<AtomicBool>,
    /// What was told already, word by word.
    told: Mutex<HashSet<String>>,
    has_unread: AtomicBool,
}

/// A stretch of work that is told in lines.
struct Stretch {
    phase: String,
    total: Option<u64>,
    began: Instant,
    told: Instant,
}

impl Screen {
    /// One that tells in this manner; Ctrl-C asks for a stop. Another one ends the process at once, unless it comes so soon
    /// that the first could not be followed yet: what is worth keeping is being saved then.
    pub fn new(manner: Manner) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let flag = stop.clone();
        let asked: Mutex<Option<Instant>> = Mutex::new(None);
        // Where no handler can be set, Ctrl-C simply ends the process, which leaves nothing under a final name either.
        let _ = ctrlc::set_handler(move || {
            flag.store(true, Ordering::Relaxed);
            decanter_core::watch::ask_to_stop();
            let mut asked = asked.lock().unwrap_or_else(PoisonError::into_inner);
            if asked.get_or_insert_with(Instant::now).elapsed() > GRACE {
                std::process::exit(130);
            }
        });
        let (bar, stretch, done, told, has_unread) = Default::default();
        Self { bar, stretch, done, manner, is_quiet: false, stop, told, has_unread }
    }

    /// The same, that tells of nothing but damage.
    #[must_use]
    pub fn quiet(self, is_quiet: bool) -> Self {
        Self { is_quiet, ..self }
    }

    /// Whether something in a folder could not be read.
    pub fn has_unread(&self) -> bool {
        self.has_unread.load(Ordering::Relaxed)
    }

    /// Does something on standard output while the bar is out of the way.
    pub fn aside<T>(&self, act: impl FnOnce() -> T) -> T {
        let bar = self.bar.lock().unwrap_or_else(PoisonError::into_inner).clone();
        match bar {
            Some(bar) => bar.suspend(act),
            None => act(),
        }
    }

    fn with_bar(&self, act: impl FnOnce(&ProgressBar)) {
        if let Some(bar) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).as_ref() {
            act(bar);
        }
    }

    /// Tells how far the stretch is, if it is time for that.
    fn tell_lines(&self, is_end: bool) {
        let between = match self.manner {
            Manner::Lines => BETWEEN_LINES,
            Manner::Objects => BETWEEN_OBJECTS,
            Manner::Silent | Manner::Bar => return,
        };
        let mut stretch = self.stretch.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(now) = stretch.as_mut() else { return };
        let is_object = self.manner == Manner::Objects;
        if now.told.elapsed() < between && !(is_end && is_object) {
            return;
        }
        now.told = Instant::now();
        let (done, took) = (self.done.load(Ordering::Relaxed), now.began.elapsed());
        let line = match is_object {
            true => object(&now.phase, done, now.total, took),
            false => format!("{}: {}", printable(&now.phase), numbers(done, now.total, took)),
        };
        // Standard error may be closed.
        let _ = writeln!(stderr(), "{line}");
    }
}

fn object(phase: &str, done: u64, total: Option<u64>, took: Duration) -> String {
    json!({
        "schema": "decanter.progress/1", "phase": phase, "bytes": done, "total_bytes": total,
        "seconds": (took.as_secs_f64() * 10.0).round() / 10.0,
    })
    .to_string()
}

/// What the numbers of a stretch say, in words. Nothing is said before there is something to say.
fn numbers(done: u64, total: Option<u64>, took: Duration) -> String {
    let mut told = match total {
        Some(total) => format!("{} of {}", size(done), size(total)),
        None => size(done),
    };
    let speed = done as f64 / took.as_secs_f64().max(0.001);
    if took >= SETTLING && done > 0 {
        told.push_str(&format!(", {} a second", size(speed as u64)));
        let left = total.and_then(|total| total.checked_sub(done)).filter(|left| *left > 0);
        if let Some(left) = left {
            told.push_str(&format!(", {} left", span((left as f64 / speed).ceil() as u64)));
        }
    }
    told
}

/// A time in the unit that people use for it.
fn span(seconds: u64) -> String {
    match seconds {
        ..100 => format!("{} s", seconds.max(1)),
        100..6000 => format!("{} min", seconds.div_ceil(60)),
        _ => format!("{} h", seconds.div_ceil(3600)),
    }
}

impl Watch for Screen {
    fn begin(&self, phase: &str, total: Option<u64>) {
        // One that was not ended would leave its last line standing.
        self.end();
        self.done.store(0, Ordering::Relaxed);
        match self.manner {
            Manner::Silent => return,
            Manner::Bar => {}
            Manner::Lines | Manner::Objects => {
                let now = Instant::now();
                let stretch = Stretch { phase: phase.to_owned(), total, began: now, told: now };
                *self.stretch.lock().unwrap_or_else(PoisonError::into_inner) = Some(stretch);
                return;
            }
        }
        let template = match total {
            Some(_) => format!("{{prefix}}  {{bar:{BAR}.cyan/dim}}  {{numbers}}"),
            None => "{prefix}  {spinner}  {numbers}".into(),
        };
        let told = |state: &ProgressState, to: &mut dyn fmt::Write| {
            // The terminal takes what it gets.
            let _ = to.write_str(&numbers(state.pos(), state.len(), state.elapsed()));
        };
        let style = ProgressStyle::with_template(&template).unwrap_or_else(|_| ProgressStyle::default_bar());
        let bar = ProgressBar::with_draw_target(total, ProgressDrawTarget::stderr_with_hz(10));
        bar.set_style(style.progress_chars("█▌░").with_key("numbers", told));
        let width = machine::error_width();
        bar.set_prefix(shortened(&printable(phase), width.saturating_sub(NUMBERS + BAR + 4).max(12)));
        bar.enable_steady_tick(Duration::from_millis(200));
        *self.bar.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar);
    }

    fn advance(&self, bytes: u64) {
        self.done.fetch_add(bytes, Ordering::Relaxed);
        self.with_bar(|bar| bar.inc(bytes));
        self.tell_lines(false);
    }

    fn end(&self) {
        if let Some(bar) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).take() {
            bar.finish_and_clear();
        }
        self.tell_lines(true);
        *self.stretch.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    fn notice(&self, notice: &Notice) {
        if self.is_quiet && !notice.is_damage {
            return;
        }
        // A folder may be looked into more than once.
        if !self.told.lock().unwrap_or_else(PoisonError::into_inner).insert(notice.text.clone()) {
            return;
        }
        let tell = || {
            // Standard error may be closed: then nobody is there to be told.
            let _ = writeln!(stderr(), "{}notice:{} {}", style::WARN, style::PLAIN, notice.text);
        };
        match self.bar.lock().unwrap_or_else(PoisonError::into_inner).as_ref() {
            Some(bar) => bar.suspend(tell),
            None => tell(),
        }
    }

    fn unread(&self, path: &str, error: &Error) {
        self.has_unread.store(true, Ordering::Relaxed);
        self.notice(&Notice::damage(format!("{path} is left out: {error}")));
    }

    fn cancelled(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_say_what_they_are_and_nothing_before_they_can() {
        let after = |done, seconds| numbers(done, Some(64 << 20), Duration::from_secs(seconds));
        assert_eq!(after(0, 0), "0 bytes of 64.0 MiB");
        assert_eq!(after(1 << 20, 1), "1.0 MiB of 64.0 MiB");
        assert_eq!(after(32 << 20, 4), "32.0 MiB of 64.0 MiB, 8.0 MiB a second, 4 s left");
        assert_eq!(after(64 << 20, 4), "64.0 MiB of 64.0 MiB, 16.0 MiB a second");
        assert_eq!(after(1 << 20, 600), "1.0 MiB of 64.0 MiB, 1.7 KiB a second, 11 h left");
        assert_eq!(numbers(5, None, Duration::from_secs(1)), "5 bytes");
        let widest = numbers(1 << 39, Some((1 << 40) - 1), Duration::from_secs(600));
        assert!(widest.chars().count() <= NUMBERS, "{widest}");
    }

    #[test]
    fn lines_of_objects_are_json() {
        let told: serde_json::Value =
            serde_json::from_str(&object("a \"b\"", 3, None, Duration::from_millis(1250))).unwrap();
        assert_eq!(
            (told["phase"].as_str(), told["bytes"].as_u64(), told["seconds"].as_f64()),
            (Some("a \"b\""), Some(3), Some(1.3))
        );
    }
}
