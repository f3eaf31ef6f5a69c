//! Progress on standard error: bytes, speed, time left. Hidden where that is no terminal.

use decanter_core::Watch;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Draws a line while work goes on, and passes on the wish to stop.
pub struct Screen {
    bar: Mutex<Option<ProgressBar>>,
    is_shown: bool,
    stop: Arc<AtomicBool>,
}

impl Screen {
    /// One that is drawn if `is_shown`; Ctrl-C asks for a stop, a second one ends the process at once.
    pub fn new(is_shown: bool) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let flag = stop.clone();
        // Where no handler can be set, Ctrl-C simply ends the process, which leaves nothing under a final name either.
        let _ = ctrlc::set_handler(move || {
            if flag.swap(true, Ordering::Relaxed) {
                std::process::exit(130);
            }
        });
        Self { bar: Mutex::new(None), is_shown, stop }
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
        bar.set_prefix(phase.to_owned());
        bar.enable_steady_tick(Duration::from_millis(200));
        *self.bar.lock().unwrap_or_else(PoisonError::into_inner) = Some(bar);
    }

    fn advance(&self, bytes: u64) {
        self.with_bar(|bar| bar.inc(bytes));
    }

    fn item(&self, name: &str) {
        self.with_bar(|bar| bar.set_message(name.to_owned()));
    }

    fn end(&self) {
        if let Some(bar) = self.bar.lock().unwrap_or_else(PoisonError::into_inner).take() {
            bar.finish_and_clear();
        }
    }

    fn cancelled(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}
