//! The command line of Decanter: parse, settle, call one job, show its report, map the answer to an exit code.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

mod args;
mod choices;
mod command;
mod config;
mod global;
mod help;
mod machine;
mod progress;
mod record;
mod render;

use args::Cli;
use decanter_core::Error;
use decanter_core::error::Blame;
use decanter_jobs::{Answer, Failure, cellar};
use global::When;
use progress::Screen;
use render::paper::{self, Paper};
use render::style;
use std::io::{self, IsTerminal, Write};
use std::panic::{self, AssertUnwindSafe};
use std::process::ExitCode;

/// Why a command ended early.
pub enum Stop {
    /// The job failed.
    Failed(Box<Failure>),
    /// The output could not be written: mostly, nobody reads it any more.
    Output(io::Error),
}

impl From<Failure> for Stop {
    fn from(failure: Failure) -> Self {
        Self::Failed(Box::new(failure))
    }
}

impl From<io::Error> for Stop {
    fn from(error: io::Error) -> Self {
        Self::Output(error)
    }
}

fn main() -> ExitCode {
    machine::prepare();
    let cli = match Cli::typed() {
        Ok(cli) => cli,
        Err(e) => return usage(&e),
    };
    let screen = Screen::new(manner(&cli)).quiet(cli.global.quiet);
    // What goes wrong where nothing should is told in one line, not as a trace.
    machine::plain_panics();
    let ended = panic::catch_unwind(AssertUnwindSafe(|| command(&cli, &screen)));
    decanter_core::Watch::end(&screen);
    match ended {
        Ok(code) => ExitCode::from(code),
        Err(_) => ExitCode::from(5),
    }
}

/// How progress is told: a bar where it can be seen, lines where they are asked for.
fn manner(cli: &Cli) -> progress::Manner {
    match (cli.global.quiet, cli.global.progress, cli.global.json) {
        (true, ..) => progress::Manner::Silent,
        (_, true, true) => progress::Manner::Objects,
        _ if io::stderr().is_terminal() => progress::Manner::Bar,
        (_, true, false) => progress::Manner::Lines,
        (_, false, _) => progress::Manner::Silent,
    }
}

/// Runs the command and tells how it ended.
fn command(cli: &Cli, screen: &Screen) -> u8 {
    let json = cli.global.json;
    let settled = config::settle(&cli.global);
    use_colours(settled.as_ref().map_or(When::Auto, |s| s.color.0));
    let has_colour = style::is_coloured(io::stdout().is_terminal());
    let mut out =
        Paper::new(io::BufWriter::new(io::stdout().lock()), has_colour).json(json).list(cli.command.is_list());
    let began = cellar::now();
    let result = settled.map_err(Stop::from).and_then(|mut settled| {
        settled.trail = record::trail(&cli.command, &settled);
        let code = cli.run(&settled, screen, &mut out)?;
        record::keep(cli, &settled, began, code, screen);
        Ok(code)
    });
    decanter_core::Watch::end(screen);
    let result = result.and_then(|code| match out.flush() {
        // Whatever the answer was, nobody has seen it.
        Ok(()) if machine::is_output_closed() => Err(Stop::Output(io::Error::other("it is closed"))),
        Ok(()) => Ok(code),
        Err(e) => Err(Stop::Output(e)),
    });
    match result {
        // The rest was done, but not what could not be read.
        Ok(code) if screen.has_unread() => code.max(5),
        Ok(code) => code,
        Err(Stop::Output(e)) => {
            let _ = writeln!(paper::stderr(), "error: cannot write the output: {e}");
            5
        }
        Err(Stop::Failed(failure)) if failure.blame() == Blame::Nobody => {
            let shown = match json {
                true => render::json_nothing(&mut out, &failure),
                false => writeln!(out, "nothing to do: {}", failure.cause),
            };
            if shown.and_then(|()| out.flush()).is_err() { 5 } else { 0 }
        }
        Err(Stop::Failed(failure)) => {
            let _ = render::error(&failure);
            let code = code_of(&failure.cause);
            if json && render::json_error(&mut out, &failure, code).and_then(|()| out.flush()).is_err() {
                return 5;
            }
            code
        }
    }
}

/// What is wrong with what was typed; help and version are no errors.
fn usage(error: &clap::Error) -> ExitCode {
    // Nobody may be there to read it.
    let _ = error.print();
    if error.use_stderr() && std::env::args_os().any(|word| word == "--json") {
        let _ = render::json_usage(&mut io::stdout().lock(), &error.to_string());
    }
    ExitCode::from(u8::from(error.use_stderr()) * 2)
}

fn use_colours(when: When) {
    style::choose(match when {
        When::Auto => None,
        When::Always => Some(true),
        When::Never => Some(false),
    });
}

/// The exit code of an error.
pub fn code_of(error: &Error) -> u8 {
    match error.blame() {
        Blame::Request => 2,
        Blame::Source => 3,
        Blame::Key => 4,
        Blame::Machine => 5,
        Blame::Stopped => 130,
        Blame::Nobody => 0,
    }
}

/// The exit code of an answer.
pub fn code_of_answer(answer: Answer) -> u8 {
    match answer {
        Answer::Yes => 0,
        Answer::No => 1,
        Answer::NotUnderstood => 3,
        Answer::ReadError => 5,
    }
}
