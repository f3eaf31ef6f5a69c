//! How things are started, as people say it in their configuration.

use serde::{Deserialize, Serialize};
use std::path::PathBuf;

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
