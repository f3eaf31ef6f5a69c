//! Bags (BagIt, RFC 8493): folders whose files are listed with digests, so that whoever finds one can tell whether it is whole.
//!
//! Layout, and what is supported: docs/formats/bagit.md.

use decanter_core::digest::{Algorithm, unhex};
use decanter_core::{Error, Result};

/// Id of the format.
pub const ID: &str = "bagit";
/// The file that makes a folder a bag.
pub const DECLARATION: &str = "bagit.txt";
/// What is said of the bag as a whole.
pub const INFO: &str = "bag-info.txt";
/// Files that are to be fetched from elsewhere.
pub const FETCH: &str = "fetch.txt";
/// The folder of what is kept.
pub const PAYLOAD: &str = "data";
/// The declaration that is written: version 1.0, and UTF-8.
pub const DECLARED: &str = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n";
/// Lines of one manifest.
const MOST_LINES: usize = 1 << 24;

/// Fails unless this is the declaration of a bag that can be read: of version 0.93 to 1.0, in UTF-8.
///
/// # Errors
/// [`Error::Malformed`], [`Error::Unsupported`].
pub fn check_declaration(text: &str) -> Result<()> {
    let text = text.trim_start_matches('\u{feff}');
    let value = |name: &str| {
        let line = text.lines().find(|line| line.split(':').next().is_some_and(|n| n.trim() == name))?;
        line.split_once(':').map(|(_, value)| value.trim().to_owned())
    };
    let wrong = |what: &'static str| Error::malformed(ID, what, 0);
    let version = value("BagIt-Version").ok_or_else(|| wrong("bagit.txt says no BagIt-Version"))?;
    let is_version = matches!(version.as_str(), "0.93" | "0.94" | "0.95" | "0.96" | "0.97" | "1.0");
    if !is_version {
        return Err(Error::unsupported(ID, format!("version {version} of BagIt")));
    }
    let encoding =
        value("Tag-File-Character-Encoding").ok_or_else(|| wrong("bagit.txt says no Tag-File-Character-Encoding"))?;
    match encoding.eq_ignore_ascii_case("UTF-8") || encoding.eq_ignore_ascii_case("US-ASCII") {
        true => Ok(()),
        false => Err(Error::unsupported(ID, format!("the character encoding {encoding}"))),
    }
}

/// What the name of a file says of it, if it is a manifest: its algorithm, where that is known, and whether it lists tag files.
pub fn manifest_of(name: &str) -> Option<(Option<Algorithm>, bool)> {
    let stem = name.strip_suffix(".txt")?;
    let (algorithm, is_of_tags) = match stem.strip_prefix("tagmanifest-") {
        Some(algorithm) => (algorithm, true),
        None => (stem.strip_prefix("manifest-")?, false),
    };
    let plain = algorithm.to_ascii_lowercase().replace('-', "");
    let known = [Algorithm::Md5, Algorithm::Sha1, Algorithm::Sha256, Algorithm::Sha512];
    Some((known.into_iter().find(|a| a.id() == plain), is_of_tags))
}

/// The lines of a manifest: paths in the bag, each with its digest.
///
/// # Errors
/// [`Error::Malformed`] for a line that is no digest and path, or whose path leads out of the bag.
pub fn parse(name: &str, text: &str, algorithm: Algorithm) -> Result<Vec<(String, Vec<u8>)>> {
    let mut rows = Vec::new();
    for (number, line) in (1..).zip(text.trim_start_matches('\u{feff}').split(['\n', '\r'])) {
        if line.trim().is_empty() {
            continue;
        }
        let wrong = |what: &str| Error::malformed(ID, format!("line {number} of {name}: {what}"), 0);
        if rows.len() >= MOST_LINES {
            let limit = MOST_LINES as u64;
            return Err(Error::Limit { what: "lines of a manifest", asked: limit + 1, limit });
        }
        let (digest, path) = line.split_once([' ', '\t']).ok_or_else(|| wrong("there is no digest and path"))?;
        let mut room = [0; 64];
        let bytes = unhex(digest, &mut room).filter(|bytes| bytes.len() == len_of(algorithm));
        let bytes = bytes.ok_or_else(|| wrong(&format!("this is no {}", algorithm.name())))?.to_vec();
        // Old programs mark what they read as binary.
        let path = path.trim_start_matches([' ', '\t']).trim_start_matches('*');
        let path = decoded(path);
        let path = path.strip_prefix("./").unwrap_or(&path).to_owned();
        if leads_out(&path) {
            return Err(wrong("the path leads out of the bag"));
        }
        rows.push((path, bytes));
    }
    Ok(rows)
}

