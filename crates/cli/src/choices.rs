//! The options of targets on the command line, made of what the targets declare.

use clap::builder::{PossibleValuesParser, ValueParser};
use clap::error::ErrorKind;
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use decanter_core::{Algorithm, native};
use decanter_jobs::convert::choice::{Choice, Choices, Given, Kind};
use decanter_jobs::convert::table::{choices, having, ids_by_kind, kinds, targets};
use std::ffi::OsString;

/// What a result should be: its format, and the choices that this has.
#[derive(Debug, Clone, Default)]
pub struct TargetArgs {
    pub to: Option<String>,
    pub given: Choices,
}

/// The heading over what only some targets have.
fn heading(choice: &Choice) -> &'static str {
    match kinds(choice)[..] {
        ["images"] => "Options for images",
        ["compressed images"] => "Options for compressed images",
        ["disks"] => "Options for disks",
        ["ROMs"] => "Options for ROMs",
        ["packages"] => "Options for packages",
        _ => "Options for several kinds of results",
    }
}

fn argument(choice: &'static Choice) -> Arg {
    let help = format!("{} [for {}]", choice.help, having(choice));
    let arg = Arg::new(choice.name).long(choice.name).help(help).help_heading(heading(choice)).hide_short_help(true);
    let takes_one = |arg: Arg| arg.value_name(choice.value).action(ArgAction::Set);
    match choice.kind {
        Kind::Flag => arg.action(ArgAction::SetTrue),
        Kind::OneOf(names) => takes_one(arg).value_parser(PossibleValuesParser::new(names)),
        Kind::Texts => arg.value_name(choice.value).action(ArgAction::Append),
        Kind::Path => takes_one(arg).value_parser(ValueParser::os_string()),
        Kind::SizeOrFit => takes_one(arg).num_args(0..=1).value_parser(read(choice)),
        Kind::Number | Kind::Size | Kind::Byte | Kind::Split | Kind::Text | Kind::List => {
            takes_one(arg).value_parser(read(choice))
        }
    }
}

/// Reads a value while the command line is parsed, so that what is wrong is told with its option.
fn read(choice: &'static Choice) -> impl Fn(&str) -> Result<Given, String> + Clone + Send + Sync + 'static {
    move |text| choice.read(text)
}

/// What was given for a choice, if it was.
fn given(choice: &Choice, matches: &ArgMatches) -> Result<Option<Given>, clap::Error> {
    let wrong = |why: String| clap::Error::raw(ErrorKind::InvalidValue, why);
    if matches!(choice.kind, Kind::Flag) {
        return Ok(matches.get_flag(choice.name).then_some(Given::Yes));
    }
    if !matches.contains_id(choice.name) {
        return Ok(None);
    }
    Ok(match choice.kind {
        Kind::Path => matches.get_one::<OsString>(choice.name).map(|path| Given::Text(native::text(path))),
        Kind::Texts => matches.get_many::<String>(choice.name).map(|texts| Given::Texts(texts.cloned().collect())),
        Kind::OneOf(_) => {
            matches.get_one::<String>(choice.name).map(|text| choice.read(text)).transpose().map_err(wrong)?
        }
        Kind::SizeOrFit => Some(matches.get_one::<Given>(choice.name).cloned().unwrap_or(Given::Size(None))),
        _ => matches.get_one::<Given>(choice.name).cloned(),
    })
}

impl FromArgMatches for TargetArgs {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut args = Self::default();
        args.update_from_arg_matches(matches)?;
        Ok(args)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        self.to = matches.get_one::<String>("to").cloned();
        for choice in choices() {
            if let Some(given) = given(choice, matches)? {
                self.given.add(choice, given);
            }
        }
        Ok(())
    }
}

impl Args for TargetArgs {
    fn augment_args(command: Command) -> Command {
        let kinds: Vec<String> =
            ids_by_kind().into_iter().map(|(kind, ids)| format!("{kind}: {}", ids.join(", "))).collect();
        let help = "The format of the result, if the name given with -o does not say it; \"decanter formats ID\" tells all of one";
        let long = format!("{help}\n\n{}", kinds.join("\n"));
        let to = Arg::new("to").long("to").value_name("FORMAT").help(help).long_help(long);
        choices().into_iter().fold(command.arg(to), |command, choice| command.arg(argument(choice)))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

/// The same command, with all values of options that take one of a few: for completions. What is typed may also be nearly
/// one of them, and is then understood better than a list of possible values would.
pub fn with_values(command: Command) -> Command {
    let ids: Vec<&str> = targets().map(|t| t.id).collect();
    let formats: Vec<&str> =
        decanter_formats::REGISTRY.formats().iter().map(|f| f.id()).chain(ids.iter().copied()).collect();
    command.mut_subcommands(|sub| {
        let is_formats = sub.get_name() == "formats";
        let offer = |arg: Arg| match arg.get_id().as_str() {
            "to" => arg.value_parser(PossibleValuesParser::new(&ids)),
            "algorithm" => arg.value_parser(PossibleValuesParser::new(Algorithm::ALL.map(Algorithm::id))),
            "id" if is_formats => arg.value_parser(PossibleValuesParser::new(&formats)),
            _ => arg,
        };
        sub.mut_args(offer).mut_subcommands(|below| below.mut_args(offer))
    })
}
