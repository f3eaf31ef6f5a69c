//! What names of dumps say in brackets, as lists of dumps are written: regions, languages, revisions, discs.

use crate::Item;

/// Regions that names of dumps have, as people write them.
const REGIONS: [&str; 24] = [
    "World",
    "Europe",
    "USA",
    "Japan",
    "Asia",
    "Australia",
    "Brazil",
    "Canada",
    "China",
    "France",
    "Germany",
    "Greece",
    "Hong Kong",
    "Italy",
    "Korea",
    "Netherlands",
    "Norway",
    "Poland",
    "Portugal",
    "Russia",
    "Spain",
    "Sweden",
    "Taiwan",
    "United Kingdom",
];

/// What a name says of its dump.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Tags {
    /// The name without what stands in brackets.
    pub(super) name: String,
    /// Regions, in their order.
    pub(super) regions: Vec<String>,
    /// Languages, by two letters in lowercase.
    pub(super) languages: Vec<String>,
    /// Everything else: revisions, discs, what makes it another title.
    pub(super) others: Vec<String>,
}

impl Tags {
    /// What a stem says.
    pub(super) fn of(stem: &str) -> Self {
        let mut own = Self::default();
        let mut rest = stem;
        while let Some(open) = rest.find(['(', '[']) {
            let close = if rest[open..].starts_with('(') { ')' } else { ']' };
            let Some(end) = rest[open..].find(close) else { break };
            own.name.push_str(&rest[..open]);
            own.tag(&rest[open + 1..open + end]);
            rest = &rest[open + end + 1..];
        }
        own.name.push_str(rest);
        own.name = own.name.split_whitespace().collect::<Vec<_>>().join(" ");
        if own.name.is_empty() {
            own.name = stem.to_owned();
        }
        own
    }

    /// The name with what may make it another title: neither regions nor languages, revisions and the like.
    pub(super) fn plain_name(&self) -> String {
        let kept = self.others.iter().filter(|tag| !is_variant(tag)).map(|tag| format!(" ({tag})"));
        std::iter::once(self.name.clone()).chain(kept).collect()
    }

    fn tag(&mut self, tag: &str) {
        let parts: Vec<&str> = tag.split(',').map(str::trim).filter(|part| !part.is_empty()).collect();
        let region = |part: &str| REGIONS.iter().find(|region| region.eq_ignore_ascii_case(part));
        if parts.is_empty() {
        } else if parts.iter().all(|part| region(part).is_some()) {
            self.regions.extend(parts.into_iter().filter_map(region).map(|region| (*region).to_owned()));
        } else if parts.iter().all(|part| is_language(part)) {
            self.languages.extend(parts.into_iter().map(|part| part[..2].to_lowercase()));
        } else {
            self.others.push(tag.to_owned());
        }
    }

    /// The same, with what the source says of itself where its name says nothing.
    pub(super) fn of_item(item: &Item) -> Self {
        let mut own = Self::of(&item.stem);
        if own.regions.is_empty() {
            let told = item.opened.get("region").unwrap_or_default();
            let has = |region: &&&str| told.to_lowercase().contains(&region.to_lowercase());
            own.regions = REGIONS.iter().filter(has).map(|region| (*region).to_owned()).collect();
        }
        own
    }
}

/// Whether a tag tells a variant of the same title, as lists of dumps use it. What is none may be a disc of a set, or another
/// title: that is never left out for being alike.
pub(super) fn is_variant(tag: &str) -> bool {
    let tag = tag.to_lowercase();
    let words =
        ["alt", "beta", "demo", "kiosk", "padded", "proto", "prototype", "sample", "scratched", "unl", "!", "again"];
    let is_numbered =
        |mark: &str| tag.strip_prefix(mark).is_some_and(|n| n.bytes().all(|b| b.is_ascii_digit() || b == b'.'));
    let begins = ["rev ", "beta ", "proto ", "alt "].iter().any(|word| tag.starts_with(word));
    begins || words.contains(&tag.as_str()) || ["v", "a", "b", "o"].into_iter().any(is_numbered)
}

/// Whether it is a language as such names have them: `En`, `Fr`, `Pt-BR`.
fn is_language(part: &str) -> bool {
    let mut letters = part.chars();
    let begins = letters.next().is_some_and(|c| c.is_ascii_uppercase())
        && letters.next().is_some_and(|c| c.is_ascii_lowercase());
    begins && matches!(letters.as_str().as_bytes(), [] | [b'-', _, _])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn regions_languages_and_the_rest_are_told_apart() {
        let tags = Tags::of("Kelp Courier (Europe, Australia) (En,Fr,Pt-BR) (Disc 2) [b]");
        assert_eq!(tags.name, "Kelp Courier");
        assert_eq!(tags.regions, ["Europe", "Australia"]);
        assert_eq!(tags.languages, ["en", "fr", "pt"]);
        assert_eq!(tags.others, ["Disc 2", "b"]);
        assert_eq!(tags.plain_name(), "Kelp Courier (Disc 2)");
    }

    #[test]
    fn brackets_that_do_not_close_are_part_of_the_name() {
        assert_eq!(Tags::of("Moth (Parade").name, "Moth (Parade");
        assert_eq!(Tags::of("(Europe)").name, "(Europe)");
        assert_eq!(Tags::of("A () B"), Tags { name: "A B".into(), ..Tags::default() });
    }

    proptest! {
        #[test]
        fn no_name_is_too_odd(stem in "[()\\[\\],a-zA-Zäß ]{0,40}") {
            let tags = Tags::of(&stem);
            prop_assert!(!tags.name.is_empty() || stem.is_empty());
        }
    }
}
