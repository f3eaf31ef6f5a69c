//! Start entries.

use super::{Run, With};
use crate::Stop;
use crate::global::native;
use crate::render::{Manner, Page};
use clap::Args;
use decanter_core::native;
use decanter_jobs::launcher;
use decanter_jobs::launcher::LauncherReport;
use decanter_jobs::typed;
use std::io::Write;
use std::path::PathBuf;

/// Write a start entry: a desktop entry for front ends, and the shell script that it runs
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter launcher saltmarsh/drawer/Fogbell.gb -o fogbell --command player\n\n\
    How things are started is yours to say, in the configuration:\n\n  \
    [launch.arcade]\n  \
    command = [\"PROGRAM\", \"--fullscreen\", \"{file}\"]   # {file}: what is started\n  \
    before = [[\"PROGRAM\", \"WORD\"]]     # run first, one after the other\n  \
    beside = [[\"PROGRAM\"]]              # started first, ended on exit: mappers, mouse hiders\n  \
    after = [[\"PROGRAM\"]]               # run last, however it ended\n  \
    end = [\"NAME\"]                      # programs ended on exit, by name\n  \
    folder = \"DIR\"                      # the working folder [default: that of the file]")]
pub struct Launcher {
    /// What is started: an image, a program, a file
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// The entry to write (.desktop); the script (.sh) goes beside it
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Which starter of the configuration [default: the only one]
    #[arg(long, value_name = "NAME", value_parser = native())]
    with: Option<String>,
    /// A command instead of the starter's, word by word (repeatable)
    #[arg(long, value_name = "WORD", allow_hyphen_values = true)]
    command: Vec<String>,
    /// The name that is shown [default: the file's]
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
    /// A line about it
    #[arg(long, value_name = "TEXT")]
    comment: Option<String>,
    /// A picture for it
    #[arg(long, value_name = "FILE")]
    icon: Option<PathBuf>,
}

impl Run for Launcher {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let Self { file, output, with: starter, command, title, comment, icon } = self;
        let options = launcher::Options {
            name: title.clone(),
            icon: icon.clone(),
            comment: comment.clone(),
            with: starter.clone(),
            command: command.clone(),
        };
        let report = launcher::launcher(file, output, &options, &with.settled.launch, &with.setting(None)?)?;
        with.show(out, &report, |page| show(page, &report, with.manner()))?;
        Ok(0)
    }
}

/// Shows what was written.
pub fn show(page: &mut Page, report: &LauncherReport, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for path in [&report.entry, &report.script] {
        page.wrote(verb, native::text(path));
    }
    let words: Vec<String> = report.command.iter().map(|w| typed(w)).collect();
    page.row("runs", words.join(" "));
    page.row("next", format!("copy {} to ~/.local/share/applications", native::text(&report.entry)));
    page.notices(&report.notices, manner)
}
