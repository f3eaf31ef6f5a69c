//! Help on commands, and on the options that all of them have.

use super::{Run, With};
use crate::Stop;
use clap::{Arg, Args, Command};
use decanter_jobs::{Failure, nearest};
use std::io::Write;

/// What stands for the options of every command.
const OPTIONS: &str = "options";

/// Tell all of a command, or of the options that every command has
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:  decanter help convert\n           decanter help options")]
pub struct Help {
    /// A command, with what it is followed by: patch apply; or "options"
    #[arg(value_name = "COMMAND")]
    words: Vec<String>,
}

impl Run for Help {
    fn run(&self, with: &With<'_>, out: &mut dyn Write) -> Result<u8, Stop> {
        let mut definition = (with.program.definition)();
        definition.build();
        let text = match self.words.as_slice() {
            [word] if word == OPTIONS => options(&definition),
            words => below(&mut definition, words)?.render_long_help().to_string(),
        };
        text.split_inclusive('\n').try_for_each(|line| out.write_all(line.as_bytes()))?;
        Ok(0)
    }
}

fn below<'a>(command: &'a mut Command, words: &[String]) -> Result<&'a mut Command, Failure> {
    let Some((word, rest)) = words.split_first() else { return Ok(command) };
    let names: Vec<String> = command.get_subcommands().map(|s| s.get_name().to_owned()).collect();
    if !names.contains(word) {
        let near = nearest(word, names.iter().map(String::as_str).chain([OPTIONS]));
        let near = near.map(|near| format!(": did you mean {near}?")).unwrap_or_default();
        return Err(Failure::usage("cannot help", format!("there is no command \"{word}\"{near}"))
            .hint("\"decanter help\" lists all commands"));
    }
    match command.find_subcommand_mut(word) {
        Some(sub) => below(sub, rest),
        None => Err(Failure::usage("cannot help", format!("there is no command \"{word}\""))),
    }
}

/// The options of every command, each with what it is for.
fn options(definition: &Command) -> String {
    let mut text = String::from("Options that every command has, where they have a meaning:\n\n");
    for arg in definition.get_arguments().filter(|arg| arg.is_global_set()) {
        let help = arg.get_long_help().or(arg.get_help()).map(ToString::to_string).unwrap_or_default();
        text.push_str(&format!("  {}\n      {help}\n", spelled(arg)));
    }
    text.push_str("\n\"decanter config\" shows which of them are in force. Exit codes: decanter --help\n");
    text
}

fn spelled(arg: &Arg) -> String {
    let short = arg.get_short().map(|short| format!("-{short}, ")).unwrap_or_default();
    let long = arg.get_long().map(|long| format!("--{long}")).unwrap_or_default();
    let takes = arg.get_action().takes_values();
    let value = arg.get_value_names().filter(|_| takes).and_then(|names| names.first());
    format!("{short}{long}{}", value.map(|value| format!(" <{value}>")).unwrap_or_default())
}
