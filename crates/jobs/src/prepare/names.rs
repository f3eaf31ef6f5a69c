//! What results are called: by the template of a profile, in characters and lengths that the machine takes, each once.

use super::profile::{Characters, NameRules};
use super::tags::Tags;
use crate::Item;
use crate::label::title_in;
use decanter_core::names;
use std::collections::HashSet;

/// What stands for each placeholder of one source.
pub(super) struct Values {
    stem: String,
    tags: Tags,
    title: Option<String>,
    id: String,
    platform: &'static str,
}

impl Values {
    /// Those of a source; its title in the first of `languages` that it has one in.
    pub(super) fn of(item: &Item, tags: Tags, platform: &'static str, languages: &[String]) -> Self {
        let label = item.opened.told.label.as_ref();
        let in_language = label.and_then(|label| languages.iter().find_map(|code| title_in(&label.titles, code)));
        let title = in_language.or_else(|| item.opened.identity.title.clone()).filter(|t| !t.trim().is_empty());
        let id = item.opened.identity.id.clone().unwrap_or_default();
        Self { stem: item.stem.clone(), tags, title, id, platform }
    }

    /// What it is called on screens.
    pub(super) fn title(&self) -> String {
        self.title.clone().unwrap_or_else(|| self.tags.plain_name())
    }

    /// The template with everything in its place; brackets around nothing are gone.
    fn filled(&self, template: &str) -> String {
        let name = self.tags.plain_name();
        let title = self.title.as_deref().unwrap_or(&name);
        let pairs = [
            ("{stem}", self.stem.as_str()),
            ("{name}", name.as_str()),
            ("{title}", title),
            ("{id}", self.id.as_str()),
            ("{region}", self.tags.regions.first().map_or("", String::as_str)),
            ("{platform}", self.platform),
        ];
        let mut out = String::new();
        let mut rest = template;
        // In one go: what stands in a source is no placeholder.
        while let Some(at) = rest.find('{') {
            out.push_str(&rest[..at]);
            rest = &rest[at..];
            match pairs.iter().find(|(name, _)| rest.starts_with(name)) {
                Some((name, value)) => {
                    out.push_str(value);
                    rest = &rest[name.len()..];
                }
                None => {
                    out.push('{');
                    rest = &rest[1..];
                }
            }
        }
        out.push_str(rest);
        let out = out.replace("()", " ").replace("[]", " ");
        let out = out.split_whitespace().collect::<Vec<_>>().join(" ");
        if out.is_empty() { "_".into() } else { out }
    }
}

/// A name in characters that the machine takes; what it does not take is told by others.
fn spelled(name: &str, characters: Characters) -> String {
    let plain = |c: char| match c {
        'ä' | 'á' | 'à' | 'â' | 'ã' | 'å' => "a",
        'Ä' | 'Á' | 'À' | 'Â' | 'Ã' | 'Å' => "A",
        'é' | 'è' | 'ê' | 'ë' => "e",
        'É' | 'È' | 'Ê' | 'Ë' => "E",
        'í' | 'ì' | 'î' | 'ï' => "i",
        'ö' | 'ó' | 'ò' | 'ô' | 'õ' | 'ø' => "o",
        'Ö' | 'Ó' | 'Ò' | 'Ô' | 'Õ' | 'Ø' => "O",
        'ü' | 'ú' | 'ù' | 'û' => "u",
        'Ü' | 'Ú' | 'Ù' | 'Û' => "U",
        'ß' => "ss",
        'ç' => "c",
        'ñ' => "n",
        'æ' => "ae",
        _ => "_",
    };
    let mut out = String::new();
    for c in name.chars() {
        match characters {
            Characters::Fat => out.push(c),
            Characters::Ascii if c.is_ascii() => out.push(c),
            Characters::Plain if c.is_ascii_alphanumeric() || matches!(c, '-' | '_') => out.push(c),
            Characters::Plain if c.is_ascii() => out.push('_'),
            _ => out.push_str(plain(c)),
        }
    }
    match characters {
        // Of what cannot be said one sign is enough.
        Characters::Plain => {
            let words = out.split('_').filter(|w| !w.is_empty());
            words.collect::<Vec<_>>().join("_")
        }
        _ => out,
    }
}

/// Gives names away, each once in its folder.
#[derive(Default)]
pub(super) struct Names {
    taken: HashSet<String>,
}

