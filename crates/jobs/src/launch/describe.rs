//! What is started, as a text that people write and [`crate::launcher`] makes.

use super::starter::Starter;
use crate::{Failure, Setting, toml_text};
use decanter_core::source::{FileSource, Source, read_vec};
use decanter_core::{Error, native};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// The version of the text.
const VERSION: u32 = 1;
/// The longest that is read, in bytes.
const MOST: u64 = 1 << 20;
/// What stands for the file in a command.
const FILE: &str = "{file}";
const HEAD: &str = "# What \"decanter launch\" starts. Paths are relative to this file.\n";

/// What is started.
#[derive(Debug, Clone, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Description {
    start: u32,
    /// What it is called.
    #[serde(default)]
    pub(super) title: String,
    /// What stands for `{file}`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    file: String,
    /// The program and its words.
    command: Vec<String>,
    /// The folder it works in; that of the file, if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    folder: Option<String>,
    /// Run before, one after the other.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(super) before: Vec<Vec<String>>,
    /// Started before, and ended in the end.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(super) beside: Vec<Vec<String>>,
    /// Run last.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(super) after: Vec<Vec<String>>,
    /// Buttons that end it when they are held together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) quit: Option<String>,
    /// The joystick; the first one, if it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) joystick: Option<PathBuf>,
}

impl Description {
    /// One that starts `file` as `starter` says. Programs that are ended by name are ended last.
    pub(crate) fn new(title: &str, file: &str, starter: &Starter, command: Vec<String>, quit: &str) -> Self {
        let end = starter.end.iter().map(|name| ["pkill", "-x", "--", name].map(str::to_owned).to_vec());
        Self {
            start: VERSION,
            title: title.into(),
            file: file.into(),
            command,
            folder: starter.folder.as_deref().map(native::text),
            before: starter.before.clone(),
            beside: starter.beside.clone(),
            after: end.chain(starter.after.iter().cloned()).collect(),
            quit: Some(quit.into()),
            joystick: None,
        }
    }

    /// As it is written.
    ///
    /// # Errors
    /// What cannot be said in it.
    pub(crate) fn text(&self) -> Result<String, String> {
        toml::to_string(self).map(|body| format!("{HEAD}{body}")).map_err(|e| e.to_string())
    }

    /// Reads one.
    ///
    /// # Errors
    /// When it is none, with its line.
    pub(super) fn read(path: &Path, setting: &Setting<'_>) -> Result<Self, Failure> {
        let fail = |e: Error| Failure::new("", e);
        let source = FileSource::open(path, &setting.guard).map_err(fail)?;
        let bytes = read_vec(&source, 0, source.len(), "a description of what to start", MOST).map_err(fail)?;
        let wrong = |why: String| {
            Failure::usage("", why)
                .hint("\"decanter launcher FILE -o NAME --quit BUTTON+BUTTON\" writes one that is right")
        };
        let text = String::from_utf8(bytes).map_err(|_| wrong("it is no text in UTF-8".into()))?;
        let own: Self = toml_text::parse(&text).map_err(wrong)?;
        match own.start {
            VERSION if own.command.is_empty() => Err(wrong("the command has no words".into())),
            VERSION => Ok(own),
            other => Err(wrong(format!("start = {other} is a version that is not known here; {VERSION} is"))),
        }
    }

    /// The folder that the description at `path` stands in.
    fn here(path: &Path) -> PathBuf {
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
        std::path::absolute(folder).unwrap_or(folder.to_owned())
    }

    /// What is started, as a whole path.
    fn file(&self, path: &Path) -> PathBuf {
        Self::here(path).join(native::path(&self.file))
    }

    /// The words of the command, with the file in its place.
    pub(super) fn command(&self, path: &Path) -> Vec<String> {
        let file = native::text(self.file(path));
        self.command.iter().map(|word| word.replace(FILE, &file)).collect()
    }

    /// The folder that it works in.
    pub(super) fn folder(&self, path: &Path) -> PathBuf {
        match &self.folder {
            Some(folder) => Self::here(path).join(native::path(folder)),
            None if self.file.is_empty() => Self::here(path),
            None => self.file(path).parent().map_or_else(|| Self::here(path), Path::to_owned),
        }
    }
}
