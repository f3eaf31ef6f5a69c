//! One entry: what it says, where its script finds the file, the picture beside it.

use super::entry::{self, Entry};
use super::script::{self, Place};
use crate::launch::{self, Description, Starter};
use crate::{Failure, Item, Setting, label, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::os;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, Notice};
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Edge of an icon, in pixels.
const ICON: u32 = 128;
/// The program that waits for the chord: this one, as it is found by its name where it stands.
const PROGRAM: &str = "decanter";

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
    /// Paths from the root instead of from where the entry stands.
    pub absolute: bool,
    /// Buttons of a joystick that end it when they are held together.
    pub quit: Option<String>,
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
    /// What is started, in words.
    pub title: String,
    /// The picture that was taken out of it, or given.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub icon: Option<PathBuf>,
    /// The description that is started with a chord to end it.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub description: Option<PathBuf>,
    /// The command that it runs, with the file as the script finds it.
    pub command: Vec<String>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// Writes the entry `output` and the script beside it. What is started says its title and its picture itself, where it does.
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
    let fail = |e: Error| Failure::new(what.clone(), e);
    let output = &place::file(Some(output), &format!("{}.desktop", place::stem_of_shown(&native::text(file))));
    let full = os::resolved(file).map_err(|e| fail(Error::io("open", file, e)))?;
    let starter = choose(options, known).map_err(|why| {
        let names: Vec<&str> = known.keys().map(String::as_str).collect();
        let hint = match names.as_slice() {
            [] => "add to your configuration:  [launch.NAME]  command = [\"PROGRAM\", \"{file}\"]; or give --command"
                .into(),
            names => format!("the configuration has: {}", names.join(", ")),
        };
        Failure::usage(what.clone(), why).hint(hint)
    })?;
    if let Some(quit) = &options.quit {
        launch::check_chord(quit).map_err(|why| Failure::usage(what.clone(), why))?;
    }
    let base = output.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    if !setting.dry_run {
        decanter_core::pour::make_folder(base).map_err(fail)?;
    }
    // What is not there yet is as good as where it would be.
    let base =
        os::resolved(base).or_else(|_| std::path::absolute(base)).map_err(|e| fail(Error::io("open", base, e)))?;
    let item = locate::open(&native::text(file), "look at", setting).ok();
    let name = options
        .name
        .clone()
        .or_else(|| title(item.as_ref(), setting))
        .unwrap_or_else(|| decanter_core::names::stem_of(&full.file_name().map(native::text).unwrap_or_default()));
    for (which, text) in [("the name", Some(&name)), ("the comment", options.comment.as_ref())] {
        if text.is_some_and(|t| t.chars().any(char::is_control)) {
            return Err(Failure::usage(what, format!("{which} has characters that an entry cannot hold")));
        }
    }
    let picture = item.as_ref().filter(|_| options.icon.is_none()).and_then(|item| label::icon(item, ICON));
    let stem = output.file_stem().map(native::text).unwrap_or_default();
    let own_icon = picture.as_ref().map(|_| output.with_extension("png"));
    let icon = options.icon.clone().or_else(|| own_icon.clone());
    let place = Place::of(&full, &base, options.absolute);
    let description = options.quit.as_ref().map(|_| output.with_extension("toml"));
    let (entry, script) = (output.with_extension("desktop"), output.with_extension("sh"));
    let filled = |word: &String| word.replace(script::FILE, place.text());
    let report = LauncherReport {
        schema: "decanter.launcher/1",
        entry: entry.clone(),
        script: script.clone(),
        title: name.clone(),
        icon: icon.clone(),
        description: description.clone(),
        command: script::words(&starter).iter().map(filled).collect(),
        dry_run: setting.dry_run,
        notices: Vec::new(),
    };
    let mut read = [Some(file), options.icon.as_deref()].into_iter().flatten();
    read.try_for_each(|path| setting.guard.reads_if_there(path)).map_err(fail)?;
    let text = match &options.quit {
        None => script::text(&starter, &place),
        Some(_) => script::helper(PROGRAM, &format!("{stem}.toml")),
    };
    let script_name = match options.absolute {
        true => base.join(format!("{stem}.sh")).to_string_lossy().into_owned(),
        false => format!("{stem}.sh"),
    };
    // An icon is found by its whole path alone: the specification knows no other.
    let whole_icon = icon.as_deref().map(|icon| match own_icon.is_some() {
        true => base.join(format!("{stem}.png")),
        false => os::resolved(icon).unwrap_or(icon.to_owned()),
    });
    let lines = entry::text(&Entry {
        name: &name,
        comment: options.comment.as_deref(),
        icon: whole_icon.as_deref(),
        script: &script_name,
        is_absolute: options.absolute,
    });
    let blueprint = |bytes: Vec<u8>| Blueprint::of(Arc::new(Bytes(bytes)));
    let mut files =
        vec![(blueprint(text.into_bytes()), script, true), (blueprint(lines.into_bytes()), entry.clone(), false)];
    if let (Some(png), Some(target)) = (picture, own_icon) {
        files.push((blueprint(png), target, false));
    }
    if let (Some(quit), Some(target)) = (&options.quit, description) {
        let own = Description::new(&name, place.text(), &starter, script::words(&starter), quit);
        let text = own.text().map_err(|why| Failure::usage(what.clone(), why))?;
        files.push((blueprint(text.into_bytes()), target, false));
    }
    let outputs: Vec<Output<'_>> = (files.iter())
        .map(|(blueprint, target, is_program)| match is_program {
            true => Output::new(blueprint, target).executable(),
            false => Output::new(blueprint, target),
        })
        .collect();
    setting.pour(&outputs, setting.door(), &mut |_| Ok(())).map_err(|e| match e.blame() {
        Blame::Request => place::refused(&entry, e),
        _ => Failure::new(what, e),
    })?;
    Ok(report)
}

/// What a source is called, as it says itself, in the user's language where it can.
fn title(item: Option<&Item>, setting: &Setting<'_>) -> Option<String> {
    let opened = &item?.opened;
    let label = opened.told.label.as_ref().zip(setting.language.as_deref());
    let title =
        label.and_then(|(label, code)| label::title_in(&label.titles, code)).or(opened.identity.title.clone())?;
    let line = title.split_whitespace().collect::<Vec<_>>().join(" ");
    (!line.is_empty()).then_some(line)
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