impl Names {
    /// The path of a result below the card. `extension` has its dot; it may be empty.
    pub(super) fn path(
        &mut self,
        folder: &str,
        template: &str,
        extension: &str,
        values: &Values,
        rules: &NameRules,
    ) -> String {
        let wanted = spelled(&values.filled(template), rules.characters);
        let mut number = 1;
        loop {
            let mark = match number {
                1 => String::new(),
                // An id tells more than a number.
                2 if !values.id.is_empty() && !wanted.contains(&values.id) => format!(" [{}]", values.id),
                n => format!(" {n}"),
            };
            let mark = spelled(&mark, rules.characters);
            let mark =
                if rules.characters == Characters::Plain && !mark.is_empty() { format!("_{mark}") } else { mark };
            let room = rules.longest.saturating_sub(mark.chars().count() + extension.chars().count()).max(1);
            let cut: String = wanted.chars().take(room).collect();
            let name = names::file_name(&format!("{}{mark}{extension}", cut.trim_end()));
            if let Some(path) = self.claim(folder, &name) {
                return path;
            }
            number += 1;
        }
    }

    /// A path that was chosen otherwise; `None` if it is taken.
    pub(super) fn claim(&mut self, folder: &str, name: &str) -> Option<String> {
        let path = decanter_core::store::join(folder.trim_matches('/'), name);
        self.taken.insert(path.to_lowercase()).then_some(path)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn values(stem: &str, id: &str) -> Values {
        Values { stem: stem.into(), tags: Tags::of(stem), title: None, id: id.into(), platform: "psp" }
    }

    fn path(names: &mut Names, template: &str, values: &Values, rules: &NameRules) -> String {
        names.path("ISO/", template, ".cso", values, rules)
    }

    #[test]
    fn templates_are_filled_and_empty_brackets_go() {
        let mut names = Names::default();
        let rules = NameRules::default();
        let own = values("Moth Parade (Europe)", "MPRD-00001");
        assert_eq!(path(&mut names, "{name} [{id}]", &own, &rules), "ISO/Moth Parade [MPRD-00001].cso");
        assert_eq!(path(&mut names, "{name} [{id}]", &values("Fogbell", ""), &rules), "ISO/Fogbell.cso");
        assert_eq!(path(&mut names, "{title} ({region})", &own, &rules), "ISO/Moth Parade (Europe).cso");
        // What stands in a name is no placeholder, and no folder.
        assert_eq!(path(&mut names, "{stem}", &values("{id}/../x", "7"), &rules), "ISO/{id}_.._x.cso");
    }

    #[test]
    fn names_are_given_once_in_whatever_case() {
        let mut names = Names::default();
        let rules = NameRules::default();
        assert_eq!(path(&mut names, "{name}", &values("Fogbell (USA)", "F-1"), &rules), "ISO/Fogbell.cso");
        assert_eq!(path(&mut names, "{name}", &values("FOGBELL", "F-2"), &rules), "ISO/FOGBELL [F-2].cso");
        assert_eq!(path(&mut names, "{name}", &values("fogbell", ""), &rules), "ISO/fogbell 2.cso");
    }

    #[test]
    fn characters_and_lengths_are_those_of_the_machine() {
        let rules = |characters, longest| NameRules { characters, longest, ..NameRules::default() };
        let mut names = Names::default();
        let own = values("Möwe & Nebel, große Fahrt", "");
        assert_eq!(
            path(&mut names, "{stem}", &own, &rules(Characters::Ascii, 99)),
            "ISO/Mowe & Nebel, grosse Fahrt.cso"
        );
        assert_eq!(path(&mut names, "{stem}", &own, &rules(Characters::Plain, 99)), "ISO/Mowe_Nebel_grosse_Fahrt.cso");
        assert_eq!(path(&mut names, "{stem}", &own, &rules(Characters::Plain, 12)), "ISO/Mowe_Neb.cso");
        assert_eq!(path(&mut names, "{stem}", &own, &rules(Characters::Plain, 12)), "ISO/Mowe_N_2.cso");
    }

    proptest! {
        #[test]
        fn every_name_fits(stems in proptest::collection::vec(".{0,40}", 1..12), longest in 8usize..60) {
            let mut names = Names::default();
            let rules = NameRules { longest, characters: Characters::Ascii, ..NameRules::default() };
            let mut seen = HashSet::new();
            for stem in stems {
                let path = path(&mut names, "{stem}", &values(&stem, ""), &rules);
                let name = path.strip_prefix("ISO/").unwrap().to_owned();
                prop_assert!(name.chars().count() <= longest && !name.contains('/'), "{}", name);
                prop_assert!(seen.insert(name.to_lowercase()));
            }
        }
    }
}
