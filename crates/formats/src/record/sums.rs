//! Checksum lists: what `sha256sum` and its kin write, the tagged form, and .sfv.
//!
//! | form | a line |
//! | --- | --- |
//! | plain | digest, a space, a space or `*`, the name; a `\` before the digest if the name is escaped |
//! | tagged | `SHA256 (name) = digest` |
//! | .sfv | the name, spaces, CRC-32; lines that begin with `;` are remarks |

use decanter_core::catalogue::{Catalogue, Entry};
use decanter_core::digest::{Algorithm, unhex};
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Error, Result};
use std::sync::Arc;

const ID: &str = "sums";
/// A list of a million files.
const MOST_BYTES: u64 = 256 << 20;
/// Lines of the beginning that are looked at.
const MOST_LOOKED: usize = 20;
/// Bytes of the beginning that are looked at.
const HEAD: u64 = 16 << 10;

/// The format.
pub struct Sums;

impl Format for Sums {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "checksum list"
    }

    fn role(&self) -> Role {
        Role::Description
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["sfv", "md5", "sha1", "sha256"]
    }

    fn reads(&self) -> &'static str {
        "lists of sha256sum and its kin with escaped names, tagged lists, .sfv"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        let len = source.len().min(HEAD);
        let head = read_vec(source, 0, len, "a beginning", HEAD)?;
        if head.contains(&0) || head.is_empty() {
            return Ok(None);
        }
        let text = String::from_utf8_lossy(&head);
        let mut lines: Vec<&str> = text.lines().filter(|l| !is_remark(l)).collect();
        if len < source.len() {
            // The last line may be cut.
            lines.pop();
        }
        let lines = &lines[..lines.len().min(MOST_LOOKED)];
        let all = !lines.is_empty() && lines.iter().all(|l| parse(l).is_some());
        Ok(all.then_some(70))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let bytes = read_vec(source.as_ref(), 0, source.len(), "a checksum list", MOST_BYTES)?;
        let text = String::from_utf8_lossy(&bytes);
        let mut catalogue = Catalogue::default();
        catalogue.is_list = true;
        let (mut offset, mut odd) = (0u64, Vec::new());
        for (index, line) in text.split_inclusive('\n').enumerate() {
            let here = offset;
            offset += line.len() as u64;
            let line = line.trim_end_matches(['\n', '\r']);
            if is_remark(line) {
                continue;
            }
            match parse(line) {
                Some((name, algorithm, digest)) => {
                    let mut entry = Entry { name: name.into(), ..Entry::default() };
                    if entry.sums.set(algorithm, &digest) {
                        catalogue.push(entry);
                    }
                }
                None => odd.push((index + 1, here)),
            }
        }
        if catalogue.entries().is_empty() {
            return Err(Error::malformed(ID, "no line has a digest and a name", 0));
        }
        let catalogue = catalogue.finish();
        let mut opened = Opened::new(ID, "checksum list");
        opened.fact("entries", catalogue.entries().len().to_string());
        let names: Vec<&str> = catalogue.algorithms().iter().map(|a| a.name()).collect();
        opened.fact("digests", names.join(", "));
        if let Some((line, _)) = odd.first() {
            opened.notice(format!("{} lines have no digest and name; the first is line {line}", odd.len()));
        }
        opened.holds.catalogue = Some(Arc::new(catalogue));
        Ok(opened)
    }
}

fn is_remark(line: &str) -> bool {
    let line = line.trim();
    line.is_empty() || line.starts_with([';', '#'])
}

fn of_len(digits: &str) -> Option<(Algorithm, Vec<u8>)> {
    let algorithm = match digits.len() {
        8 => Algorithm::Crc32,
        32 => Algorithm::Md5,
        40 => Algorithm::Sha1,
        64 => Algorithm::Sha256,
        _ => return None,
    };
    Some((algorithm, unhex(digits, &mut [0; 32])?.to_vec()))
}

/// Name, algorithm and digest of a line in any of the three forms; `None` for a line that is none of them.
pub fn parse(line: &str) -> Option<(String, Algorithm, Vec<u8>)> {
    let (escaped, rest) = line.strip_prefix('\\').map_or((false, line), |r| (true, r));
    let named = |name: &str| if escaped { unescape(name) } else { name.to_owned() };
    // Tagged: the name may hold parentheses itself, so the last ") = " ends it.
    if let Some((tag, tail)) = rest.split_once(" (")
        && let Some((name, digits)) = tail.rsplit_once(") = ")
        && let Ok(algorithm) = tag.trim_start_matches("SHA2-").parse::<Algorithm>().or_else(|_| tag.parse())
    {
        let (found, bytes) = of_len(digits.trim())?;
        return (found == algorithm).then(|| (named(name), found, bytes));
    }
    if let Some((digits, tail)) = rest.split_once(' ')
        && digits.len() >= 32
        && let Some((algorithm, bytes)) = of_len(digits)
    {
        let name = tail.strip_prefix(['*', ' ']).unwrap_or(tail);
        return (!name.is_empty()).then(|| (named(name), algorithm, bytes));
    }
    let (name, digits) = line.trim_end().rsplit_once([' ', '\t'])?;
    let (algorithm, bytes) = of_len(digits).filter(|(a, _)| *a == Algorithm::Crc32)?;
    let name = name.trim_end();
    (!name.is_empty()).then(|| (name.to_owned(), algorithm, bytes))
}

/// A name as checksum programs write it: the backslash that the line begins with if something in the name is escaped,
/// and the name.
pub fn escaped(name: &str) -> (&'static str, String) {
    if !name.contains(['\\', '\n', '\r']) {
        return ("", name.to_owned());
    }
    ("\\", name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r"))
}

/// A name in which `\n`, `\r` and `\\` stand for what they mean.
fn unescape(name: &str) -> String {
    let mut plain = String::new();
    let mut chars = name.chars();
    while let Some(c) = chars.next() {
        match (c, if c == '\\' { chars.next() } else { None }) {
            ('\\', Some('n')) => plain.push('\n'),
            ('\\', Some('r')) => plain.push('\r'),
            ('\\', Some(other)) => plain.push(other),
            (c, _) => plain.push(c),
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_three_forms() {
        let md5 = "d41d8cd98f00b204e9800998ecf8427e";
        let name = |line: &str| parse(line).map(|(name, algorithm, _)| (name, algorithm));
        assert_eq!(name(&format!("{md5}  a b.iso")), Some(("a b.iso".into(), Algorithm::Md5)));
        assert_eq!(name(&format!("{md5} *a.iso")), Some(("a.iso".into(), Algorithm::Md5)));
        assert_eq!(name(&format!("\\{md5}  a\\nb\\\\c")), Some(("a\nb\\c".into(), Algorithm::Md5)));
        assert_eq!(name(&format!("MD5 (a (1).iso) = {md5}")), Some(("a (1).iso".into(), Algorithm::Md5)));
        assert_eq!(name("Pier Nine.bin cbf43926"), Some(("Pier Nine.bin".into(), Algorithm::Crc32)));
        assert_eq!(name("just some words"), None);
        assert_eq!(name(md5), None);
    }

    #[test]
    fn names_are_escaped_as_checksum_programs_do() {
        assert_eq!(escaped("plain name.iso"), ("", "plain name.iso".into()));
        assert_eq!(escaped("a\\b\nc"), ("\\", "a\\\\b\\nc".into()));
    }

    proptest! {
        #[test]
        fn no_line_can_panic(line in ".{0,100}|[0-9a-f]{8,64} [ *]?.{0,9}") {
            let _ = parse(&line);
        }
    }
}
