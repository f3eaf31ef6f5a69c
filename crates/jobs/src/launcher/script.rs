//! The script: everything that is started is ended, however it goes. It finds what it starts from where it stands itself, so that
//! both can be moved together.

use crate::launch::Starter;
use decanter_core::{native, os};
use std::path::{Component, Path, PathBuf};

/// Signals end the script, so that it ends what it started.
const TRAPS: &str = "trap 'exit 129' HUP\ntrap 'exit 130' INT\ntrap 'exit 143' TERM\n";
/// What stands for the file in a command.
pub(super) const FILE: &str = "{file}";
/// Where the script stands, however it was called.
const HERE: &str = "here=$(CDPATH= cd -- \"$(dirname -- \"$0\")\" && pwd -P) || exit 1\n";

/// A path as a script says it.
#[derive(Debug, Clone)]
pub(super) enum Place {
    /// From the root.
    Whole(String),
    /// From the folder of the script; empty for that folder itself.
    FromHere(String),
}

impl Place {
    /// Where `path` is for a script in `base`; both are whole and without links.
    pub(super) fn of(path: &Path, base: &Path, is_absolute: bool) -> Self {
        match relative(path, base).filter(|_| !is_absolute) {
            Some(path) => Self::FromHere(os::with_slashes(native::text(path))),
            None => Self::Whole(path.to_string_lossy().into_owned()),
        }
    }

    /// As a shell takes it.
    fn word(&self) -> String {
        match self {
            Self::Whole(path) => word(path),
            Self::FromHere(path) if path.is_empty() => "\"$here\"".into(),
            Self::FromHere(path) => format!("\"$here\"/{}", word(path)),
        }
    }

    /// The folder that it is in.
    fn folder(&self) -> Self {
        let above = |path: &str| path.rsplit_once('/').map_or(String::new(), |(folder, _)| folder.to_owned());
        match self {
            Self::Whole(path) => {
                let folder = Path::new(path).parent().map(|p| p.to_string_lossy().into_owned());
                Self::Whole(folder.unwrap_or_default())
            }
            Self::FromHere(path) => Self::FromHere(above(path)),
        }
    }

    /// As it is told.
    pub(super) fn text(&self) -> &str {
        match self {
            Self::Whole(path) | Self::FromHere(path) => path,
        }
    }
}

/// The way from one folder to a path; `None` where there is none, as between two drives.
fn relative(path: &Path, base: &Path) -> Option<PathBuf> {
    let (path, base): (Vec<Component<'_>>, Vec<Component<'_>>) =
        (path.components().collect(), base.components().collect());
    let common = path.iter().zip(&base).take_while(|(a, b)| a == b).count();
    if common == 0 {
        return None;
    }
    let up = base[common..].iter().map(|_| Component::ParentDir);
    Some(up.chain(path[common..].iter().copied()).collect())
}

/// A word as a shell takes it, whatever it is.
fn word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn line(words: &[String]) -> String {
    words.iter().map(|w| word(w)).collect::<Vec<_>>().join(" ")
}

/// A word with the file in its place.
fn filled(text: &str, file: &Place) -> String {
    let parts: Vec<String> =
        text.split(FILE).map(|part| if part.is_empty() { String::new() } else { word(part) }).collect();
    match parts.join(&file.word()) {
        empty if empty.is_empty() => "''".into(),
        filled => filled,
    }
}

/// The words of a command; the file is the last of them, where none has it.
pub(super) fn words(starter: &Starter) -> Vec<String> {
    let mut words = starter.command.clone();
    if !words.iter().any(|w| w.contains(FILE)) {
        words.push(FILE.into());
    }
    words
}

/// The whole script.
pub(super) fn text(starter: &Starter, file: &Place) -> String {
    let mut text = String::from("#!/bin/sh\nset -u\n");
    if matches!(file, Place::FromHere(_)) {
        text.push_str(HERE);
    }
    text.push_str("beside=\n\nfinish() {\n  trap - EXIT HUP INT TERM\n");
    text.push_str("  for pid in $beside; do kill \"$pid\" 2>/dev/null; done\n");
    for name in &starter.end {
        text.push_str(&format!("  pkill -x -- {} || :\n", word(name)));
    }
    for after in &starter.after {
        text.push_str(&format!("  {} || echo \"failed after: \"{} >&2\n", line(after), word(&after.join(" "))));
    }
    text.push_str(&format!("}}\ntrap finish EXIT\n{TRAPS}\n"));
    let folder = match &starter.folder {
        Some(folder) => word(&folder.to_string_lossy()),
        None => file.folder().word(),
    };
    text.push_str(&format!("cd -- {folder} || exit 1\n"));
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
    let command: Vec<String> = words(starter).iter().map(|w| filled(w, file)).collect();
    text.push_str(&format!("{}\n", command.join(" ")));
    text
}

/// The script that has [`crate::launch`] do the same, and wait for a chord.
pub(super) fn helper(program: &str, description: &str) -> String {
    format!("#!/bin/sh\nset -u\n{HERE}exec {} launch \"$here\"/{}\n", word(program), word(description))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_have_the_file_in_its_place() {
        let here = Place::FromHere("../a b/it's.gb".into());
        assert_eq!(filled("--disk={file}", &here), "'--disk='\"$here\"/'../a b/it'\\''s.gb'");
        assert_eq!(filled("{file}", &Place::Whole("/x".into())), "'/x'");
        assert_eq!((filled("", &here), filled("$5", &here)), ("''".into(), "'$5'".into()));
        let starter = Starter { command: vec!["play".into()], ..Starter::default() };
        assert_eq!(words(&starter), ["play", "{file}"]);
    }

    #[test]
    fn places_are_told_from_the_script_or_from_the_root() {
        let of = |path: &str, base: &str| Place::of(Path::new(path), Path::new(base), false);
        assert_eq!(of("/card/gb/a.gb", "/card/start").text(), "../gb/a.gb");
        assert_eq!(of("/card/a.gb", "/card").text(), "a.gb");
        assert_eq!(of("/card/a.gb", "/card").folder().word(), "\"$here\"");
        assert_eq!(Place::of(Path::new("/card/a.gb"), Path::new("/card"), true).text(), "/card/a.gb");
    }
}
