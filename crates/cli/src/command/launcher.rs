//! Start entries.

use super::{Run, With, shelf};
use crate::Stop;
use crate::global::native;
use crate::render::{Manner, Page};
use clap::Args;
use decanter_core::native;
use decanter_jobs::launcher::{self, LauncherReport};
use decanter_jobs::shelf::{Row, Work};
use decanter_jobs::{quoted, typed};
use std::io::Write;
use std::path::PathBuf;

/// Write a start entry: a desktop entry for front ends, and the shell script that it runs
#[derive(Debug, Clone, Args)]
#[command(after_help = "Example:  decanter launcher saltmarsh/drawer/Fogbell.gb -o fogbell --command player\n\n\
    Entry and script find the file from where they stand: card and all can be carried elsewhere.\n\
    For the menu of a system, which keeps entries in a folder of its own, give --absolute.\n\
    Title and picture are the file's own, where it has some. A folder gets an entry for all in it.\n\n\
    How things are started is yours to say, in the configuration:\n\n  \
    [launch.arcade]\n  \
    command = [\"PROGRAM\", \"--fullscreen\", \"{file}\"]   # {file}: what is started\n  \
    before = [[\"PROGRAM\", \"WORD\"]]     # run first, one after the other\n  \
    beside = [[\"PROGRAM\"]]              # started first, ended on exit: mappers, mouse hiders\n  \
    after = [[\"PROGRAM\"]]               # run last, however it ended\n  \
    end = [\"NAME\"]                      # programs ended on exit, by name\n  \
    folder = \"DIR\"                      # the working folder [default: that of the file]")]
pub struct Launcher {
    /// What is started: an image, a program, a file; or folders with some
    #[arg(value_name = "FILE", required = true, value_parser = native())]
    files: Vec<String>,
    /// The entry to write (.desktop), or the folder for several; what else belongs to it goes beside it
    #[arg(short, long, value_name = "FILE-OR-DIR")]
    output: PathBuf,
    /// Which starter of the configuration [default: the only one]
    #[arg(long, value_name = "NAME", value_parser = native())]
    with: Option<String>,
    /// A command instead of the starter's, word by word (repeatable)
    #[arg(long, value_name = "WORD", allow_hyphen_values = true)]
    command: Vec<String>,
    /// The name that is shown [default: the title that the file says, else its name]
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
    /// A line about it
    #[arg(long, value_name = "TEXT")]
    comment: Option<String>,
    /// A picture for it [default: the file's own, if it has one]
    #[arg(long, value_name = "FILE")]
    icon: Option<PathBuf>,
    /// Buttons of a joystick that end the program when they are held together, as in select+start
    #[arg(long, value_name = "BUTTON+BUTTON")]
    quit: Option<String>,
    /// Paths from the root instead of from where the entry stands
    #[arg(long)]
    absolute: bool,
}

impl Run for Launcher {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let options = launcher::Options {
            name: self.title.clone(),
            icon: self.icon.clone(),
            comment: self.comment.clone(),
            with: self.with.clone(),
            command: self.command.clone(),
            absolute: self.absolute,
            quit: self.quit.clone(),
        };
        let (setting, known) = (with.setting(None)?, &with.settled.launch);
        match launcher::sort_out(&self.files, &setting)? {
            Work::Many(search) => {
                let mut tell =
                    |row: &Row<LauncherReport>| shelf::show_row(with, out, row, &|report| native::text(&report.entry));
                let report = launcher::launcher_each(search, &self.output, &options, known, &setting, &mut tell)??;
                Ok(shelf::conclude(with, out, &report)?)
            }
            Work::One(_) => {
                let file = native::path(&self.files[0]);
                let report = launcher::launcher(&file, &self.output, &options, known, &setting)?;
                with.show(out, &report, |page| show(page, &report, self.absolute, with.manner()))?;
                Ok(0)
            }
        }
    }
}

/// Shows what was written.
fn show(page: &mut Page, report: &LauncherReport, is_absolute: bool, manner: Manner) {
    let verb = if report.dry_run { "would write" } else { "wrote" };
    for path in [Some(&report.entry), Some(&report.script), report.description.as_ref()].into_iter().flatten() {
        page.wrote(verb, native::text(path));
    }
    page.row("title", &report.title);
    if let Some(icon) = &report.icon {
        page.row("icon", native::text(icon));
    }
    let words: Vec<String> = report.command.iter().map(|w| typed(w)).collect();
    page.row("runs", words.join(" "));
    let script = native::text(&report.script);
    page.row(
        "next",
        match is_absolute {
            true => format!("cp {} ~/.local/share/applications/", quoted(&native::text(&report.entry))),
            false if script.contains('/') => quoted(&script),
            false => quoted(&format!("./{script}")),
        },
    );
    page.notices(&report.notices, manner)
}
