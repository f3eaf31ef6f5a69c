//! The text of a recipe, before it is known whose it is.

use crate::toml_text;
use crate::{Failure, Setting, locate};
use decanter_core::source::read_vec;
use decanter_core::{Error, native};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};

/// The largest recipe.
const MOST: u64 = 4 << 20;

/// A recipe's text.
pub(crate) struct Script {
    /// As the user typed it.
    pub(crate) path: String,
    /// The folder it lies in: paths in it are relative to that.
    folder: PathBuf,
    text: String,
}

/// A recipe: the titles of one platform.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Recipe<T> {
    /// Of whom it is: read before.
    #[serde(default)]
    #[allow(dead_code, reason = "a field that is known, so that it may stand there")]
    platform: Option<String>,
    /// The titles to make.
    #[serde(rename = "title")]
    pub(super) titles: Vec<T>,
    /// The folder it lies in: paths in it are relative to that.
    #[serde(skip)]
    folder: PathBuf,
}

impl<T: DeserializeOwned> Recipe<T> {
    /// Reads a recipe.
    ///
    /// # Errors
    /// With the line, and for an unknown field the nearest known one.
    pub(super) fn read(script: &Script) -> Result<Self, Failure> {
        let mut recipe: Self = script.parse()?;
        if recipe.titles.is_empty() {
            return Err(script.failed(Error::Usage("it has no [[title]]".into())));
        }
        recipe.folder = script.folder.clone();
        Ok(recipe)
    }

    /// A path of the recipe: relative ones start at its folder.
    pub(super) fn path(&self, path: &str) -> String {
        native::text(self.folder.join(path))
    }

    /// The path of something that it may name.
    pub(super) fn named(&self, path: Option<&str>) -> Option<String> {
        path.map(|path| self.path(path))
    }
}

/// What stands in every recipe, whatever it makes.
#[derive(Deserialize)]
struct Head {
    platform: Option<String>,
}

impl Script {
    /// Reads one.
    ///
    /// # Errors
    /// When it cannot be read, or is no text.
    pub(crate) fn read(path: &str, setting: &Setting<'_>) -> Result<Self, Failure> {
        let read = || {
            let source = locate::bytes(path, setting)?;
            let bytes = read_vec(source.as_ref(), 0, source.len(), "a recipe", MOST)?;
            String::from_utf8(bytes).map_err(|_| Error::Usage("it is no text in UTF-8".into()))
        };
        let text = read().map_err(|e| failed(path, e))?;
        let folder = native::path(path).parent().map(Path::to_owned).unwrap_or_default();
        Ok(Self { path: path.to_owned(), folder, text })
    }

    /// The platform that it names, if it does. What is wrong with the text is told by whoever reads all of it.
    pub(crate) fn platform(&self) -> Option<String> {
        toml::from_str::<Head>(&self.text).ok()?.platform
    }

    /// All of it as a maker understands it.
    ///
    /// # Errors
    /// With the line, and for an unknown field the nearest known one.
    fn parse<T: DeserializeOwned>(&self) -> Result<T, Failure> {
        toml_text::parse(&self.text).map_err(|why| {
            self.failed(Error::Usage(why))
                .hint("\"decanter recipe new SOURCE -o FILE\" writes a recipe in which every field is explained")
        })
    }

    /// Why it cannot be used.
    pub(crate) fn failed(&self, error: Error) -> Failure {
        failed(&self.path, error)
    }
}

fn failed(path: &str, error: Error) -> Failure {
    Failure::new(format!("cannot use the recipe \"{path}\""), error)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn script(text: &str) -> Script {
        Script { path: "a.toml".into(), folder: PathBuf::new(), text: text.into() }
    }

    #[test]
    fn a_platform_is_read_before_anything_else() {
        assert_eq!(script("platform = \"handheld\"\n[[title]]\nrom = \"x\"").platform().as_deref(), Some("handheld"));
        assert_eq!((script("[[title]]").platform(), script("= nonsense").platform()), (None, None));
    }
}
