//! Help: short with -h, whole with --help; options that many commands have are explained once.

use clap::Command;

/// What exit codes mean.
pub const EXIT_STATUS: &str = "0    done, or everything matched
1    the answer is no: differs, missing, damaged, nothing checked
2    wrong usage, or a target exists
3    the source is not understood or broken
4    a key or description is missing or wrong
5    reading or writing failed
130  interrupted";

/// Options that only have a meaning where something is written.
const OF_WRITERS: [&str; 2] = ["dry-run", "replace"];
/// Commands that write nothing.
const READERS: [&str; 16] = [
    "prepare profile show",
    "prepare profile check",
    "list",
    "verify",
    "digest",
    "keys",
    "config",
    "formats",
    "completions",
    "help",
    "patch show",
    "save show",
    "cellar scan",
    "cellar status",
    "cellar check",
    "cellar history",
];
/// Commands that open no source.
const WITHOUT_SOURCES: [&str; 8] = ["launch", "config", "formats", "demo", "clean", "completions", "manual", "help"];
/// Options that are of use where sources are opened.
const OF_SOURCES: [&str; 3] = ["keys", "jobs", "patience"];

/// Whether an option of every command has a meaning with this one, given as words: `patch show`.
pub fn has_meaning(option: &str, command: &str) -> bool {
    if option == "cellar" {
        return command.starts_with("cellar") || !READERS.contains(&command) && !WITHOUT_SOURCES.contains(&command);
    }
    let is_read_only = READERS.contains(&command);
    let is_without = WITHOUT_SOURCES.contains(&command) && command != "config";
    !(is_read_only && OF_WRITERS.contains(&option) || is_without && OF_SOURCES.contains(&option))
}

/// The definition with its helps put together: examples, and a line on the options of every command.
pub fn finished(command: Command) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|s| s.get_name().to_owned()).collect();
    let own = of_globals(&command);
    names
        .into_iter()
        .fold(command, |command, name| command.mut_subcommand(&name, |sub| finished_below(sub, &name, &own)))
}

fn finished_below(command: Command, path: &str, globals: &[(String, Option<char>)]) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|s| s.get_name().to_owned()).collect();
    let command = names.into_iter().fold(command, |command, name| {
        let path = format!("{path} {name}");
        command.mut_subcommand(&name, |sub| finished_below(sub, &path, globals))
    });
    let fitting = globals.iter().filter(|(long, _)| has_meaning(long, path));
    let spelled: Vec<String> = fitting
        .map(|(long, short)| match short {
            Some(short) => format!("-{short}"),
            None => format!("--{long}"),
        })
        .collect();
    let line = format!("See \"decanter help options\": {}", spelled.join(" "));
    let examples = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    let first = examples.lines().next().unwrap_or_default().replacen("Examples:", "Example:", 1);
    let short = match first.is_empty() {
        true => line.clone(),
        false => format!("{first}\n{line}\nAll of it: decanter {path} --help"),
    };
    let long = if examples.is_empty() { line } else { format!("{examples}\n\n{line}") };
    command.after_help(short).after_long_help(long)
}

/// Long and short names of the options of every command.
fn of_globals(command: &Command) -> Vec<(String, Option<char>)> {
    let own = command.get_arguments().filter(|arg| arg.is_global_set());
    own.filter_map(|arg| Some((arg.get_long()?.to_owned(), arg.get_short()))).collect()
}
