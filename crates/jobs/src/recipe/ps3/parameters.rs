//! The parameter file of a title: written anew, or from one of the user's own.

use super::{Recipe, Title, disc};
use crate::recipe::language_number;
use crate::{Setting, locate};
use decanter_core::error::Blame;
use decanter_core::{Error, Result};
use decanter_formats::package::ps3::pkg::LANGUAGES;
use decanter_formats::record::sfo::{Parameters, Value};
use serde::Deserialize;

/// Bytes that consoles keep for a title, its zero among them.
const TITLE_ROOM: u32 = 128;
/// A system that is asked for, every picture mode, every sound; whether consoles mind others is not sure (docs/formats/ps3-title.md).
const SYSTEM: &str = "03.4000";
const MODES: u32 = 63;
const SOUNDS: u32 = 279;
/// The first version.
const VERSION: &str = "01.00";

/// A value as a recipe gives it.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged)]
pub(super) enum Given {
    Number(u32),
    Text(String),
}

/// Names that other fields of the recipe stand for.
const ELSEWHERE: [(&str, &str); 4] =
    [("TITLE", "[title.names] title"), ("TITLE_ID", "id"), ("VERSION", "version"), ("CONTENT_ID", "content-id")];

/// The parameter file of a title.
///
/// # Errors
/// When a value has no place in it, or the user's own file cannot be used.
pub(super) fn parameters(
    recipe: &Recipe,
    title: &Title,
    kind: disc::Kind,
    name: &str,
    [id, content_id]: [&str; 2],
    setting: &Setting<'_>,
) -> Result<Parameters> {
    let mut all = match &title.parameter_file {
        Some(path) => own(path, recipe, setting)?,
        None => usual(),
    };
    if all.text("CATEGORY").is_none() {
        all.put("CATEGORY", text(kind.category()), 4);
    }
    all.put("TITLE", titled(name)?, TITLE_ROOM);
    all.put("TITLE_ID", text(id), 16);
    // One that stands there is the package's.
    if all.text("CONTENT_ID").is_some() {
        all.put("CONTENT_ID", text(content_id), 48);
    }
    match &title.version {
        Some(version) => all.put("VERSION", text(version), 8),
        None if all.text("VERSION").is_none() => all.put("VERSION", text(VERSION), 8),
        None => {}
    }
    if all.version().is_none() {
        let own = all.text("VERSION").unwrap_or_default();
        let why = format!("\"{own}\" is no version: two digits, a point, two digits, as version = \"01.00\"");
        return Err(Error::Usage(why));
    }
    for (language, texts) in &title.names.languages {
        let number = language_number(language, &LANGUAGES)?;
        all.put(&format!("TITLE_{number:02}"), titled(&texts.title)?, TITLE_ROOM);
    }
    for (name, given) in &title.parameters {
        if let Some((_, field)) = ELSEWHERE.iter().find(|(n, _)| n == name) {
            return Err(Error::Usage(format!("{name} is said with {field} = ..., not in [title.parameters]")));
        }
        let is_name = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_';
        if name.is_empty() || !name.chars().all(is_name) {
            return Err(Error::Usage(format!("\"{name}\" is no parameter: capital letters, digits and _")));
        }
        let value = match given {
            Given::Number(number) => Value::Number(*number),
            Given::Text(given) if given.contains('\0') => {
                return Err(Error::Usage(format!("the parameter {name} has a zero in its text")));
            }
            Given::Text(given) => text(given),
        };
        all.put(name, value, 4);
    }
    Ok(all)
}

/// What stands in a new parameter file, whatever the title.
fn usual() -> Parameters {
    let mut all = Parameters::default();
    all.put("APP_VER", text(VERSION), 8);
    all.put("ATTRIBUTE", Value::Number(0), 4);
    all.put("BOOTABLE", Value::Number(1), 4);
    all.put("PARENTAL_LEVEL", Value::Number(1), 4);
    all.put("PS3_SYSTEM_VER", text(SYSTEM), 8);
    all.put("RESOLUTION", Value::Number(MODES), 4);
    all.put("SOUND_FORMAT", Value::Number(SOUNDS), 4);
    all
}

/// A parameter file of the user's own.
fn own(path: &str, recipe: &Recipe, setting: &Setting<'_>) -> Result<Parameters> {
    let source = locate::bytes(&recipe.path(path), setting)?;
    Parameters::read(source.as_ref()).map_err(|e| match e.blame() {
        Blame::Source => Error::Unreadable { why: format!("\"{path}\" is no parameter file: {e}") },
        _ => e,
    })
}

fn text(value: &str) -> Value {
    Value::Text(value.to_owned())
}

/// A title, if it fits.
fn titled(title: &str) -> Result<Value> {
    let most = TITLE_ROOM as usize - 1;
    match title.len() {
        0 => Err(Error::Usage("the title is empty".into())),
        _ if title.contains('\0') => Err(Error::Usage("the title has a zero in it".into())),
        len if len > most => {
            Err(Error::Usage(format!("the title \"{title}\" has {len} bytes, there is room for {most}")))
        }
        _ => Ok(text(title)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_title_has_room_for_127_bytes() {
        assert!(titled(&"x".repeat(127)).is_ok());
        assert!(titled(&"x".repeat(128)).unwrap_err().to_string().contains("room for 127"));
        assert!(titled("").is_err() && titled("a\0").is_err());
    }
}
