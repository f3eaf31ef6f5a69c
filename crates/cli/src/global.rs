//! Options that every command has, and arguments that many have.

use clap::builder::{OsStringValueParser, TypedValueParser};
use clap::{Args, ValueEnum};
use decanter_core::Key;
use decanter_jobs::cellar::Location;
use decanter_jobs::shelf::{self, How};
use decanter_jobs::{Failure, PASSCODE_LEN, Setting, grouped};
use std::ops::RangeInclusive;
use std::path::PathBuf;
use std::time::Duration;

/// Options of every command.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Options of every command")]
pub struct Global {
    /// Print one JSON object instead of text
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true)]
    pub json: bool,
    /// Say no more than the results, a line each; show no progress and no notices
    #[arg(short, long, global = true, hide_short_help = true, hide_long_help = true)]
    pub quiet: bool,
    /// Tell more: every file, how things are known
    #[arg(short, long, global = true, hide_short_help = true, hide_long_help = true, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Tell of progress where standard error is no terminal, too: a line every 10 seconds; with --json, JSON lines
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, conflicts_with = "quiet")]
    pub progress: bool,
    /// Use colours
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "WHEN", value_enum)]
    pub color: Option<When>,
    /// Look for keys in this file or folder too (repeatable; also DECANTER_KEYS, a list like PATH)
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "FILE-OR-DIR")]
    pub keys: Vec<PathBuf>,
    /// The collection that this is about; jobs that write are recorded in it [default: the configuration's, or the current folder]
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "DIR", value_parser = native())]
    pub cellar: Option<String>,
    /// Give up on a server that has failed for this long, as in 30s or 5m [default: 30s]
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "TIME", value_parser = duration)]
    pub patience: Option<Duration>,
    /// Read this configuration instead of decanter/config.toml in your configuration folder
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Work on this many files or sources at once [default: one for each processor]
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true, value_name = "N", value_parser = whole::<u16>(1..=256))]
    pub jobs: Option<u16>,
    /// Do everything but write
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true)]
    pub dry_run: bool,
    /// Replace targets that exist
    #[arg(long, global = true, hide_short_help = true, hide_long_help = true)]
    pub replace: bool,
}

impl Global {
    /// The cellar that was named.
    ///
    /// # Errors
    /// When what was typed is no place for one.
    pub fn location(&self) -> Result<Option<Location>, Failure> {
        let location =
            |text: &String| Location::typed(text).map_err(|e| Failure::new(format!("cannot use \"{text}\""), e));
        self.cellar.as_ref().map(location).transpose()
    }
}

/// A time as people type it: `90s`, `15m`, `1h`, `30d`.
pub fn duration(text: &str) -> Result<Duration, String> {
    let (number, unit) = text.split_at(text.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(text.len()));
    let seconds = match unit {
        "s" => 1.0,
        "m" | "min" => 60.0,
        "h" => 3600.0,
        "d" => 86_400.0,
        _ => return Err("it takes a number with s, m, h or d, as in 90s, 15m, 1h, 30d".into()),
    };
    let value: f64 = number.parse().map_err(|_| "it takes a number with s, m, h or d, as in 1h".to_owned())?;
    Duration::try_from_secs_f64(value * seconds).map_err(|_| "it takes a time of 0 or more".to_owned())
}

/// When there are colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum When {
    Auto,
    Always,
    Never,
}

/// The sources of a command that takes many.
#[derive(Debug, Clone, Args)]
pub struct SourcesArg {
    /// Files, folders, archives, or what is inside them
    #[arg(required_unless_present = "from", value_name = "SOURCE", value_parser = native())]
    sources: Vec<String>,
    /// Read sources from a list, too: a path on each line, or paths that end with a zero byte; - is standard input
    #[arg(long, value_name = "FILE|-", value_parser = native())]
    from: Option<String>,
}

impl SourcesArg {
    /// The sources that were named, and those of the list.
    ///
    /// # Errors
    /// When the list cannot be read.
    pub fn all(&self, setting: &Setting<'_>) -> Result<Vec<String>, Failure> {
        let mut all = self.sources.clone();
        if let Some(list) = &self.from {
            all.extend(shelf::listed(list, setting)?);
        }
        Ok(all)
    }

    /// How they are taken.
    pub fn how(&self, each: bool, content: bool) -> How {
        How { each, content, is_listed: self.from.is_some() }
    }
}

/// Sources that go with the one of a command.
#[derive(Debug, Clone, Args)]
pub struct WithArg {
    /// The base that an update goes with: a package, a gamecard image or a content (repeatable)
    #[arg(long, value_name = "BASE", value_parser = native())]
    pub with: Vec<String>,
}

/// The key of the one source of a command.
#[derive(Debug, Clone, Args)]
pub struct KeyArg {
    /// The key of this source, 32 hexadecimal digits (64 for the image key of a PS4 package); goes before all that are found elsewhere
    #[arg(long, value_name = "HEX")]
    key: Option<Secret>,
}

/// The passcode of packages.
#[derive(Debug, Clone, Default, Args)]
pub struct PasscodeArg {
    /// The 32 characters that PS4 packages were made with, and that a new one is made with [default: 32 zeros]
    #[arg(long, value_name = "TEXT", hide_short_help = true)]
    passcode: Option<Passcode>,
}

/// A passcode as it was typed, or that it is none.
#[derive(Debug, Clone)]
struct Passcode(Option<Key>);

impl From<&str> for Passcode {
    fn from(text: &str) -> Self {
        let fits = text.len() == PASSCODE_LEN && text.bytes().all(|b| b.is_ascii_graphic());
        Self(fits.then(|| Key::new(text.as_bytes().to_vec())))
    }
}

impl PasscodeArg {
    /// The passcode that was given.
    pub fn passcode(&self) -> Option<Key> {
        self.passcode.as_ref()?.0.clone()
    }

    /// Whether what was given is none.
    pub fn is_wrong(&self) -> bool {
        self.passcode.as_ref().is_some_and(|passcode| passcode.0.is_none())
    }
}

/// A key as it was typed, or that it is none: the text itself may be most of a key, and is not kept.
#[derive(Debug, Clone)]
struct Secret(Option<Key>);

impl From<&str> for Secret {
    fn from(text: &str) -> Self {
        Self(Key::from_hex(text).filter(|key| matches!(key.bytes().len(), 16 | 32)))
    }
}

impl KeyArg {
    /// The key that was given.
    pub fn key(&self) -> Option<Key> {
        self.key.as_ref()?.0.clone()
    }

    /// Whether what was given is no key.
    pub fn is_wrong(&self) -> bool {
        self.key.as_ref().is_some_and(|secret| secret.0.is_none())
    }
}

/// A whole number in a range, and words for what is none.
pub fn whole<T>(range: RangeInclusive<u64>) -> impl TypedValueParser<Value = T>
where
    T: TryFrom<u64> + Clone + Send + Sync + 'static,
{
    move |text: &str| -> Result<T, String> {
        let number = text.parse().ok().filter(|number| range.contains(number));
        let told = || format!("it takes a whole number from {} to {}", grouped(*range.start()), grouped(*range.end()));
        number.and_then(|number: u64| T::try_from(number).ok()).ok_or_else(told)
    }
}

/// Paths and addresses: any bytes.
pub fn native() -> impl TypedValueParser<Value = String> {
    OsStringValueParser::new().map(decanter_core::native::text)
}
