//! The command line. Completions and manual pages are made from these definitions.

use crate::Stop;
use crate::command::{Command, Program, With};
use crate::config::{Origin, Settled};
use crate::global::Global;
use crate::help;
use crate::progress::Screen;
use clap::{CommandFactory, FromArgMatches, Parser};
use decanter_jobs::Failure;
use std::io::Write;
use std::mem::ManuallyDrop;

/// Turns raw dumps of game discs, cartridges and packages into verified, loadable copies.
#[derive(Debug, Clone, Parser)]
#[command(
    name = "decanter",
    version,
    max_term_width = 100,
    infer_subcommands = false,
    disable_help_subcommand = true,
    arg_required_else_help = true,
    after_help = "A SOURCE is a file or a folder, and may look inside: \"box.zip::disc.iso::PS3_GAME/PARAM.SFO\".\n\
        It may be at a server (http://, https://): only what is needed of it is fetched.\n\
        An archive that holds exactly one image is looked through; end with :: to mean the archive itself.\n\
        Sources are never written to.\n\n\
        Exit codes: 0 done, or everything matched; 1 the answer is no; 2 wrong usage, or a target exists;\n\
        3 the source is not understood or broken; 4 a key or description is missing or wrong;\n\
        5 reading or writing failed; 130 interrupted.\n\n\
        Options of every command: decanter help options. All of a format: decanter formats ID.\n\n\
        Start with:  decanter demo saltmarsh"
)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

impl Cli {
    /// What was typed.
    ///
    /// # Errors
    /// What is wrong with it; help and version, too.
    pub fn typed() -> Result<Self, clap::Error> {
        // The definition lives as long as the process: taking it apart would take as long as parsing.
        let mut definition = ManuallyDrop::new(Self::definition());
        let mut matches = definition.try_get_matches_from_mut(std::env::args_os())?;
        check_meaning(&matches).map_err(|e| e.format(&mut definition))?;
        Self::from_arg_matches_mut(&mut matches).map_err(|e| e.format(&mut definition))
    }

    /// The whole command line, with its helps put together.
    pub fn definition() -> clap::Command {
        help::finished(<Self as CommandFactory>::command())
    }

    /// Runs the command and returns its exit code.
    ///
    /// # Errors
    /// A failed job, or an output that cannot be written.
    pub fn run(&self, settled: &Settled, watch: &Screen, out: &mut dyn Write) -> Result<u8, Stop> {
        let program = Program { definition: Self::definition, line: Self::line };
        self.command.run(&With::new(&self.global, settled, watch, program), out)
    }

    /// Runs a line as if it had been typed, with the options and the settings of the command that asks for it. Keys that it
    /// names itself go before those.
    fn line(words: &[String], with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let typed = std::iter::once("decanter").chain(words.iter().map(String::as_str));
        let mut step = Self::try_parse_from(typed).map_err(|e| Failure::usage("the line is wrong", e.to_string()))?;
        let keys = std::mem::take(&mut step.global.keys);
        let cellar = step.global.cellar.take();
        step.global = with.global.clone();
        step.global.cellar = cellar.or(step.global.cellar);
        // What goes on from there names them as well.
        step.global.keys.splice(0..0, keys.clone());
        let own = Settled {
            key_places: (keys.into_iter().map(|place| (place, Origin::Option)))
                .chain(with.settled.key_places.iter().cloned())
                .collect(),
            language: with.settled.language.clone(),
            cellar: match &step.global.cellar {
                Some(_) => (step.global.location()?, Origin::Option),
                None => with.settled.cellar.clone(),
            },
            note_places: with.settled.note_places.clone(),
            launch: with.settled.launch.clone(),
            access: with.settled.access.clone(),
            trail: with.settled.trail.clone(),
            path: None,
            ..*with.settled
        };
        step.run(&own, with.watch, out)
    }
}

/// Fails for an option of every command that has no meaning with this one.
fn check_meaning(matches: &clap::ArgMatches) -> Result<(), clap::Error> {
    let (mut path, mut at) = (Vec::new(), matches);
    while let Some((name, below)) = at.subcommand() {
        path.push(name);
        at = below;
    }
    let path = path.join(" ");
    let given = |id: &str| at.value_source(id) == Some(clap::parser::ValueSource::CommandLine);
    match [("dry_run", "dry-run"), ("replace", "replace"), ("cellar", "cellar")]
        .iter()
        .find(|(id, long)| given(id) && !help::has_meaning(long, &path))
    {
        Some((_, long)) => Err(clap::Error::raw(
            clap::error::ErrorKind::ArgumentConflict,
            format!("--{long} has no meaning with \"decanter {path}\": it writes no files; leave it out\n"),
        )),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn definitions_are_consistent() {
        Cli::definition().debug_assert();
    }

    #[test]
    fn commands_are_called_as_they_are_typed() {
        for words in
            [&["list", "x"][..], &["cellar", "status"], &["patch", "show", "x"], &["unmerge", "x"], &["demo", "x"]]
        {
            let cli = Cli::try_parse_from(std::iter::once(&"decanter").chain(words)).unwrap();
            assert_eq!(cli.command.name(), words[0]);
        }
    }

    #[test]
    fn a_wrong_key_is_not_repeated() {
        let cli = Cli::try_parse_from(["decanter", "list", "x", "--key", "0011223344"]).unwrap();
        assert!(!format!("{cli:?}").contains("0011223344"));
    }
}
