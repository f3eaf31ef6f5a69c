//! What the process asks of the machine that it runs on.

use crate::render::paper;
use decanter_core::os;
use std::io::{self, IsTerminal, Write};

/// Columns of a terminal that does not tell how many it has.
const USUAL_WIDTH: usize = 80;

/// Called once, before anything is read.
pub fn prepare() {
    os::withhold_memory();
    os::survive_size_limits();
}

/// Faults are told in one line, without a trace.
pub fn plain_panics() {
    std::panic::set_hook(Box::new(|info| {
        let text = info.payload();
        let told =
            text.downcast_ref::<&str>().map(|t| (*t).to_owned()).or_else(|| text.downcast_ref::<String>().cloned());
        let told = told.unwrap_or_default();
        let advice =
            if told.contains("thread") { "the machine refuses more threads" } else { "this is a fault in Decanter" };
        let at = info.location().map(|l| format!(" ({}:{})", l.file(), l.line())).unwrap_or_default();
        // Standard error may be closed.
        let _ = writeln!(paper::stderr(), "error: {advice}: {}{at}", told.replace('\n', " "));
    }));
}

/// Whether standard output was closed when the process began: on Unix, `stdout.c` has seen it.
pub fn is_output_closed() -> bool {
    std::env::var_os("DECANTER_STDOUT_CLOSED").is_some() || os::is_output_missing()
}

/// Columns of the terminal that standard output is; `None` where it is none.
pub fn width() -> Option<usize> {
    io::stdout().is_terminal().then(|| os::output_width().unwrap_or(USUAL_WIDTH))
}

/// Columns of the terminal that standard error is, or of the usual one.
pub fn error_width() -> usize {
    os::error_width().unwrap_or(USUAL_WIDTH)
}
