//! The parameter file of a merged package: that of the base, with what later sources say anew.

use super::Source;
use crate::convert::playstation::fourth::{check, parameters, set};
use crate::layers::rank;
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::ps4::PARAMETERS;
use decanter_formats::record::sfo::{Parameters, Value};

/// What stays that of the base: by it a console knows the title, and takes the package for a game.
const OF_BASE: [&str; 6] = ["CATEGORY", "CONTENT_ID", "TITLE_ID", "FORMAT", "VERSION", "APP_TYPE"];
/// What has no meaning in a package with all files.
const OF_UPDATE: [&str; 1] = ["TARGET_APP_VER"];

/// The parameters of the result, and what is to be said of them.
pub(super) struct Merging {
    pub(super) own: Parameters,
    /// What is not as in the base, in words.
    pub(super) changed: String,
    pub(super) notices: Vec<Notice>,
}

/// The parameters of the base with what later sources say, and what was given.
///
/// # Errors
/// For a base without the entries that decide, and for values that cannot be set.
pub(super) fn merged(all: &[Source], given: &[String]) -> Result<Merging> {
    let (mut own, mut base) = (Parameters::default(), Parameters::default());
    let mut notices = Vec::new();
    for (number, source) in all.iter().enumerate() {
        let Some(tree) = source.item.opened.holds.tree.as_ref() else { continue };
        let found = parameters(tree)?;
        match (number, found) {
            (0, None) => {
                let why = format!("\"{}\" has no {PARAMETERS}: nothing says what the title is", source.item.shown);
                return Err(Error::Usage(why));
            }
            (0, Some(found)) => (own, base) = (found.clone(), found),
            (_, None) => {}
            (_, Some(found)) => notices.extend(take_over(&mut own, &found, &source.item.shown)),
        }
    }
    own.entries.retain(|(name, _)| !OF_UPDATE.contains(&name.as_str()));
    set(&mut own, given)?;
    check(&own)?;
    let is_new = |entry: &&(String, Value)| !base.entries.contains(entry);
    let names: Vec<&str> = own.entries.iter().filter(is_new).map(|(name, _)| name.as_str()).collect();
    let changed = match names.is_empty() {
        true => "those of the base".to_owned(),
        false => format!("those of the base, but for {}", names.join(", ")),
    };
    Ok(Merging { own, changed, notices })
}

/// Takes over what a later parameter file says.
fn take_over(own: &mut Parameters, later: &Parameters, shown: &str) -> Option<Notice> {
    let text = |of: &Parameters, name: &str| of.text(name).unwrap_or_default().to_owned();
    let [before, now] = [&*own, later].map(|of| text(of, "APP_VER"));
    let older = rank(&now) < rank(&before) && !now.is_empty();
    for (name, value) in &later.entries {
        if OF_BASE.contains(&name.as_str()) || older && name == "APP_VER" {
            continue;
        }
        own.put(name, value.clone(), later.rooms.get(name).copied().unwrap_or(0));
    }
    older.then(|| Notice::new(format!("\"{shown}\" says version {now}: the newer {before} is kept")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(entries: &[(&str, Value)]) -> Parameters {
        let mut own = Parameters::default();
        entries.iter().for_each(|(name, value)| own.put(name, value.clone(), 0));
        own
    }

    fn text(value: &str) -> Value {
        Value::Text(value.into())
    }

    #[test]
    fn the_base_says_what_it_is_and_later_ones_which_version() {
        let mut own = of(&[
            ("CATEGORY", text("gd")),
            ("APP_VER", text("01.00")),
            ("VERSION", text("01.00")),
            ("SYSTEM_VER", Value::Number(0x0505_0000)),
        ]);
        let update = of(&[
            ("CATEGORY", text("gp")),
            ("APP_VER", text("01.08")),
            ("VERSION", text("01.08")),
            ("SYSTEM_VER", Value::Number(0x0900_0000)),
            ("TITLE_05", text("Molo nove")),
        ]);
        assert!(take_over(&mut own, &update, "update").is_none());
        let fix = of(&[("APP_VER", text("01.00")), ("SYSTEM_VER", Value::Number(0x0672_0000))]);
        let told = take_over(&mut own, &fix, "fix").unwrap().text;
        assert_eq!(told, "\"fix\" says version 01.00: the newer 01.08 is kept");
        let said = ["CATEGORY", "APP_VER", "VERSION", "TITLE_05"].map(|name| own.text(name).unwrap().to_owned());
        assert_eq!(said, ["gd", "01.08", "01.00", "Molo nove"]);
        assert_eq!(own.number("SYSTEM_VER"), Some(0x0672_0000));
    }
}
