//! Completions and manual pages, made from the definitions of the command line.

use crate::args::Cli;
use clap::{Command, CommandFactory};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour;
use decanter_core::source::Bytes;
use decanter_core::{Door, Error};
use decanter_jobs::{Failure, Setting};
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;

/// Prints a completion script.
///
/// # Errors
/// When it cannot be written.
pub fn completions(shell: clap_complete::Shell, out: &mut dyn Write) -> io::Result<()> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "decanter", &mut script);
    script.split_inclusive(|b| *b == b'\n').try_for_each(|line| out.write_all(line))
}

/// A command and those below it, each with the name of its page.
fn gather(name: &str, command: &Command, all: &mut Vec<(String, Command)>) {
    all.push((name.to_owned(), command.clone()));
    for sub in command.get_subcommands().filter(|s| s.get_name() != "help") {
        gather(&format!("{name}-{}", sub.get_name()), sub, all);
    }
}

/// Writes one page for the whole and one for each command, unless it is a rehearsal; returns how many.
///
/// # Errors
/// When the folder or a page cannot be written.
pub fn pages(folder: &Path, setting: &Setting<'_>) -> Result<usize, Failure> {
    let fail = |e| Failure::new("cannot write the manual pages", e);
    let mut command = Cli::command();
    command.build();
    let mut all = Vec::new();
    gather("decanter", &command, &mut all);
    let count = all.len();
    if setting.dry_run {
        return Ok(count);
    }
    // Pages belong to this very version: older ones are replaced.
    let door = Door { replace: true, ..setting.door() };
    for (name, command) in all {
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page).map_err(|e| fail(Error::io("make page", folder, e)))?;
        let blueprint = Blueprint::of(Arc::new(Bytes(page)));
        pour::pour(&blueprint, &folder.join(format!("{name}.1")), door, &[], &()).map_err(fail)?;
    }
    Ok(count)
}
