//! What folders and files are called in either tree, and in which order they stand.

use std::collections::HashSet;

/// Which of the two trees is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Names {
    Plain,
    Joliet,
}

/// Characters of an ECMA-119 file name and extension together (7.5.1), and of a folder's name (7.6.1).
const MOST_PLAIN: usize = 30;
/// Characters of an extension.
const MOST_EXTENSION: usize = 8;
/// The longest identifier that has room in a record of 255 bytes.
const LONGEST: usize = 221;
/// Signs beyond those of 7.4.1 that names of console discs have, and that everything reads which loads them.
pub(super) const KEPT: &str = "-~!#$%&'()@^`{}+=,[]";

/// Text in the two bytes a character of Joliet, high byte first.
pub(super) fn ucs2(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_be_bytes).collect()
}

/// Capitals, digits and underscores (7.4.1), and whatever else `allowed` names.
pub(super) fn d_characters(text: &str, allowed: &str) -> String {
    let keep = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_' || allowed.contains(c);
    text.to_uppercase().chars().map(|c| if keep(c) { c } else { '_' }).collect()
}

/// An ECMA-119 name for `name` that is not in `taken` yet. Files have exactly one dot.
pub(super) fn plain_name(name: &str, is_file: bool, taken: &mut HashSet<String>) -> String {
    let (stem, extension) = match name.rsplit_once('.') {
        Some((stem, extension)) if is_file => (stem, extension),
        _ => (name, ""),
    };
    let stem = d_characters(stem, KEPT);
    let extension: String = d_characters(extension, KEPT).chars().take(MOST_EXTENSION).collect();
    for number in 0.. {
        let mark = if number == 0 { String::new() } else { format!("_{number}") };
        let room = MOST_PLAIN - extension.len() - mark.len();
        let stem: String = stem.chars().take(room).collect();
        let candidate = if is_file { format!("{stem}{mark}.{extension}") } else { format!("{stem}{mark}") };
        if taken.insert(candidate.clone()) {
            return candidate;
        }
    }
    unreachable!("some number is free")
}

/// A key by which identifiers are in the order of 9.3: name, then extension, then version, the shorter of two filled up
/// with spaces; with zeros in Joliet, where each character has two bytes.
pub(super) fn key(identifier: &[u8], names: Names) -> Vec<u8> {
    let (width, filler) = if names == Names::Plain { (1, b' ') } else { (2, 0) };
    let is = |unit: &[u8], c: u8| unit.last() == Some(&c) && unit.iter().rev().skip(1).all(|b| *b == 0);
    let units: Vec<&[u8]> = identifier.chunks(width).collect();
    let version = units.iter().rposition(|u| is(u, b';')).unwrap_or(units.len());
    let dot = units[..version].iter().rposition(|u| is(u, b'.')).unwrap_or(version);
    let mut key = Vec::new();
    for part in [&units[..dot], &units[(dot + 1).min(version)..version]] {
        let end = key.len() + LONGEST / width * width;
        key.extend(part.iter().flat_map(|u| u.iter().copied()));
        key.resize(end.max(key.len()), filler);
    }
    key
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_names_are_capitals_and_unique() {
        let mut taken = HashSet::new();
        let mut file = |name: &str| plain_name(name, true, &mut taken);
        assert_eq!(file("pier nine.dat"), "PIER_NINE.DAT");
        assert_eq!(file("pier.nine.dat"), "PIER_NINE_1.DAT");
        assert_eq!(file("readme"), "README.");
        assert_eq!(file("gullw\u{ef}ng.b\u{e4}se-x"), "GULLW_NG.B_SE-X");
        assert_eq!(file(&format!("{}.text", "k".repeat(40))), format!("{}.TEXT", "K".repeat(26)));
        assert_eq!(file(&format!("{}.text", "k".repeat(41))), format!("{}_1.TEXT", "K".repeat(24)));
        assert_eq!(file("a.extensions"), "A.EXTENSIO");
        assert_eq!(plain_name("v1.2", false, &mut HashSet::new()), "V1_2", "a folder has no dot");
    }

    #[test]
    fn a_shorter_name_stands_where_its_filler_puts_it() {
        let order = |names: Names, all: &[&str]| {
            let keys = all.iter().map(|n| match names {
                Names::Plain => key(n.as_bytes(), names),
                Names::Joliet => key(&ucs2(n), names),
            });
            keys.collect::<Vec<_>>().is_sorted()
        };
        // "A" is filled with spaces, which stand before "!" and "-"; the extension counts after the whole name.
        assert!(order(Names::Plain, &["A.Z;1", "A!.A;1", "A-B.A;1", "AB.;1", "AB.A;1"]));
        assert!(order(Names::Joliet, &["a.z;1", "a .a;1", "a!.a;1", "ab.;1", "ab.a;1", "\u{1f41a}.a;1"]));
    }
}
