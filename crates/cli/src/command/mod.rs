//! One file a command: its arguments, the call of its job, its page.

mod cellar;
mod clean;
mod completions;
mod config;
mod convert;
mod decrypt;
mod deliver;
mod demo;
mod digest;
mod dump;
mod extract;
mod formats;
mod help;
mod identify;
mod keys;
mod label;
mod launch;
mod launcher;
mod list;
mod manual;
mod merge;
mod notes;
mod patch;
mod prepare;
mod recipe;
mod repair;
mod save;
mod shelf;
mod unmerge;
mod verify;

use crate::Stop;
use crate::config::Settled;
use crate::global::{Global, KeyArg, PasscodeArg};
use crate::machine;
use crate::progress::Screen;
use crate::render::{self, Manner, Page, paper};
use clap::Subcommand;
use decanter_core::Error;
use decanter_jobs::{Failure, PIPE, Piped, Setting};
use serde::Serialize;
use std::fs::File;
use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// All commands, in the order in which the help lists them.
#[derive(Debug, Clone, Subcommand)]
#[allow(clippy::large_enum_variant, reason = "there is one in the whole process")]
pub enum Command {
    Dump(dump::Dump),
    Identify(identify::Identify),
    List(list::List),
    Verify(verify::Verify),
    Digest(digest::Digest),
    Extract(extract::Extract),
    Decrypt(decrypt::Decrypt),
    Convert(convert::Convert),
    Repair(repair::Repair),
    Merge(merge::Merge),
    Unmerge(unmerge::Unmerge),
    #[command(subcommand)]
    Patch(patch::Patch),
    #[command(subcommand)]
    Save(save::Save),
    Label(label::Label),
    #[command(subcommand)]
    Recipe(recipe::Recipe),
    Launcher(launcher::Launcher),
    Launch(launch::Launch),
    #[command(subcommand)]
    Notes(notes::Notes),
    #[command(subcommand)]
    Cellar(cellar::Cellar),
    Prepare(Box<prepare::Prepare>),
    Deliver(deliver::Deliver),
    Keys(keys::Keys),
    Config(config::Config),
    Formats(formats::Formats),
    Demo(demo::Demo),
    Clean(clean::Clean),
    Completions(completions::Completions),
    Manual(manual::Manual),
    Help(help::Help),
}

/// A command that was parsed.
trait Run {
    /// Does what it says, shows what came of it, and returns the exit code.
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop>;
}

impl Command {
    /// Runs it and returns its exit code.
    ///
    /// # Errors
    /// A failed job, or an output that cannot be written.
    pub fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let command: &dyn Run = match self {
            Self::Dump(command) => command,
            Self::Identify(command) => command,
            Self::List(command) => command,
            Self::Verify(command) => command,
            Self::Digest(command) => command,
            Self::Extract(command) => command,
            Self::Decrypt(command) => command,
            Self::Convert(command) => command,
            Self::Repair(command) => command,
            Self::Merge(command) => command,
            Self::Unmerge(command) => command,
            Self::Patch(command) => command,
            Self::Save(command) => command,
            Self::Label(command) => command,
            Self::Recipe(command) => command,
            Self::Launcher(command) => command,
            Self::Launch(command) => command,
            Self::Notes(command) => command,
            Self::Cellar(command) => command,
            Self::Prepare(command) => command.as_ref(),
            Self::Deliver(command) => command,
            Self::Keys(command) => command,
            Self::Config(command) => command,
            Self::Formats(command) => command,
            Self::Demo(command) => command,
            Self::Clean(command) => command,
            Self::Completions(command) => command,
            Self::Manual(command) => command,
            Self::Help(command) => command,
        };
        command.run(with, out)
    }

    /// Whether what it writes is recorded in a cellar.
    pub fn is_recorded(&self) -> bool {
        !matches!(
            self,
            Self::Cellar(_)
                | Self::Launch(_)
                | Self::Keys(_)
                | Self::Config(_)
                | Self::Formats(_)
                | Self::Demo(_)
                | Self::Clean(_)
                | Self::Completions(_)
                | Self::Manual(_)
                | Self::Help(_)
        )
    }

    /// Its name, as it is typed.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Dump(_) => "dump",
            Self::Identify(_) => "identify",
            Self::List(_) => "list",
            Self::Verify(_) => "verify",
            Self::Digest(_) => "digest",
            Self::Extract(_) => "extract",
            Self::Decrypt(_) => "decrypt",
            Self::Convert(_) => "convert",
            Self::Repair(_) => "repair",
            Self::Merge(_) => "merge",
            Self::Unmerge(_) => "unmerge",
            Self::Patch(_) => "patch",
            Self::Save(_) => "save",
            Self::Label(_) => "label",
            Self::Recipe(_) => "recipe",
            Self::Launcher(_) => "launcher",
            Self::Launch(_) => "launch",
            Self::Notes(_) => "notes",
            Self::Cellar(_) => "cellar",
            Self::Prepare(_) => "prepare",
            Self::Deliver(_) => "deliver",
            Self::Keys(_) => "keys",
            Self::Config(_) => "config",
            Self::Formats(_) => "formats",
            Self::Demo(_) => "demo",
            Self::Clean(_) => "clean",
            Self::Completions(_) => "completions",
            Self::Manual(_) => "manual",
            Self::Help(_) => "help",
        }
    }

    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        matches!(self, Self::Digest(digest) if digest.is_list())
            || matches!(self, Self::Cellar(cellar) if cellar.is_list())
    }
}

