//! The parameter file of a title: written anew, or from one of the user's own.

use super::{Recipe, Title, disc};
use crate::recipe::language_number;
use crate::{Setting, locate};
use decanter_core::source::read_vec;
use decanter_core::{Error, Result};
use decanter_formats::package::ps3::pkg::LANGUAGES;
use decanter_formats::record::sfo::{Parameters, Value};
use serde::Deserialize;

/// Parameter files have a few hundred bytes.
const MOST: u64 = 1 << 20;
/// Bytes that consoles keep for a title, its zero among them.
const TITLE_ROOM: u32 = 128;
/// What no console minds: the oldest system that plays all of these, every picture mode, every sound.
const SYSTEM: &str = "03.4000";
const MODES: u32 = 63;
const SOUNDS: u32 = 279;

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
    id: &str,
    setting: &Setting<'_>,
) -> Result<Parameters> {
    let mut all = Parameters::default();
    let mut add = |name: &str, value: Value, room: u32| put(&mut all, name, value, room);
    add("APP_VER", text("01.00"), 8);
    add("ATTRIBUTE", Value::Number(0), 4);
    add("BOOTABLE", Value::Number(1), 4);
    add("PARENTAL_LEVEL", Value::Number(1), 4);
    add("PS3_SYSTEM_VER", text(SYSTEM), 8);
    add("RESOLUTION", Value::Number(MODES), 4);
    add("SOUND_FORMAT", Value::Number(SOUNDS), 4);
    add("CATEGORY", text(kind.category()), 4);
    add("VERSION", text("01.00"), 8);
    if let Some(path) = &title.parameter_file {
        all = own(path, recipe, setting)?;
        if all.text("CATEGORY").is_none() {
            put(&mut all, "CATEGORY", text(kind.category()), 4);
        }
    }
    put(&mut all, "TITLE", titled(name)?, TITLE_ROOM);
    put(&mut all, "TITLE_ID", text(id), 16);
    if let Some(version) = &title.version {
        put(&mut all, "VERSION", text(version), 8);
    }
    for (language, texts) in &title.names.languages {
        let number = language_number(language, &LANGUAGES)?;
        put(&mut all, &format!("TITLE_{number:02}"), titled(&texts.title)?, TITLE_ROOM);
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
        put(&mut all, name, value, 4);
    }
    Ok(all)
}

/// A parameter file of the user's own.
fn own(path: &str, recipe: &Recipe, setting: &Setting<'_>) -> Result<Parameters> {
    let source = locate::bytes(&recipe.path(path), setting)?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a parameter file", MOST)?;
    Parameters::parse(&bytes).map_err(|e| Error::Unreadable { why: format!("\"{path}\" is no parameter file: {e}") })
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

/// Puts a value in its place, with room for at least so many bytes.
fn put(all: &mut Parameters, name: &str, value: Value, room: u32) {
    let kept = all.rooms.entry(name.to_owned()).or_insert(0);
    *kept = room.max(*kept);
    match all.entries.iter_mut().find(|(n, _)| n == name) {
        Some((_, old)) => *old = value,
        None => all.entries.push((name.to_owned(), value)),
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

    #[test]
    fn a_value_keeps_the_room_that_it_had() {
        let mut all = Parameters::default();
        put(&mut all, "TITLE", text("Moth"), 128);
        put(&mut all, "TITLE", text("Moth Parade"), 4);
        assert_eq!((all.entries.len(), all.rooms["TITLE"]), (1, 128));
        assert_eq!(all.text("TITLE"), Some("Moth Parade"));
    }
}
