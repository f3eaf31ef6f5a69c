//! Names of this machine as text, and back without loss.
//!
//! Names of files are bytes here, and need not be text: a disk of the nineties keeps `caf\xe9.d64` in its own code page.
//! Inside the program, names are text, so every byte that is part of none stands as a character of its own, from a range
//! that nobody uses (the end of the last private plane). What such a character means is undone wherever a name goes back
//! to the system. Bytes below 80h are always text: no such character can become a separator.

use serde::Serializer;
use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

/// The character of byte 00h; the bytes that are used begin 80h after it.
const ZERO: u32 = 0x10_ff00;

/// The byte that a character stands for.
pub fn byte(c: char) -> Option<u8> {
    u8::try_from(u32::from(c).checked_sub(ZERO)?).ok().filter(|b| *b >= 0x80)
}

fn of_byte(byte: u8) -> char {
    char::from_u32(ZERO + u32::from(byte)).unwrap_or(char::REPLACEMENT_CHARACTER)
}

/// A name as text.
pub fn text(name: impl AsRef<OsStr>) -> String {
    let name = name.as_ref();
    let has_own = |text: &str| text.chars().any(|c| byte(c).is_some());
    if let Some(text) = name.to_str().filter(|t| !has_own(t)) {
        return text.to_owned();
    }
    let mut text = String::new();
    for chunk in name.as_bytes().utf8_chunks() {
        for c in chunk.valid().chars() {
            match byte(c) {
                // A name that really has such a character would come back as a byte: its own bytes stand for it.
                Some(_) => text.extend(c.to_string().bytes().map(of_byte)),
                None => text.push(c),
            }
        }
        text.extend(chunk.invalid().iter().map(|b| of_byte(*b)));
    }
    text
}

/// The same of bytes that a list has of a name.
pub fn of_bytes(bytes: &[u8]) -> String {
    text(OsStr::from_bytes(bytes))
}

/// The name that a text stands for.
pub fn os(text: &str) -> OsString {
    let mut bytes = Vec::with_capacity(text.len());
    for c in text.chars() {
        match byte(c) {
            Some(byte) => bytes.push(byte),
            None => bytes.extend(c.encode_utf8(&mut [0; 4]).bytes()),
        }
    }
    OsString::from_vec(bytes)
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

    #[test]
    fn bytes_that_are_no_text_stand_for_themselves() {
        let name = OsStr::from_bytes(b"caf\xe9.d64");
        assert_eq!(text(name), "caf\u{10ffe9}.d64");
        assert_eq!(os("caf\u{10ffe9}.d64"), name);
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
        fn every_name_comes_back(bytes in proptest::collection::vec(any::<u8>(), 0..40)) {
            let name = OsString::from_vec(bytes);
            prop_assert_eq!(os(&text(&name)), name);
        }
    }
}
