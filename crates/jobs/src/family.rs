//! Titles of many sources, put together by what they say of themselves: which base, which update, which add-ons; and what is
//! wrong with a set.

use decanter_core::opened::{Opened, TitlePart};
use decanter_core::title::HeldTitle;
use serde::Serialize;
use std::collections::BTreeMap;

/// A title in a source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Member {
    /// The source.
    pub source: String,
    /// The number of the source, for whoever asks.
    #[serde(skip)]
    pub number: usize,
    /// What its source is called.
    #[serde(skip)]
    pub name: Option<String>,
    /// The title.
    pub title: HeldTitle,
}

impl Member {
    /// What it is: "update v131072 (update 2)", "add-on 3".
    pub fn what(&self) -> String {
        let title = &self.title;
        match (title.part, title.number) {
            (TitlePart::Program, _) => format!("base {}", title.version_text),
            (TitlePart::Update, _) => format!("update {}", title.version_text),
            (TitlePart::AddOn, Some(number)) => format!("add-on {number}, {}", title.version_text),
            _ => format!("{} {}", title.id, title.version_text),
        }
    }
}

/// What is wrong with a set of titles.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "fault", rename_all = "kebab-case")]
pub enum Fault {
    /// There is no base for what goes with one.
    NoBase,
    /// Two sources have different contents under the same title and version.
    Conflict {
        /// What both claim to be.
        what: String,
        /// The sources.
        sources: [String; 2],
    },
    /// An add-on needs a newer update than there is.
    NeedsUpdate {
        /// The add-on.
        what: String,
        /// Its source.
        source: String,
        /// The version that it needs.
        needs: u32,
    },
    /// A part is damaged, as far as headers tell.
    Damaged {
        /// The part.
        what: String,
        /// Its source.
        source: String,
        /// What is damaged.
        why: String,
    },
    /// Contents that a list names are not there.
    Missing {
        /// What lacks them.
        what: String,
        /// Its source.
        source: String,
        /// Which.
        contents: Vec<String>,
    },
}

impl Fault {
    /// The same in words.
    pub fn words(&self) -> String {
        match self {
            Self::NoBase => "the base is missing".into(),
            Self::Conflict { what, sources: [a, b] } => {
                format!("\"{a}\" and \"{b}\" both claim to be {what}, with different contents")
            }
            Self::NeedsUpdate { what, needs, .. } => format!("{what} needs an update of version {needs} or later"),
            Self::Damaged { what, source, why } => format!("{what} in \"{source}\" is damaged: {why}"),
            Self::Missing { what, source, contents } => {
                format!("{what} in \"{source}\" lacks contents: {}", contents.join(", "))
            }
        }
    }
}

/// All titles that go together.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Family {
    /// Id of the base.
    pub id: String,
    /// What the title is called, where a source says it.
    pub name: Option<String>,
    /// The base.
    pub base: Option<Member>,
    /// The newest update.
    pub update: Option<Member>,
    /// The add-ons, by their numbers.
    pub add_ons: Vec<Member>,
    /// Updates, bases and add-ons that a newer one takes the place of.
    pub superseded: Vec<Member>,
    /// Further copies of the same.
    pub doubled: Vec<Member>,
    /// What goes together with nothing that is merged: deltas, titles of the system.
    pub others: Vec<Member>,
    /// What is wrong.
    pub faults: Vec<Fault>,
}

impl Family {
    /// What a set is made of, in its order: base, update, add-ons.
    pub fn chosen(&self) -> impl Iterator<Item = &Member> {
        self.base.iter().chain(&self.update).chain(&self.add_ons)
    }

    /// The set in words: "base v0, update v131072 (update 2), 2 add-ons".
    pub fn words(&self) -> String {
        let mut parts: Vec<String> = self.base.iter().chain(&self.update).map(Member::what).collect();
        if !self.add_ons.is_empty() {
            parts.push(decanter_core::tell::count(self.add_ons.len() as u64, "add-on", "add-ons"));
        }
        if parts.is_empty() { "nothing that can be merged".into() } else { parts.join(", ") }
    }

    /// What is in it, as names of files say it: "1 base, 1 update, 3 add-ons".
    pub fn counts(&self) -> String {
        let count = |n: usize, one: &str, many: &str| decanter_core::tell::count(n as u64, one, many);
        let mut parts = Vec::new();
        parts.extend(self.base.iter().map(|_| count(1, "base", "bases")));
        parts.extend(self.update.iter().map(|_| count(1, "update", "updates")));
        if !self.add_ons.is_empty() {
            parts.push(count(self.add_ons.len(), "add-on", "add-ons"));
        }
        parts.join(", ")
    }
}

/// Whether a source holds an update whose base is not in it: its files stand over those of the base.
pub(crate) fn needs_base(opened: &Opened) -> bool {
    let has = |part: TitlePart| opened.holds.titles.iter().any(|t| t.part == part);
    has(TitlePart::Update) && !has(TitlePart::Program)
}

/// Puts titles together, whatever their order: families by the ids of their bases.
pub fn families(members: Vec<Member>) -> Vec<Family> {
    let mut by_id: BTreeMap<String, Vec<Member>> = BTreeMap::new();
    for member in members {
        by_id.entry(member.title.family.clone()).or_default().push(member);
    }
    by_id.into_iter().map(|(id, members)| family(id, members)).collect()
}

