//! The name that a file should have: by its set, or by a template.

use crate::{Failure, nearest};
use decanter_cellar::Database;
use decanter_cellar::database::{all, number};
use decanter_core::catalogue::last_name;
use decanter_core::names::{file_name, stem_of};

/// What a template may name.
const FIELDS: [&str; 9] = ["system", "title", "region", "id", "ext", "set", "game", "name", "stem"];

/// What is known of a file.
#[derive(Debug, Clone, Default)]
pub(super) struct Known {
    /// Its path below its place.
    pub(super) path: String,
    /// What kind of thing it is.
    pub(super) system: Option<String>,
    pub(super) title: Option<String>,
    pub(super) region: Option<String>,
    pub(super) id: Option<String>,
    pub(super) set: Option<String>,
    pub(super) game: Option<String>,
    /// The entry that it is, or that its only member is.
    pub(super) entry: Option<String>,
    /// Whether its game has several entries.
    pub(super) is_of_many: bool,
    /// Whether it holds what the set knows, instead of being it.
    pub(super) is_around: bool,
}

impl Known {
    /// Takes in what the set says of an entry.
    ///
    /// # Errors
    /// What the database fails with.
    pub(super) fn take_entry(&mut self, db: &mut dyn Database, entry: i64) -> decanter_core::Result<()> {
        let sql = "SELECT d.name, g.name, e.name, g.id FROM entry e JOIN game g ON g.id = e.game JOIN dat d ON d.id = e.dat WHERE e.id = ?1";
        let found = all(db, sql, &[entry.into()], |row| (row[0].text(), row[1].text(), row[2].text(), row[3].int()))?;
        for (set, game, entry, id) in found {
            self.is_of_many = number(db, "SELECT count(*) FROM entry WHERE game = ?1", &[id.into()])? > 1;
            (self.set, self.game, self.entry) = (Some(set), Some(game), Some(entry));
        }
        Ok(())
    }
}

/// A name with no separator, safe on every file system.
fn safe(name: &str) -> String {
    file_name(&name.replace(['/', '\\'], "-"))
}

fn extension(path: &str) -> &str {
    let name = last_name(path);
    name.rfind('.').filter(|at| *at > 0).map_or("", |at| &name[at + 1..])
}

/// The path that a file has by its set: the set's folder, the game's if it has several files, the entry's name.
pub(super) fn by_set(known: &Known) -> Option<String> {
    let (set, game, entry) = (known.set.as_deref()?, known.game.as_deref()?, known.entry.as_deref()?);
    let game = if game.is_empty() { stem_of(last_name(entry)).to_owned() } else { game.to_owned() };
    if known.is_around {
        // An archive or an image of the game: called as it, with the extension that it has.
        let ext = extension(&known.path);
        let name = if ext.is_empty() { game } else { format!("{game}.{ext}") };
        return Some(format!("{}/{}", safe(set), safe(&name)));
    }
    let parts: Vec<String> = entry.split(['/', '\\']).filter(|part| !part.is_empty()).map(safe).collect();
    let name = parts.join("/");
    Some(match known.is_of_many {
        true => format!("{}/{}/{name}", safe(set), safe(&game)),
        false => format!("{}/{name}", safe(set)),
    })
}

/// Fails for a template that names what nothing has.
///
/// # Errors
/// Which name that is, and the nearest.
pub(super) fn check_template(template: &str) -> Result<(), Failure> {
    let what = format!("cannot use the template \"{template}\"");
    let mut rest = template;
    while let Some(at) = rest.find(['{', '}']) {
        let inner = rest[at..].strip_prefix('{').and_then(|inner| inner.split_once('}'));
        let Some((field, after)) = inner else {
            return Err(Failure::usage(what, "a brace has no partner").hint("write {title}, {ext} and the like"));
        };
        if !FIELDS.contains(&field) {
            let hint = match nearest(field, FIELDS.iter().copied()) {
                Some(near) => format!("did you mean {{{near}}}?"),
                None => format!("there are: {{{}}}", FIELDS.join("}, {")),
            };
            return Err(Failure::usage(what, format!("there is no {{{field}}}")).hint(hint));
        }
        rest = after;
    }
    if template.split('/').any(|part| part == "..") || template.starts_with('/') || template.is_empty() {
        return Err(Failure::usage(what, "it leads out of the place").hint("begin it with the name of a folder below"));
    }
    Ok(())
}

/// The path that a file has by a template. What is not known leaves no trace: empty brackets go.
pub(super) fn by_template(template: &str, known: &Known) -> String {
    let stem = stem_of(last_name(&known.path)).to_owned();
    let value = |field: &str| -> String {
        let found = match field {
            "system" => known.system.clone(),
            "title" => known.title.clone().or_else(|| known.game.clone()).or_else(|| Some(stem.clone())),
            "region" => known.region.clone(),
            "id" => known.id.clone(),
            "ext" => Some(extension(&known.path).to_owned()),
            "set" => known.set.clone(),
            "game" => known.game.clone().or_else(|| Some(stem.clone())),
            "name" => known.entry.as_deref().map(|entry| last_name(entry).to_owned()),
            _ => Some(stem.clone()),
        };
        found.unwrap_or_default().replace(['/', '\\'], "-")
    };
    let mut text = String::new();
    let mut rest = template;
    while let Some((before, inner)) = rest.split_once('{') {
        text.push_str(before);
        let (field, after) = inner.split_once('}').unwrap_or((inner, ""));
        text.push_str(&value(field));
        rest = after;
    }
    text.push_str(rest);
    let parts = text.split('/').map(|part| {
        let part = part.replace("()", "").replace("[]", "");
        let words: Vec<&str> = part.split_whitespace().collect();
        let part = words.join(" ").replace(" .", ".");
        part.trim_end_matches('.').to_owned()
    });
    let parts: Vec<String> = parts.filter(|part| !part.is_empty()).map(|part| safe(&part)).collect();
    parts.join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known() -> Known {
        Known {
            path: "new/fog.gb".into(),
            title: Some("Fogbell: Deep/Water".into()),
            set: Some("Saltmarsh".into()),
            game: Some("Fogbell".into()),
            entry: Some("Fogbell (Deep Water).gb".into()),
            ..Known::default()
        }
    }

    #[test]
    fn names_follow_set_and_template() {
        assert_eq!(by_set(&known()).as_deref(), Some("Saltmarsh/Fogbell (Deep Water).gb"));
        let many = Known { is_of_many: true, ..known() };
        assert_eq!(by_set(&many).as_deref(), Some("Saltmarsh/Fogbell/Fogbell (Deep Water).gb"));
        let around = Known { is_around: true, path: "x.zip".into(), ..known() };
        assert_eq!(by_set(&around).as_deref(), Some("Saltmarsh/Fogbell.zip"));
        let named = by_template("{system}/{title} ({region}) [{id}].{ext}", &known());
        assert!(!named.contains("()") && !named.contains("[]") && named.ends_with(".gb"), "{named}");
        assert!(!named.starts_with('/') && named.matches('/').count() == 0, "{named}");
    }

    #[test]
    fn a_template_names_only_what_there_is() {
        assert!(check_template("{set}/{name}").is_ok());
        for wrong in ["{titel}", "{title", "}", "../{name}", "/{name}", ""] {
            assert!(check_template(wrong).is_err(), "{wrong}");
        }
    }
}
