//! Names of this machine as text, and back without loss.
//!
//! Names of files are bytes here, and need not be text: a disk of the nineties keeps `caf\xe9.d64` in its own code page.
//! Inside the program, names are text, so every byte that is part of none stands as a character of its own, from a range
//! that nobody uses (the end of the last private plane). What such a character means is undone wherever a name goes back
//! to the system. Bytes below 80h are always text: no such character can become a separator.

use crate::os;
use serde::Serializer;
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// The character of byte 00h; the bytes that are used begin 80h after it.
const ZERO: u32 = 0x10_ff00;
/// The character of D800h, the first half of a character in UTF-16 that can stand alone in a name of Windows.
const HALF: u32 = 0x10_f000;

/// The byte that a character stands for.
pub fn byte(c: char) -> Option<u8> {
    u8::try_from(u32::from(c).checked_sub(ZERO)?).ok().filter(|b| *b >= 0x80)
}

/// The unit of a name that a character stands for: a byte, or half a character in UTF-16.
fn unit(c: char) -> Option<u16> {
    let half = || Some(0xd800 + u16::try_from(u32::from(c).checked_sub(HALF)?).ok().filter(|half| *half < 0x800)?);
    byte(c).map(u16::from).or_else(half)
}

fn of_unit(unit: u16) -> char {
    let code = if unit < 0x100 { ZERO + u32::from(unit) } else { HALF + u32::from(unit) - 0xd800 };
    char::from_u32(code).unwrap_or(char::REPLACEMENT_CHARACTER)
}

/// A name as text; of a path, its names with `/` between them.
pub fn text(name: impl AsRef<OsStr>) -> String {
    let name = name.as_ref();
    let has_own = |text: &str| text.chars().any(|c| unit(c).is_some());
    if let Some(text) = name.to_str().filter(|t| !has_own(t)) {
        return os::with_slashes(text.to_owned());
    }
    let mut text = String::new();
    for piece in os::pieces(name) {
        match piece {
            // A name that really has such a character would come back as what it stands for: its own units stand for it.
            Ok(c) if unit(c).is_some() => text.extend(os::units(c).into_iter().map(of_unit)),
            Ok(c) => text.push(c),
            Err(unit) => text.push(of_unit(unit)),
        }
    }
    os::with_slashes(text)
}

/// The same of bytes that a list has of a name.
pub fn of_bytes(bytes: &[u8]) -> String {
    let byte = |byte: &u8| of_unit((*byte).into());
    let mut text = String::new();
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match unit(c) {
                Some(_) => text.extend(c.to_string().as_bytes().iter().map(byte)),
                None => text.push(c),
            }
        }
        text.extend(chunk.invalid().iter().map(byte));
    }
    text
}

/// The name that a text stands for.
pub fn os(text: &str) -> OsString {
    os::name_of(text.chars().map(|c| unit(c).map_or(Ok(c), Err)))
}

/// The path that a text stands for.
pub fn path(text: &str) -> PathBuf {
    os(text).into()
}

/// A path in a report: as text, whatever its bytes.
///
/// # Errors
/// What the serializer fails with.
pub fn one<S: Serializer>(path: &Path, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(&text(path))
}

/// The same for one that may be missing.
///
/// # Errors
/// What the serializer fails with.
pub fn maybe<S: Serializer>(path: &Option<PathBuf>, to: S) -> Result<S::Ok, S::Error> {
    match path {
        Some(path) => to.serialize_some(&text(path)),
        None => to.serialize_none(),
    }
}

/// The same for several.
///
/// # Errors
/// What the serializer fails with.
pub fn many<S: Serializer>(paths: &[PathBuf], to: S) -> Result<S::Ok, S::Error> {
    to.collect_seq(paths.iter().map(text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[cfg(unix)]
    #[test]
    fn bytes_that_are_no_text_stand_for_themselves() {
        use std::os::unix::ffi::OsStrExt;
        let name = OsStr::from_bytes(b"caf\xe9.d64");
        assert_eq!(text(name), "caf\u{10ffe9}.d64");
        assert_eq!(os("caf\u{10ffe9}.d64"), name);
    }

    #[cfg(windows)]
    #[test]
    fn halves_of_characters_stand_for_themselves() {
        use std::os::windows::ffi::OsStringExt;
        let name = OsString::from_wide(&[0x61, 0xd83d, 0x62, 0xdc00]);
        assert_eq!(text(&name), "a\u{10f03d}b\u{10f400}");
        assert_eq!(os("a\u{10f03d}b\u{10f400}"), name);
    }

    #[test]
    fn text_is_itself() {
        assert_eq!(text(OsStr::new("plain é")), "plain é");
        // No character leads to a separator, or to anything else that is text by itself.
        assert_eq!(byte('\u{10ff2f}'), None);
        assert_eq!(os("\u{10ff2f}"), OsStr::new("\u{10ff2f}"));
    }

    #[test]
    fn a_name_with_such_a_character_comes_back() {
        let name = OsStr::new("a\u{10ff80}b");
        assert_ne!(text(name), "a\u{10ff80}b");
        assert_eq!(os(&text(name)), name);
    }

    proptest! {
        #[test]
        fn every_name_comes_back(units in proptest::collection::vec(any::<u16>(), 0..40)) {
            #[cfg(unix)]
            let name: OsString = {
                use std::os::unix::ffi::OsStringExt;
                OsString::from_vec(units.iter().flat_map(|unit| unit.to_le_bytes()).collect())
            };
            #[cfg(windows)]
            let name: OsString = std::os::windows::ffi::OsStringExt::from_wide(&units);
            prop_assert_eq!(os(&text(&name)), name);
        }
    }
}
