//! What the process asks of the machine that it runs on.

use crate::render::paper;
use rustix::process::{DumpableBehavior, Resource, Rlimit, set_dumpable_behavior, setrlimit};
use signal_hook::consts::SIGXFSZ;
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::AsFd;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

/// Called once, before anything is read.
pub fn prepare() {
    // A memory image of the process would have the user's keys in it. Where the system cannot promise that there is
    // none, nothing else is lost.
    let none = Rlimit { current: Some(0), maximum: Some(0) };
    let _ = setrlimit(Resource::Core, none);
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    // A limit on the size of files is an error of the write that meets it, not the end of the process.
    let _ = signal_hook::flag::register(SIGXFSZ, Arc::new(AtomicBool::new(false)));
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

/// Whether standard output was closed when the process began, as `stdout.c` has seen it.
pub fn is_output_closed() -> bool {
    std::env::var_os("DECANTER_STDOUT_CLOSED").is_some()
}

/// Columns of the terminal that standard output is; `None` where it is none.
pub fn width() -> Option<usize> {
    columns(io::stdout().as_fd())
}

/// Columns of the terminal that standard error is; `None` where it is none.
pub fn error_width() -> Option<usize> {
    columns(io::stderr().as_fd())
}

fn columns(stream: impl AsFd) -> Option<usize> {
    let columns = rustix::termios::tcgetwinsize(stream).ok()?.ws_col;
    (columns > 0).then_some(columns.into())
}

/// Standard output without anything in between, for bytes that are no text.
///
/// # Errors
/// When it is closed.
pub fn raw_output() -> io::Result<File> {
    io::stdout().as_fd().try_clone_to_owned().map(File::from)
}
