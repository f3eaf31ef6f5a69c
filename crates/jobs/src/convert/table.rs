//! What can become what: the one table that `convert` obeys and `identify` shows. A new target is a module and a line here.

use super::choice::{Choice, Choices};
use super::target::Target;
use super::{amiga, cartridge, cbm, content, disc, drive, folder, handheld, hybrid, moment, packed, playstation};

/// All targets, family by family, with what they are for.
static FAMILIES: [(&str, &[Target]); 12] = [
    ("images", &disc::TARGETS),
    ("images", &folder::TARGETS),
    ("compressed images", &packed::TARGETS),
    ("compressed images", &drive::TARGETS),
    ("disks", &cbm::TARGETS),
    ("disks", &moment::TARGETS),
    ("disks", &amiga::TARGETS),
    ("ROMs", &cartridge::TARGETS),
    ("packages", &handheld::TARGETS),
    ("packages", &hybrid::TARGETS),
    ("packages", &playstation::TARGETS),
    ("packages", &content::TARGETS),
];

/// What the targets that have a choice are for, each once.
pub fn kinds(choice: &Choice) -> Vec<&'static str> {
    let has = |targets: &[Target]| targets.iter().any(|t| t.has(choice.name));
    let mut kinds: Vec<&str> = FAMILIES.iter().filter(|(_, targets)| has(targets)).map(|(kind, _)| *kind).collect();
    kinds.dedup();
    kinds
}

/// The ids of all targets, by what they are for.
pub fn ids_by_kind() -> Vec<(&'static str, Vec<&'static str>)> {
    let mut all: Vec<(&str, Vec<&str>)> = Vec::new();
    for (kind, targets) in FAMILIES {
        let ids = targets.iter().map(|t| t.id);
        match all.iter_mut().find(|(known, _)| *known == kind) {
            Some((_, known)) => known.extend(ids),
            None => all.push((kind, ids.collect())),
        }
    }
    all
}

/// All targets, in the order in which they are listed.
pub fn targets() -> impl Iterator<Item = &'static Target> {
    FAMILIES.iter().flat_map(|(_, family)| family.iter())
}

/// The target with this id, in whatever case.
pub fn target(id: &str) -> Option<&'static Target> {
    targets().find(|t| t.id.eq_ignore_ascii_case(id))
}

/// Every choice that some target has, each once, in the order of the targets.
pub fn choices() -> Vec<&'static Choice> {
    let mut all: Vec<&'static Choice> = Vec::new();
    for choice in targets().flat_map(|t| t.options.iter().copied()) {
        if !all.iter().any(|known| known.name == choice.name) {
            all.push(choice);
        }
    }
    all
}

/// What was chosen, by names and values: `("level", "3")`; the value of one that has none does not count.
///
/// # Errors
/// What is wrong, in words.
pub fn chosen(words: &[(&str, &str)]) -> Result<Choices, String> {
    let all = choices();
    let mut given = Choices::default();
    for (name, value) in words {
        let choice = all.iter().find(|c| c.name == *name).ok_or_else(|| format!("no format has an option --{name}"))?;
        given.add(choice, choice.read(value)?);
    }
    Ok(given)
}

/// The targets that have a choice, for its help: "iso, xdvdfs, ROMs".
pub fn having(choice: &Choice) -> String {
    let (mut names, mut groups): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
    for target in targets().filter(|t| t.has(choice.name)) {
        match target.group {
            // A group stands for its members where all of them have the choice; that is asked once.
            Some(group) if groups.contains(&group) => {}
            Some(group) if targets().filter(|t| t.group == Some(group)).all(|t| t.has(choice.name)) => {
                groups.push(group);
                names.push(group);
            }
            _ => names.push(target.id),
        }
    }
    names.join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_unique_and_choices_are_one_each() {
        let ids: Vec<&str> = targets().map(|t| t.id).collect();
        for id in &ids {
            assert_eq!(ids.iter().filter(|i| i == &id).count(), 1, "{id}");
        }
        for target in targets() {
            assert!(
                !target.what.is_empty() && !target.made_of.is_empty() && !target.extension.is_empty(),
                "{}",
                target.id
            );
            for choice in target.options {
                let same = choices().into_iter().find(|c| c.name == choice.name).unwrap();
                assert!(std::ptr::eq(same, *choice), "--{} is declared twice", choice.name);
            }
        }
    }

    #[test]
    fn a_group_stands_for_its_members() {
        let of = |name: &str| having(choices().into_iter().find(|c| c.name == name).unwrap());
        assert_eq!(of("repair"), "cd-raw");
        assert_eq!(of("trim"), "ROMs, 3ds, xci");
        assert_eq!(of("header"), "smd, smc, nes");
    }
}