fn family(id: String, mut members: Vec<Member>) -> Family {
    // What is chosen must not depend on the order of the sources: the fewest contents missing, then the name.
    members.sort_by(|a, b| {
        let key =
            |m: &Member| (m.title.part, m.title.id.clone(), m.title.version, m.title.missing.len(), m.source.clone());
        key(a).cmp(&key(b))
    });
    let mut own = Family { id, name: name(&members), ..Family::default() };
    let mut kept: Vec<Member> = Vec::new();
    for member in members {
        let same = |k: &&Member| k.title.id == member.title.id && k.title.version == member.title.version;
        match kept.iter().find(same) {
            Some(first) if first.title.mark == member.title.mark => own.doubled.push(member),
            Some(first) => {
                let (what, sources) = (member.what(), [first.source.clone(), member.source.clone()]);
                own.faults.push(Fault::Conflict { what, sources });
            }
            None => kept.push(member),
        }
    }
    let mut newest: BTreeMap<String, Member> = BTreeMap::new();
    for member in kept {
        if !matches!(member.title.part, TitlePart::Program | TitlePart::Update | TitlePart::AddOn) {
            own.others.push(member);
            continue;
        }
        // They come by version: a later one takes the place of the one before.
        own.superseded.extend(newest.insert(member.title.id.clone(), member));
    }
    for member in newest.into_values() {
        match member.title.part {
            TitlePart::Program => own.base = Some(member),
            TitlePart::Update => own.update = Some(member),
            _ => own.add_ons.push(member),
        }
    }
    own.add_ons.sort_by_key(|m| m.title.number);
    let faults = faults(&own);
    own.faults.extend(faults);
    own
}

/// What the title is called: by the base, or by whatever says it.
fn name(members: &[Member]) -> Option<String> {
    let base = members.iter().find(|m| m.title.part == TitlePart::Program && m.name.is_some());
    base.or(members.iter().find(|m| m.name.is_some())).and_then(|m| m.name.clone())
}

fn faults(family: &Family) -> Vec<Fault> {
    let mut all = Vec::new();
    if family.base.is_none() && family.chosen().next().is_some() {
        all.push(Fault::NoBase);
    }
    let version = family.update.as_ref().map_or(0, |u| u.title.version);
    for add_on in &family.add_ons {
        if let Some(needs) = add_on.title.needs.filter(|needs| *needs > version) {
            all.push(Fault::NeedsUpdate { what: add_on.what(), source: add_on.source.clone(), needs });
        }
    }
    for member in family.chosen().filter(|m| !m.title.missing.is_empty()) {
        let (what, source, contents) = (member.what(), member.source.clone(), member.title.missing.clone());
        all.push(Fault::Missing { what, source, contents });
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn member(source: &str, id: u64, part: TitlePart, version: u32, mark: &str) -> Member {
        let title = HeldTitle {
            id: format!("{id:016X}"),
            family: "0500000000010000".into(),
            part,
            number: (part == TitlePart::AddOn).then_some(id & 0xfff),
            version,
            version_text: format!("v{version}"),
            needs: None,
            missing: Vec::new(),
            mark: mark.into(),
            bytes: 1,
        };
        Member { source: source.into(), number: 0, name: None, title }
    }

    fn whole() -> Vec<Member> {
        vec![
            member("base", 0x10000, TitlePart::Program, 0, "a"),
            member("one", 0x10800, TitlePart::Update, 1 << 16, "b"),
            member("two", 0x10800, TitlePart::Update, 2 << 16, "c"),
            member("extra 2", 0x11002, TitlePart::AddOn, 0, "d"),
            member("extra 1", 0x11001, TitlePart::AddOn, 0, "e"),
            member("extra 1, again", 0x11001, TitlePart::AddOn, 0, "e"),
        ]
    }

    #[test]
    fn the_newest_of_each_is_chosen() {
        let found = families(whole());
        let own = &found[0];
        let chosen: Vec<&str> = own.chosen().map(|m| m.source.as_str()).collect();
        assert_eq!((found.len(), chosen), (1, vec!["base", "two", "extra 1", "extra 2"]));
        assert_eq!(own.superseded.iter().map(|m| m.source.as_str()).collect::<Vec<_>>(), ["one"]);
        assert_eq!(own.doubled.iter().map(|m| m.source.as_str()).collect::<Vec<_>>(), ["extra 1, again"]);
        assert_eq!((own.faults.len(), own.counts()), (0, "1 base, 1 update, 2 add-ons".into()));
    }

    #[test]
    fn what_is_wrong_is_told() {
        let faults =
            |members: Vec<Member>| -> Vec<String> { families(members)[0].faults.iter().map(Fault::words).collect() };
        assert_eq!(faults(whole()[1..].to_vec()), ["the base is missing"]);
        let mut other = whole();
        other.push(member("another base", 0x10000, TitlePart::Program, 0, "z"));
        assert_eq!(faults(other), ["\"another base\" and \"base\" both claim to be base v0, with different contents"]);
        let mut needy = whole();
        needy[3].title.needs = Some(3 << 16);
        needy[0].title.missing = vec!["x.nca (program)".into()];
        let told = faults(needy);
        assert!(told[0].contains("add-on 2, v0 needs an update of version 196608"), "{told:?}");
        assert!(told[1].contains("base v0 in \"base\" lacks contents: x.nca (program)"), "{told:?}");
    }

    proptest! {
        #[test]
        fn the_order_of_sources_changes_nothing(order in Just((0..6usize).collect::<Vec<_>>()).prop_shuffle()) {
            let all = whole();
            let shuffled = order.iter().map(|i| all[*i].clone()).collect();
            prop_assert_eq!(families(shuffled), families(all));
        }
    }
}
