//! Start entries: a shell script that does everything, and a desktop entry (freedesktop Desktop Entry Specification 1.5) for
//! front ends that read those. Which program opens what is the user's to say.

use crate::{Failure, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::os;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, Notice};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Signals end the script, so that it ends what it started.
const TRAPS: &str = "trap 'exit 129' HUP\ntrap 'exit 130' INT\ntrap 'exit 143' TERM\n";
/// What stands for the file in a command.
const FILE: &str = "{file}";

/// A way to start things, as the configuration has it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub struct Starter {
    /// The program and its words; `{file}` stands for what is started, at the end if it is not there.
    pub command: Vec<String>,
    /// The folder it works in; that of the file if it is not said.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub folder: Option<PathBuf>,
    /// Commands that are run before, each with its words.
    #[serde(default)]
    pub before: Vec<Vec<String>>,
    /// Commands that are run after.
    #[serde(default)]
    pub after: Vec<Vec<String>>,
    /// Commands that are started before, in the background, and ended on exit.
    #[serde(default)]
    pub beside: Vec<Vec<String>>,
    /// Programs that are ended on exit, by name.
    #[serde(default)]
    pub end: Vec<String>,
}

/// What is asked for.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// The name that a front end shows.
    pub name: Option<String>,
    /// A picture.
    pub icon: Option<PathBuf>,
    /// A line about it.
    pub comment: Option<String>,
    /// Which starter of the configuration.
    pub with: Option<String>,
    /// Or a command of its own.
    pub command: Vec<String>,
}

/// What was written.
#[derive(Debug, Serialize)]
pub struct LauncherReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The desktop entry.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub entry: PathBuf,
    /// The script.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub script: PathBuf,
    /// The command that it runs.
    pub command: Vec<String>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// Writes the entry `output` and the script beside it.
///
/// # Errors
/// When no starter is known, what is started is not there, or writing fails.
pub fn launcher(
    file: &Path,
    output: &Path,
    options: &Options,
    known: &BTreeMap<String, Starter>,
    setting: &Setting<'_>,
) -> Result<LauncherReport, Failure> {
    let what = format!("cannot make a start entry for \"{}\"", native::text(file));
    let output = &place::file(Some(output), &format!("{}.desktop", place::stem_of_shown(&native::text(file))));
    let full = os::resolved(file).map_err(|e| Failure::new(what.clone(), Error::io("open", file, e)))?;
    let starter = choose(options, known).map_err(|why| {
        let names: Vec<&str> = known.keys().map(String::as_str).collect();
        let hint = match names.as_slice() {
            [] => "add to your configuration:  [launch.NAME]  command = [\"PROGRAM\", \"{file}\"]; or give --command"
                .into(),
            names => format!("the configuration has: {}", names.join(", ")),
        };
        Failure::usage(what.clone(), why).hint(hint)
    })?;
    let base = output.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let base = os::resolved(base).map_err(|e| Failure::new(what.clone(), Error::io("open", base, e)))?;
    let stem = output.file_stem().map(native::text).unwrap_or_default();
    let (entry, script) = (output.with_extension("desktop"), output.with_extension("sh"));
    let name = options
        .name
        .clone()
        .unwrap_or_else(|| decanter_core::names::stem_of(&full.file_name().map(native::text).unwrap_or_default()));
    let texts = [("the name", &Some(name.clone())), ("the comment", &options.comment)];
    for (which, text) in texts {
        if text.as_ref().is_some_and(|t| t.chars().any(char::is_control)) {
            return Err(Failure::usage(what, format!("{which} has characters that an entry cannot hold")));
        }
    }
    let command = command(&starter, &full.to_string_lossy());
    let place = base.join(format!("{stem}.sh"));
    let report = LauncherReport {
        schema: "decanter.launcher/1",
        entry: entry.clone(),
        script: script.clone(),
        command: command.clone(),
        dry_run: setting.dry_run,
        notices: Vec::new(),
    };
    let mut known = [Some(file), options.icon.as_deref()].into_iter().flatten();
    known.try_for_each(|path| setting.guard.reads_if_there(path)).map_err(|e| Failure::new(what.clone(), e))?;
    let text = script_text(&starter, &command, &full);
    let lines = entry_text(&name, options, &place);
    let both = [text, lines].map(|t| Blueprint::of(Arc::new(Bytes(t.into_bytes()))));
    let write = || -> decanter_core::Result<()> {
        let outputs = [Output::new(&both[0], &script).executable(), Output::new(&both[1], &entry)];
        setting.pour(&outputs, setting.door(), &mut |_| Ok(())).map(|_| ())
    };
    write().map_err(|e| match e.blame() {
        Blame::Request => place::refused(&entry, e),
        _ => Failure::new(what, e),
    })?;
    Ok(report)
}