/// What commands know of the program that they are part of.
#[derive(Clone, Copy)]
pub struct Program {
    /// The whole command line, as it is defined.
    pub definition: fn() -> clap::Command,
    /// Runs a line as if it had been typed.
    pub line: fn(&[String], &With<'_>, &mut dyn Write) -> Result<u8, Stop>,
}

/// What every command runs with.
pub struct With<'a> {
    /// The options of every command.
    pub global: &'a Global,
    /// What was settled before.
    pub settled: &'a Settled,
    /// Who shows progress.
    pub watch: &'a Screen,
    /// What it is part of.
    program: Program,
    began: Instant,
}

impl<'a> With<'a> {
    /// From now on.
    pub fn new(global: &'a Global, settled: &'a Settled, watch: &'a Screen, program: Program) -> Self {
        Self { global, settled, watch, program, began: Instant::now() }
    }

    /// The setting of one job.
    ///
    /// # Errors
    /// When what was given as a key is none, or the system does not say which file the configuration is.
    fn setting(&self, key: Option<&KeyArg>) -> Result<Setting<'a>, Failure> {
        if key.is_some_and(KeyArg::is_wrong) {
            let what = "cannot use what was given with --key";
            return Err(Failure::usage(what, "it has to be 32 hexadecimal digits, or 64")
                .hint("\"decanter keys SOURCE\" shows which keys are found without it"));
        }
        let what = "cannot use this configuration";
        self.settled.setting(self.global, key, self.watch).map_err(|e| Failure::new(what, e))
    }

    /// The same for a job that also takes a passcode.
    ///
    /// # Errors
    /// As [`With::setting`], and for a passcode that is none.
    fn setting_with_passcode(&self, key: Option<&KeyArg>, passcode: &PasscodeArg) -> Result<Setting<'a>, Failure> {
        if passcode.is_wrong() {
            let what = "cannot use what was given with --passcode";
            return Err(Failure::usage(what, "a passcode has 32 characters of ASCII")
                .hint("leave it out for packages of one's own making: most of them have 32 zeros"));
        }
        let mut setting = self.setting(key)?;
        setting.passcode = passcode.passcode();
        Ok(setting)
    }

    /// The same for a job that also reads standard input.
    ///
    /// # Errors
    /// As [`With::setting`].
    fn setting_with_pipe(&self) -> Result<Setting<'a>, Failure> {
        let mut setting = self.setting(None)?;
        setting.stores.push(Arc::new(Piped::new(&setting.scratch)));
        Ok(setting)
    }

    /// The options that say once more where keys were looked for: for a command that goes on from here.
    fn typed_keys(&self) -> String {
        let places = self.global.keys.iter();
        places.map(|place| format!(" --keys {}", decanter_jobs::quoted(&decanter_core::native::text(place)))).collect()
    }

    /// How much is told.
    fn manner(&self) -> Manner {
        Manner { is_verbose: self.global.verbose, is_quiet: self.global.quiet }
    }

    /// How long it took so far.
    fn took(&self) -> Duration {
        self.began.elapsed()
    }

    /// Shows a report: as JSON, or as the page that describes it.
    fn show(&self, out: &mut dyn Write, report: &impl Serialize, describe: impl FnOnce(&mut Page)) -> io::Result<()> {
        match self.global.json {
            true => render::json(out, report),
            false => self.print(out, describe),
        }
    }

    /// Standard output as it is, if `-` was given for the result: there are bytes on it, and what there is to say goes to
    /// standard error.
    ///
    /// # Errors
    /// When it is a terminal, or closed.
    fn stream(&self, output: Option<&Path>) -> Result<Option<File>, Failure> {
        if output != Some(Path::new(PIPE)) {
            return Ok(None);
        }
        if io::stdout().is_terminal() {
            return Err(Failure::usage(
                "cannot write to standard output",
                "it is a terminal, and the result is no text",
            )
            .hint("send it to a program or a file: ... -o - | PROGRAM, or ... -o FILE"));
        }
        let failed =
            |e| Failure::new("cannot write to standard output", Error::io("open", Path::new("standard output"), e));
        decanter_core::os::raw_output().map(Some).map_err(failed)
    }

    /// Shows the report of what went onto standard output.
    fn show_aside(&self, report: &impl Serialize, describe: impl FnOnce(&mut Page)) -> io::Result<()> {
        match self.global.quiet {
            true => Ok(()),
            false => self.show(&mut paper::stderr(), report, describe),
        }
    }

    /// Shows a page by itself.
    fn print(&self, out: &mut dyn Write, describe: impl FnOnce(&mut Page)) -> io::Result<()> {
        let mut page = Page::default();
        describe(&mut page);
        if self.global.quiet {
            page.shorten();
        }
        // Whoever asks for all of it gets it, however wide.
        let width = if self.global.verbose { None } else { machine::width() };
        render::text::write(out, &page, width)
    }
}
