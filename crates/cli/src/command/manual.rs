//! Manual pages, made from the definitions of the command line.

use super::{Run, With};
use crate::Stop;
use clap::{Args, Command};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::pour::{self, Output};
use decanter_core::source::Bytes;
use decanter_core::{Door, Error};
use decanter_jobs::{Failure, Setting};
use std::io::Write;
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
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page).map_err(|e| fail(Error::io("make page", folder, e)))?;
        let blueprint = Blueprint::of(Arc::new(Bytes(page)));
        pour::pour(Output::new(&blueprint, &folder.join(format!("{name}.1"))), door, &()).map_err(fail)?;
    }
    Ok(count)
}
