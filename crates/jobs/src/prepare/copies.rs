//! Copies of one title for several regions: which of them is taken.

use super::profile::ChoiceRules;
use super::tags::{Tags, is_variant};
use std::collections::BTreeMap;

/// What a reason begins with, where another copy is taken.
pub const ANOTHER_COPY: &str = "another copy of it goes first: ";

/// A source among others.
#[derive(Debug, Clone)]
pub(super) struct Copy {
    /// What its name says.
    pub(super) tags: Tags,
    /// What makes it another thing than a copy: platform, part of a title, kind.
    pub(super) apart: String,
    /// The id that its platform gave it.
    pub(super) id: Option<String>,
    /// Its source, to tell.
    pub(super) source: String,
}

/// Why each source is left out, where it is.
pub(super) fn left_out(copies: &[Copy], rules: &ChoiceRules) -> Vec<Option<String>> {
    let mut why: Vec<Option<String>> = copies.iter().map(|copy| wrong_region(copy, rules)).collect();
    if !rules.one_each {
        return why;
    }
    let mut groups: Vec<Vec<usize>> = Vec::new();
    let (mut by_name, mut by_id) = (BTreeMap::new(), BTreeMap::new());
    for (at, copy) in copies.iter().enumerate().filter(|(at, _)| why[*at].is_none()) {
        let apart = copy.tags.others.iter().filter(|tag| !is_variant(tag));
        let discs: Vec<String> = apart.map(|tag| tag.to_lowercase()).collect();
        let name = (copy.apart.clone(), copy.tags.name.to_lowercase(), discs.clone());
        let id = copy.id.clone().map(|id| (copy.apart.clone(), id, discs));
        let known = by_name.get(&name).or_else(|| id.as_ref().and_then(|id| by_id.get(id))).copied();
        let group = known.unwrap_or_else(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        groups[group].push(at);
        by_name.entry(name).or_insert(group);
        if let Some(id) = id {
            by_id.entry(id).or_insert(group);
        }
    }
    for group in groups {
        let Some(best) = group.iter().copied().min_by_key(|at| rank(&copies[*at], rules)) else { continue };
        for at in group.into_iter().filter(|at| *at != best) {
            why[at] = Some(format!("{ANOTHER_COPY}\"{}\"", copies[best].source));
        }
    }
    why
}

fn wrong_region(copy: &Copy, rules: &ChoiceRules) -> Option<String> {
    let regions = &copy.tags.regions;
    let wanted = |region: &String| rules.regions.iter().any(|r| r.eq_ignore_ascii_case(region));
    let is_wrong = rules.only_these_regions && !regions.is_empty() && !regions.iter().any(wanted);
    is_wrong.then(|| format!("it is for {}, which the profile does not take", regions.join(", ")))
}

/// The better, the less.
fn rank(copy: &Copy, rules: &ChoiceRules) -> impl Ord + use<> {
    let place = |list: &[String], wanted: &[String]| {
        let at = |w: &String| list.iter().any(|l| l.eq_ignore_ascii_case(w));
        wanted.iter().position(at).unwrap_or(wanted.len())
    };
    let region = place(&copy.tags.regions, &rules.regions);
    let language = place(&copy.tags.languages, &rules.languages);
    let revision = |tag: &String| tag.to_lowercase().strip_prefix("rev ").map(str::to_owned);
    let latest = copy.tags.others.iter().filter_map(revision).max().unwrap_or_default();
    let is_odd = |tag: &&String| is_variant(tag) && *tag != "!" && revision(tag).is_none();
    let odd = copy.tags.others.iter().filter(is_odd).count();
    // Of what is alike the plainest: nothing around it, the shorter path.
    let place = (copy.source.contains("::"), copy.source.len(), copy.source.clone());
    (region, language, odd, std::cmp::Reverse(latest), place)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(names: &[&str], rules: &ChoiceRules) -> Vec<String> {
        let copy = |name: &&str| {
            let (stem, id) = name.split_once('#').map_or((*name, None), |(stem, id)| (stem, Some(id.to_owned())));
            Copy { tags: Tags::of(stem), apart: "psp".into(), id, source: stem.into() }
        };
        let copies: Vec<Copy> = names.iter().map(copy).collect();
        let why = left_out(&copies, rules);
        copies.iter().zip(&why).filter(|(_, why)| why.is_none()).map(|(copy, _)| copy.source.clone()).collect()
    }

    fn rules(one_each: bool) -> ChoiceRules {
        let words = |list: &[&str]| list.iter().map(|w| (*w).to_owned()).collect();
        ChoiceRules {
            one_each,
            regions: words(&["Europe", "USA"]),
            languages: words(&["en"]),
            ..ChoiceRules::default()
        }
    }

    const ALL: [&str; 6] =
        ["Moth (USA)", "Moth (Europe) (Fr)", "Moth (Europe) (En,De)", "Moth (Japan)", "Kelp (Disc 1)", "Kelp (Disc 2)"];

    #[test]
    fn region_goes_before_language_and_discs_are_no_copies() {
        assert_eq!(taken(&ALL, &rules(true)), ["Moth (Europe) (En,De)", "Kelp (Disc 1)", "Kelp (Disc 2)"]);
        assert_eq!(taken(&ALL, &rules(false)).len(), 6);
    }

    #[test]
    fn a_later_revision_goes_first_and_odd_ones_last() {
        let all = ["Moth (Europe) (Rev 1)", "Moth (Europe)", "Moth (Europe) (Beta)"];
        assert_eq!(taken(&all, &rules(true)), ["Moth (Europe) (Rev 1)"]);
        assert_eq!(taken(&all[1..], &rules(true)), ["Moth (Europe)"]);
    }

    #[test]
    fn the_same_id_is_the_same_title_whatever_it_is_called() {
        assert_eq!(taken(&["Moth#M-1", "moth dump#M-1", "Gull#G-1"], &rules(true)), ["Moth", "Gull"]);
    }

    #[test]
    fn what_may_be_another_title_is_not_left_out() {
        assert_eq!(
            taken(&["Moth", "Moth (Deep Water)", "Moth (Beta)", "Moth [b1]"], &rules(true)),
            ["Moth", "Moth (Deep Water)"]
        );
    }

    #[test]
    fn other_regions_can_be_left_out_and_what_says_none_stays() {
        let rules = ChoiceRules { only_these_regions: true, ..rules(false) };
        assert_eq!(taken(&["Moth (Japan)", "Moth (USA)", "Moth"], &rules), ["Moth (USA)", "Moth"]);
    }
}