/// Bytes of a digest.
fn len_of(algorithm: Algorithm) -> usize {
    match algorithm {
        Algorithm::Crc32 => 4,
        Algorithm::Md5 => 16,
        Algorithm::Sha1 => 20,
        Algorithm::Sha256 => 32,
        Algorithm::Sha512 => 64,
    }
}

/// Whether a path is none of a file in the bag.
fn leads_out(path: &str) -> bool {
    path.is_empty()
        || path.starts_with(['/', '\\', '~'])
        || path.as_bytes().get(1) == Some(&b':')
        || path.split(['/', '\\']).any(|part| part == "..")
}

/// A path as it stands in a manifest: line ends and the percent sign are spelled (RFC 8493, 2.1.3).
pub fn encoded(path: &str) -> String {
    path.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A")
}

fn decoded(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    let mut rest = path;
    while let Some((before, after)) = rest.split_once('%') {
        out.push_str(before);
        let spelled = after.get(..2).map(str::to_ascii_uppercase);
        rest = match spelled.as_deref() {
            Some("0A") => {
                out.push('\n');
                &after[2..]
            }
            Some("0D") => {
                out.push('\r');
                &after[2..]
            }
            Some("25") => {
                out.push('%');
                &after[2..]
            }
            // Bags of before 1.0 spell nothing.
            _ => {
                out.push('%');
                after
            }
        };
    }
    out.push_str(rest);
    out
}

/// The bytes and files that `bag-info.txt` says the payload has: its Payload-Oxum.
pub fn oxum(text: &str) -> Option<(u64, u64)> {
    let line = text.lines().find(|line| line.to_ascii_lowercase().starts_with("payload-oxum:"))?;
    let (bytes, files) = line.split_once(':')?.1.trim().split_once('.')?;
    Some((bytes.parse().ok()?, files.parse().ok()?))
}

/// The paths that `fetch.txt` lists: each line has an address, a length and a path.
pub fn fetched(text: &str) -> Vec<String> {
    let path = |line: &str| {
        let mut words = line.splitn(3, [' ', '\t']).map(str::trim);
        words.next()?;
        words.next()?;
        words.next().map(decoded)
    };
    text.lines().filter_map(path).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn declarations() {
        assert!(check_declaration(DECLARED).is_ok());
        assert!(check_declaration("BagIt-Version: 0.97\r\nTag-File-Character-Encoding: utf-8\r\n").is_ok());
        assert!(matches!(check_declaration("BagIt-Version: 1.0\n"), Err(Error::Malformed { .. })));
        let newer = "BagIt-Version: 2.0\nTag-File-Character-Encoding: UTF-8\n";
        assert!(matches!(check_declaration(newer), Err(Error::Unsupported { .. })));
    }

    #[test]
    fn lines_of_a_manifest() {
        let md5 = "9e107d9d372bb6826bd81d3542a419d6";
        let rows =
            parse("manifest-md5.txt", &format!("{md5}  data/a%0Ab%25.rom\n{md5} *data/x\n"), Algorithm::Md5).unwrap();
        assert_eq!(rows[0].0, "data/a\nb%.rom");
        assert_eq!((rows[1].0.as_str(), rows.len()), ("data/x", 2));
        assert_eq!(encoded("data/a\nb%.rom"), "data/a%0Ab%25.rom");
        for wrong in ["9e10  data/a", md5, &format!("{md5}  ../x"), &format!("{md5}  /etc/x"), &format!("{md5}  ~/x")] {
            assert!(parse("m", wrong, Algorithm::Md5).is_err(), "{wrong}");
        }
        assert_eq!(manifest_of("tagmanifest-sha512.txt"), Some((Some(Algorithm::Sha512), true)));
        assert_eq!(manifest_of("manifest-sha3.txt"), Some((None, false)));
        assert_eq!(manifest_of("notes.txt"), None);
        assert_eq!(oxum("Bag-Size: 1 KB\nPayload-Oxum: 279164.15\n"), Some((279_164, 15)));
    }

    proptest! {
        #[test]
        fn no_text_can_panic(text in "\\PC{0,80}|[0-9a-f]{32} (data|\\.\\.|%|/|~|\n){0,9}") {
            let _ = parse("m", &text, Algorithm::Md5);
            let _ = check_declaration(&text);
            let _ = (oxum(&text), fetched(&text), manifest_of(&text));
        }

        #[test]
        fn names_come_back(name in "[a-z%\n\r0-9 ]{1,20}") {
            let line = format!("9e107d9d372bb6826bd81d3542a419d6  data/x{}\n", encoded(&name));
            let rows = parse("m", &line, Algorithm::Md5).unwrap();
            prop_assert_eq!(&rows[0].0, &format!("data/x{name}"));
        }
    }
}
