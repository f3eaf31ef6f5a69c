//! Images that were cut into parts so that a file system with a size limit could hold them.

use std::collections::{BTreeMap, HashSet};

/// Whether a name ends in a number, so that it is worth looking for the other parts.
pub fn is_numbered(name: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, end)| !end.is_empty() && end.bytes().all(|b| b.is_ascii_digit()))
}

/// The names of the parts that belong to `name`, in order, among the `names` of its folder: itself
/// included, and at least two. `None` if `name` is not such a part.
///
/// Known are `disc.iso.0`, `disc.iso.1` … (counted from 0 or 1, with or without leading zeros) and
/// `disc.66600`, `disc.66601` ….
pub fn parts(name: &str, names: &[String]) -> Option<Vec<String>> {
    let (stem, digits) = name.rsplit_once('.')?;
    if digits.len() > 5 || !is_numbered(name) {
        return None;
    }
    let number: u32 = digits.parse().ok()?;
    let base = if digits.len() == 5 && (66_600..66_700).contains(&number) { 66_600 } else { 0 };
    let names: HashSet<&str> = names.iter().map(String::as_str).collect();
    let set = |width: usize| {
        let spell = |n: u32| format!("{stem}.{n:0width$}");
        let has = |n: u32| names.contains(spell(n).as_str());
        let first = if has(base) { base } else { base + 1 };
        if number < first {
            return None;
        }
        let found: Vec<String> = (first..).take_while(|&n| has(n)).map(spell).collect();
        (found.len() > 1 && found.iter().any(|f| f == name)).then_some(found)
    };
    // The tenth part of a set without leading zeros has more digits than the first.
    set(digits.len()).or_else(|| set(1))
}

/// The name of the first part that is missing among the `names` of a folder, if later ones of the set that `name` belongs
/// to are there. Numbers far beyond what that set would have are other things that are called alike.
pub fn gap(name: &str, names: &[String]) -> Option<String> {
    let (stem, digits) = name.rsplit_once('.').filter(|(_, d)| is_numbered(name) && d.len() <= 5)?;
    let width = |n: &str| if n.starts_with('0') || n.len() >= digits.len() { n.len().min(digits.len()) } else { 1 };
    let numbers: BTreeMap<u32, &str> = names
        .iter()
        .filter_map(|n| n.strip_prefix(stem)?.strip_prefix('.'))
        .filter(|d| !d.is_empty() && d.len() <= 5 && d.bytes().all(|b| b.is_ascii_digit()))
        .filter_map(|d| Some((d.parse().ok()?, d)))
        .collect();
    let (first, spelled) = numbers.first_key_value()?;
    let (last, _) = numbers.last_key_value()?;
    let begins = matches!(first, 0 | 1 | 66_600 | 66_601);
    let near = *last < first + 2 * numbers.len() as u32 + 8;
    let missing = (*first..*last).find(|n| !numbers.contains_key(n)).filter(|_| begins && near && numbers.len() > 1)?;
    let width = width(spelled);
    Some(format!("{stem}.{missing:0width$}"))
}

/// The name of the whole image that `name` is a part of: `disc.iso.0` is a part of `disc.iso`.
pub fn whole_name(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(list: &[&str]) -> Vec<String> {
        list.iter().map(|s| (*s).to_owned()).collect()
    }

    #[test]
    fn parts_are_found_from_any_of_them_and_in_order() {
        let folder = names(&["a.iso.1", "a.iso.10", "a.iso.0", "a.iso.2", "b.iso.0", "a.iso"]);
        let want = names(&["a.iso.0", "a.iso.1", "a.iso.2"]);
        assert_eq!(parts("a.iso.0", &folder), Some(want.clone()));
        assert_eq!(parts("a.iso.2", &folder), Some(want));
        assert_eq!(parts("a.iso.10", &folder), None, "3 to 9 are missing");
        let many: Vec<String> = (0..12).map(|n| format!("c.iso.{n}")).collect();
        assert_eq!(parts("c.iso.11", &many).as_ref(), Some(&many));
        assert_eq!(parts("c.iso.3", &many).as_ref(), Some(&many));
        assert_eq!(parts("b.iso.0", &folder), None, "one part is a whole");
        assert_eq!(parts("a.iso", &folder), None);
    }

    #[test]
    fn a_part_that_is_missing_is_named() {
        let gap = |list: &[&str], name: &str| gap(name, &names(list));
        let some = ["a.iso.1", "a.iso.10", "a.iso.0", "a.iso.2", "b.iso.0", "a.iso"];
        assert_eq!(gap(&some, "a.iso.0").as_deref(), Some("a.iso.3"));
        assert_eq!(gap(&some, "a.iso.10").as_deref(), Some("a.iso.3"));
        assert_eq!(gap(&some, "b.iso.0"), None);
        assert_eq!(gap(&["a.001", "a.003"], "a.001").as_deref(), Some("a.002"));
        assert_eq!(gap(&["a.66600", "a.66602"], "a.66600").as_deref(), Some("a.66601"));
        assert_eq!(gap(&["log.1", "log.900"], "log.1"), None, "these are no parts");
        assert_eq!(gap(&["a.001", "a.002"], "a.002"), None);
        assert_eq!(gap(&["v.7", "v.9"], "v.7"), None, "a set has a beginning");
    }

    #[test]
    fn numbered_suffixes_of_three_digits_and_66600_count_too() {
        assert_eq!(parts("a.001", &names(&["a.001", "a.002"])), Some(names(&["a.001", "a.002"])));
        assert_eq!(parts("a.66601", &names(&["a.66600", "a.66601"])), Some(names(&["a.66600", "a.66601"])));
        assert_eq!(whole_name("a.iso.0"), "a.iso");
    }
}
