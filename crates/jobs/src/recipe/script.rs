//! The text of a recipe, before it is known whose it is.

use crate::{Failure, Setting, locate};
use decanter_core::source::read_vec;
use decanter_core::{Error, native};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};

/// The largest recipe.
const MOST: u64 = 4 << 20;
/// How alike a name has to be to be told as the nearest, from 0 to 1.
const LEAST_ALIKE: f64 = 0.6;

/// A recipe's text.
pub(crate) struct Script {
    /// As the user typed it.
    pub(crate) path: String,
    /// The folder it lies in: paths in it are relative to that.
    pub(crate) folder: PathBuf,
    text: String,
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
    pub(crate) fn parse<T: DeserializeOwned>(&self) -> Result<T, Failure> {
        toml::from_str(&self.text).map_err(|e| {
            let begins = |start: usize| self.text.as_bytes()[..start.min(self.text.len())].iter();
            let line = e.span().map(|s| begins(s.start).filter(|b| **b == b'\n').count() + 1);
            let line = line.map(|l| format!("line {l}: ")).unwrap_or_default();
            self.failed(Error::Usage(format!("{line}{}", told(e.message()))))
                .hint("\"decanter recipe new ROM -o FILE\" writes a recipe in which every field is explained")
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

/// What the parser says, in our words where that is worth it: nothing but the sentence hangs on how it begins.
fn told(message: &str) -> String {
    let unknown = message.strip_prefix("unknown field `").or_else(|| message.strip_prefix("unknown variant `"));
    let Some((name, rest)) = unknown.and_then(|m| m.split_once('`')) else { return message.to_owned() };
    let known: Vec<&str> = rest.split('`').skip(1).step_by(2).collect();
    let what = if message.starts_with("unknown field") { "there is no field" } else { "there is no choice" };
    format!("{what} \"{name}\" here; {}", nearest(name, &known))
}

/// The known name that is nearest, or all of them.
pub(crate) fn nearest(name: &str, known: &[&str]) -> String {
    let alike = |k: &&&str| strsim::jaro_winkler(name, k);
    let best = known.iter().max_by(|a, b| alike(a).total_cmp(&alike(b)));
    match best.filter(|b| alike(b) >= LEAST_ALIKE) {
        Some(best) => format!("the nearest one is \"{best}\""),
        None => format!("there are: {}", known.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn script(text: &str) -> Script {
        Script { path: "a.toml".into(), folder: PathBuf::new(), text: text.into() }
    }

    #[derive(Debug, Deserialize)]
    #[serde(deny_unknown_fields)]
    #[allow(dead_code, reason = "only whether it can be read matters")]
    struct Small {
        picture: Option<String>,
        fit: Option<String>,
    }

    #[test]
    fn unknown_names_lead_to_known_ones_and_their_line() {
        let failure = script("fit = \"a\"\n\npiture = \"x\"\n").parse::<Small>().unwrap_err().to_string();
        assert!(
            failure.contains("line 3: there is no field \"piture\" here; the nearest one is \"picture\""),
            "{failure}"
        );
        assert!(nearest("zzz", &["fit", "frame"]).contains("there are: fit, frame"));
    }

    #[test]
    fn a_platform_is_read_before_anything_else() {
        assert_eq!(script("platform = \"handheld\"\n[[title]]\nrom = \"x\"").platform().as_deref(), Some("handheld"));
        assert_eq!((script("[[title]]").platform(), script("= nonsense").platform()), (None, None));
    }
}