/// The starter that was asked for; the only one, if there is only one.
fn choose(options: &Options, known: &BTreeMap<String, Starter>) -> Result<Starter, String> {
    if !options.command.is_empty() {
        let base = options.with.as_ref().and_then(|w| known.get(w)).cloned().unwrap_or_default();
        return Ok(Starter { command: options.command.clone(), ..base });
    }
    let found = match (&options.with, known.len()) {
        (Some(with), _) => known.get(with).ok_or_else(|| format!("\"{with}\" is no starter of the configuration"))?,
        (None, 1) => known.values().next().ok_or("no starter is known")?,
        (None, 0) => return Err("no starter is known".into()),
        (None, _) => return Err("which starter is meant is not said (--with)".into()),
    };
    if found.command.is_empty() {
        return Err("the starter has no command".into());
    }
    Ok(found.clone())
}

/// The command with the file in its place.
fn command(starter: &Starter, file: &str) -> Vec<String> {
    let mut words: Vec<String> = starter.command.iter().map(|w| w.replace(FILE, file)).collect();
    if !starter.command.iter().any(|w| w.contains(FILE)) {
        words.push(file.to_owned());
    }
    words
}

/// A word as a shell takes it, whatever it is.
fn word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn line(words: &[String]) -> String {
    words.iter().map(|w| word(w)).collect::<Vec<_>>().join(" ")
}

/// The script: everything that is started is ended, however it goes.
fn script_text(starter: &Starter, command: &[String], file: &Path) -> String {
    let folder = starter.folder.clone().or_else(|| file.parent().map(Path::to_owned)).unwrap_or_default();
    let mut text = String::from("#!/bin/sh\nset -u\nbeside=\n\nfinish() {\n  trap - EXIT HUP INT TERM\n");
    text.push_str("  for pid in $beside; do kill \"$pid\" 2>/dev/null; done\n");
    for name in &starter.end {
        text.push_str(&format!("  pkill -x -- {} || :\n", word(name)));
    }
    for after in &starter.after {
        text.push_str(&format!("  {} || echo \"failed after: \"{} >&2\n", line(after), word(&after.join(" "))));
    }
    text.push_str(&format!("}}\ntrap finish EXIT\n{TRAPS}\n"));
    text.push_str(&format!("cd -- {} || exit 1\n", word(&folder.to_string_lossy())));
    for before in &starter.before {
        text.push_str(&format!("{} || exit 1\n", line(before)));
    }
    if !starter.beside.is_empty() {
        // A child that has not begun yet would lose a signal to the traps of its parent.
        text.push_str("trap - HUP INT TERM\n");
        for beside in &starter.beside {
            text.push_str(&format!("{} &\nbeside=\"$beside $!\"\n", line(beside)));
        }
        text.push_str(TRAPS);
    }
    text.push_str(&format!("{}\n", line(command)));
    text
}

/// The desktop entry.
fn entry_text(name: &str, options: &Options, script: &Path) -> String {
    // A value's backslashes are doubled; a quoted word of a command has them before some signs as well.
    let value = |text: &str| text.replace('\\', "\\\\");
    let quoted: String = script
        .to_string_lossy()
        .chars()
        .flat_map(|c| match c {
            '"' | '`' | '$' | '\\' => vec!['\\', c],
            '%' => vec!['%', '%'],
            c => vec![c],
        })
        .collect();
    let mut text = format!("[Desktop Entry]\nType=Application\nVersion=1.5\nName={}\n", value(name));
    if let Some(comment) = &options.comment {
        text.push_str(&format!("Comment={}\n", value(comment)));
    }
    if let Some(icon) = &options.icon {
        text.push_str(&format!("Icon={}\n", value(&os::resolved(icon).unwrap_or(icon.clone()).to_string_lossy())));
    }
    text.push_str(&format!("Exec={}\nTerminal=false\nCategories=Game;\n", value(&format!("\"{quoted}\""))));
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_scripts_and_entries() {
        assert_eq!(word("it's $5"), "'it'\\''s $5'");
        let entry = entry_text("A \\ B", &Options::default(), Path::new("/x/100% \"a\".sh"));
        assert!(entry.contains("Name=A \\\\ B\n"));
        assert!(entry.contains("Exec=\"/x/100%% \\\\\"a\\\\\".sh\"\n"), "{entry}");
        let starter = Starter { command: vec!["play".into(), "--disk={file}".into()], ..Starter::default() };
        assert_eq!(command(&starter, "/a b"), ["play", "--disk=/a b"]);
    }
}
