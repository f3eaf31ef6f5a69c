//! Manual pages, made from the definitions of the command line.

use super::{Run, With};
use crate::Stop;
use crate::help::EXIT_STATUS;
use clap::{Args, Command};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::pour::{self, Output};
use decanter_core::source::Bytes;
use decanter_core::{Door, Error};
use decanter_jobs::{Failure, Setting};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Write the manual pages into a folder
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter manual -o ~/.local/share/man/man1")]
pub struct Manual {
    /// The folder; it is made if it is not there
    #[arg(short, long, value_name = "DIR")]
    output: PathBuf,
}

impl Run for Manual {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let pages = pages((with.program.definition)(), &self.output, &with.setting(None)?)?;
        let report = serde_json::json!({
            "schema": "decanter.manual/1", "folder": self.output, "pages": pages, "dry_run": with.global.dry_run,
        });
        let verb = if with.global.dry_run { "would write" } else { "wrote" };
        with.show(out, &report, |page| page.line(format!("{verb} {pages} pages into {}", native::text(&self.output))))?;
        Ok(0)
    }
}

/// A page: what the definitions say, the examples, the exit status.
fn page(command: Command) -> io::Result<Vec<u8>> {
    let examples = command.get_after_long_help().or(command.get_after_help()).map(ToString::to_string);
    let usage = command.clone().render_usage().to_string();
    // A page has room for the options of every command.
    let command = command.after_help("").after_long_help("").mut_args(|arg| arg.hide_long_help(false));
    let man = clap_mangen::Man::new(command.clone());
    let mut page = Vec::new();
    man.render_title(&mut page)?;
    man.render_name_section(&mut page)?;
    section(&mut page, "SYNOPSIS", usage.trim_start_matches("Usage:").trim())?;
    man.render_description_section(&mut page)?;
    man.render_options_section(&mut page)?;
    if command.get_subcommands().next().is_some() {
        man.render_subcommands_section(&mut page)?;
    }
    section(&mut page, "EXAMPLES", examples.as_deref().unwrap_or_default())?;
    section(&mut page, "EXIT STATUS", EXIT_STATUS)?;
    Ok(page)
}

/// A section whose lines stay as they are (roff: dots and quotes that begin a line, and backslashes, are no requests).
fn section(page: &mut Vec<u8>, title: &str, text: &str) -> io::Result<()> {
    if text.is_empty() {
        return Ok(());
    }
    writeln!(page, ".SH \"{title}\"\n.nf")?;
    for line in text.lines() {
        let line = line.replace('\\', "\\e").replace('-', "\\-");
        let guard = if line.starts_with(['.', '\'']) { "\\&" } else { "" };
        writeln!(page, "{guard}{line}")?;
    }
    writeln!(page, ".fi")
}

/// A command and those below it, each with the name of its page.
fn gather(name: &str, command: &Command, all: &mut Vec<(String, Command)>) {
    all.push((name.to_owned(), command.clone()));
    for sub in command.get_subcommands().filter(|s| name == "decanter" || s.get_name() != "help") {
        gather(&format!("{name}-{}", sub.get_name()), sub, all);
    }
}

/// Writes one page for the whole and one for each command, unless it is a rehearsal; returns how many.
///
/// # Errors
/// When the folder or a page cannot be written.
fn pages(mut command: Command, folder: &Path, setting: &Setting<'_>) -> Result<usize, Failure> {
    let fail = |e| Failure::new("cannot write the manual pages", e);
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
        let page = page(command).map_err(|e| fail(Error::io("make page", folder, e)))?;
        let blueprint = Blueprint::of(Arc::new(Bytes(page)));
        pour::pour(Output::new(&blueprint, &folder.join(format!("{name}.1"))), door, &()).map_err(fail)?;
    }
    Ok(count)
}
