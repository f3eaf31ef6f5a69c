//! Progress on standard error: bytes, speed, time left. Hidden where that is no terminal.

use crate::render::paper::{printable, stderr};
use crate::render::style;
use decanter_core::{Error, Notice, Watch};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::collections::HashSet;
use std::io::Write;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long a stop may take before another Ctrl-C ends the process.
const GRACE: Duration = Duration::from_secs(2);

/// Draws a line while work goes on, and passes on the wish to stop.
pub struct Screen {
    bar: Mutex<Option<ProgressBar>>,
    is_shown: bool,
    stop: Arc<AtomicBool>,
    /// What was told already, word by word.
    told: Mutex<HashSet<String>>,
    has_unread: AtomicBool,
}

impl Screen {
    /// One that is drawn if `is_shown`; Ctrl-C asks for a stop. Another one ends the process at once, unless it comes
    /// so soon that the first could not be followed yet: what is worth keeping is being saved then.
    pub fn new(is_shown: bool) -> Self {
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
        let (bar, told, has_unread) = Default::default();
        Self { bar, is_shown, stop, told, has_unread }
    }

    /// Whether something in a folder could not be read.
    pub fn has_unread(&self) -> bool {
        self.has_unread.load(Ordering::Relaxed)
    }

    fn with_bar(&self, act: impl FnOnce(&ProgressBar)) {
        if let Some(bar) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).as_ref() {
            act(bar);
        }
    }
}

impl Watch for Screen {
    fn begin(&self, phase: &str, total: Option<u64>) {
        if !self.is_shown {
            return;
        }
        let template = match total {
            Some(_) => {
                "{prefix}  {bar:24.cyan/dim}  {bytes} of {total_bytes}  {bytes_per_sec}  {eta} left  {wide_msg:.dim}"
            }
            None => "{prefix}  {spinner}  {bytes}  {bytes_per_sec}  {wide_msg:.dim}",
        };
        let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar());
        let bar = ProgressBar::with_draw_target(total, ProgressDrawTarget::stderr_with_hz(10));
        bar.set_style(style.progress_chars("█▌░"));
        bar.set_prefix(printable(phase));
        // One that was not ended would leave its last line standing.
        self.end();
        bar.enable_steady_tick(Duration::from_millis(200));
        *self.bar.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar);
    }

    fn advance(&self, bytes: u64) {
        self.with_bar(|bar| bar.inc(bytes));
    }

    fn item(&self, name: &str) {
        self.with_bar(|bar| bar.set_message(printable(name)));
    }

    fn end(&self) {
        if let Some(bar) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).take() {
            bar.finish_and_clear();
        }
    }

    fn notice(&self, notice: &Notice) {
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
