//! The command line of Decanter: parse, settle, call one job, show its report, map the answer to an exit code.

mod args;
mod config;
mod manual;
mod progress;
mod run;
mod screen;
mod tour;

use args::{Cli, When};
use clap::Parser;
use decanter_core::Error;
use decanter_core::error::Blame;
use decanter_jobs::{Answer, Failure};
use progress::Screen;
use std::io::{self, IsTerminal, Write};
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
    let cli = Cli::parse();
    let screen = Screen::new(!cli.global.quiet && io::stderr().is_terminal());
    let json = cli.global.json;
    let mut out = io::BufWriter::new(anstream::stdout().lock());
    let result = config::settle(&cli.global).map_err(Stop::from).and_then(|settled| {
        use_colours(settled.color);
        // The stream chose its colours when it was made: make it anew.
        out = io::BufWriter::new(anstream::stdout().lock());
        run::run(&cli, &settled, &screen, &mut out)
    });
    decanter_core::Watch::end(&screen);
    let result = result.and_then(|code| out.flush().map(|()| code).map_err(Stop::from));
    match result {
        Ok(code) => ExitCode::from(code),
        Err(Stop::Output(e)) if e.kind() == io::ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Err(Stop::Output(e)) => {
            let _ = writeln!(anstream::stderr(), "error: cannot write the output: {e}");
            ExitCode::from(5)
        }
        Err(Stop::Failed(failure)) => {
            let _ = screen::error(&failure);
            if json {
                let _ = screen::json_error(&mut out, &failure, code_of(&failure.cause)).and_then(|()| out.flush());
            }
            ExitCode::from(code_of(&failure.cause))
        }
    }
}

fn use_colours(when: When) {
    match when {
        When::Auto => anstream::ColorChoice::Auto,
        When::Always => anstream::ColorChoice::Always,
        When::Never => anstream::ColorChoice::Never,
    }
    .write_global();
}

/// The exit code of an error.
pub fn code_of(error: &Error) -> u8 {
    match error.blame() {
        Blame::Request => 2,
        Blame::Source => 3,
        Blame::Key => 4,
        Blame::Machine => 5,
        Blame::Stopped => 130,
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
