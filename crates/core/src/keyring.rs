//! The user's own keys: how they are kept, found and never shown.
//!
//! No key ships with Decanter. A key comes from a `name = hex` list, a per-title file, or a description that
//! carries one; its value never reaches a message, and the memory that held it is cleared.

use crate::error::{Error, KeyTrouble, KeyWay, Result};
use serde::Serialize;
use zeroize::Zeroizing;

/// The most bytes a key list may have.
pub const MOST_LIST_BYTES: u64 = 4 << 20;
/// The most bytes a key may have.
const MOST_KEY_BYTES: usize = 512;

/// A secret. Its `Debug` form shows the length only; the bytes are cleared when it is dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Key(Zeroizing<Vec<u8>>);

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Key({} bytes)", self.0.len())
    }
}

impl Key {
    /// A key of these bytes.
    pub fn new(bytes: Vec<u8>) -> Self {
        Self(Zeroizing::new(bytes))
    }

    /// Reads pairs of hexadecimal digits; spaces, colons and a leading `0x` are allowed.
    ///
    /// Returns `None` for anything else, and for more than 512 bytes.
    pub fn from_hex(text: &str) -> Option<Self> {
        let text = text.trim();
        let text = text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")).unwrap_or(text);
        let mut digits = Zeroizing::new(Vec::with_capacity(text.len()));
        for c in text.chars().filter(|c| !matches!(c, ' ' | ':' | '\t')) {
            digits.push(c.to_digit(16)? as u8);
        }
        if digits.is_empty() || !digits.len().is_multiple_of(2) || digits.len() > 2 * MOST_KEY_BYTES {
            return None;
        }
        Some(Self::new(digits.chunks_exact(2).map(|p| p[0] << 4 | p[1]).collect()))
    }

    /// Reads what a per-title key file holds: 16 raw bytes, or 32 hexadecimal digits.
    pub fn from_title_file(content: &[u8]) -> Option<Self> {
        if let Ok(text) = std::str::from_utf8(content)
            && let Some(key) = Self::from_hex(text.trim_start_matches('\u{feff}'))
            && key.bytes().len() == 16
        {
            return Some(key);
        }
        (content.len() == 16).then(|| Self::new(content.to_vec()))
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// The bytes of an AES-128 key.
    ///
    /// # Errors
    /// [`Error::Usage`] when there are not 16 of them.
    pub fn bytes16(&self) -> Result<&[u8; 16]> {
        self.0.as_slice().try_into().map_err(|_| {
            Error::Usage(format!("an AES-128 key has 16 bytes (32 hexadecimal digits), this one has {}", self.0.len()))
        })
    }
}

/// A key with its name and where it came from.
#[derive(Debug, Clone)]
pub struct Entry {
    /// The name as the user wrote it, or the stem of a per-title file.
    pub name: String,
    /// The secret.
    pub key: Key,
    /// The file it stood in, or the option.
    pub origin: String,
}

/// What may be told of an entry: everything but the value.
#[derive(Debug, Clone, Serialize, PartialEq, Eq)]
pub struct EntryReport {
    /// The name.
    pub name: String,
    /// How many bits the key has.
    pub bits: usize,
    /// Where it came from.
    pub origin: String,
}

/// All keys that are known, in the order in which they are tried, and the places that were looked into.
#[derive(Debug, Clone, Default)]
pub struct Keyring {
    /// One key that the user gave for this very source: it goes before all others, which are then not tried.
    pub given: Option<Entry>,
    /// Lines of key lists that could not be read: file and line number.
    pub unreadable: Vec<String>,
    entries: Vec<Entry>,
    looked: Vec<String>,
}

impl Keyring {
    /// Adds a key.
    pub fn add(&mut self, name: impl Into<String>, key: Key, origin: impl Into<String>) {
        self.entries.push(Entry { name: name.into(), key, origin: origin.into() });
    }

    /// Adds all entries, places and unreadable lines of another keyring, after those that are here.
    pub fn append(&mut self, other: &Self) {
        self.entries.extend_from_slice(&other.entries);
        self.unreadable.extend_from_slice(&other.unreadable);
        for place in &other.looked {
            self.add_place(place.clone());
        }
    }

    /// Remembers that a place was looked into, whether or not a key was there.
    pub fn add_place(&mut self, place: impl Into<String>) {
        let place = place.into();
        if !self.looked.contains(&place) {
            self.looked.push(place);
        }
    }

    /// Adds the entries of a `name = hex` list. Lines that begin with `#` or `;` and empty lines are
    /// skipped. Returns the numbers (from 1) of the lines that could not be read.
    pub fn add_list(&mut self, text: &str, origin: &str) -> Vec<usize> {
        let mut bad = Vec::new();
        for (number, line) in text.trim_start_matches('\u{feff}').lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with(['#', ';']) {
                continue;
            }
            let entry = line.split_once('=').and_then(|(name, value)| {
                let value = value.split(['#', ';']).next().unwrap_or_default();
                Some((name.trim(), Key::from_hex(value)?)).filter(|(name, _)| !name.is_empty())
            });
            match entry {
                Some((name, key)) => self.add(name, key, origin),
                None => bad.push(number + 1),
            }
        }
        bad
    }

    /// All entries whose name means the same as one of `names`: case, spaces, hyphens, dots and
    /// underscores do not count. A key given for this very source comes alone.
    pub fn candidates(&self, names: &[String]) -> Vec<&Entry> {
        if let Some(given) = &self.given {
            return vec![given];
        }
        let wanted: Vec<String> = names.iter().map(|n| plain(n)).filter(|n| !n.is_empty()).collect();
        self.entries.iter().filter(|e| wanted.contains(&plain(&e.name))).collect()
    }

    /// The entry with exactly this name, as in `ps3.disc.derive.key` (case does not count).
    pub fn named(&self, name: &str) -> Option<&Entry> {
        self.entries.iter().find(|e| e.name.eq_ignore_ascii_case(name))
    }

    /// All entries with exactly this name, in their order.
    pub fn all_named(&self, name: &str) -> impl Iterator<Item = &Entry> {
        self.entries.iter().filter(move |e| e.name.eq_ignore_ascii_case(name))
    }

    /// The key of `len` bytes under one of these names, the first that there is, with where it came from. `need` says in a
    /// message what is needed.
    ///
    /// # Errors
    /// The trouble when there is none, or one of another length.
    pub fn of_names(
        &self,
        names: &[String],
        len: usize,
        need: &dyn Fn() -> String,
    ) -> std::result::Result<(Key, String), KeyTrouble> {
        let wrong = match names.iter().find_map(|name| self.named(name)) {
            Some(entry) if entry.key.bytes().len() == len => return Ok((entry.key.clone(), entry.origin.clone())),
            Some(entry) => vec![format!("{}, which has not {len} bytes", entry.origin)],
            None => Vec::new(),
        };
        Err(KeyTrouble { way: KeyWay::ByName, need: need(), wrong, looked: self.looked.clone() })
    }

    /// The places that were looked into.
    pub fn looked(&self) -> &[String] {
        &self.looked
    }

    /// What may be told of the entries.
    pub fn report(&self) -> Vec<EntryReport> {
        let tell =
            |e: &Entry| EntryReport { name: e.name.clone(), bits: e.key.bytes().len() * 8, origin: e.origin.clone() };
        self.given.iter().chain(&self.entries).map(tell).collect()
    }
}

/// A name without what people spell differently: `DCNT-10001`, `dcnt_10001` and `DCNT10001` are one.
pub fn plain(name: &str) -> String {
    name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_uppercase).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_list_is_read_line_by_line_and_bad_lines_are_named() {
        let mut ring = Keyring::default();
        let list = "\u{feff}# ours\n\nDCNT-10001 = 000102030405060708090a0b0c0d0e0f ; pier\nbad line\nx = 0g\n= 00\nodd = 123\nspaced = 00 11:22\n";
        assert_eq!(ring.add_list(list, "museum.keys"), [4, 5, 6, 7]);
        assert_eq!(ring.candidates(&["dcnt10001".into()]).len(), 1);
        assert_eq!(ring.named("SPACED").map(|e| e.key.bytes().to_vec()), Some(vec![0, 0x11, 0x22]));
    }

    #[test]
    fn title_files_hold_hex_or_raw_bytes() {
        let raw: Vec<u8> = (0..16).collect();
        let hex = "000102030405060708090A0B0C0D0E0F\r\n";
        assert_eq!(Key::from_title_file(&raw), Key::from_title_file(hex.as_bytes()));
        assert!(Key::from_title_file(&raw[..15]).is_none());
        assert!(Key::from_title_file(b"0001020304050607").is_some(), "16 raw bytes that happen to be text");
    }

    #[test]
    fn a_key_is_never_shown() {
        let mut ring = Keyring::default();
        ring.add("a", Key::new(vec![0xab; 16]), "here");
        let shown = format!("{ring:?} {:?}", ring.report());
        assert!(!shown.contains("171") && !shown.to_lowercase().contains("abab"), "{shown}");
    }

    #[test]
    fn a_given_key_comes_alone() {
        let mut ring = Keyring::default();
        ring.add("DCNT10001", Key::new(vec![1; 16]), "list");
        ring.given = Some(Entry { name: "--key".into(), key: Key::new(vec![2; 16]), origin: "--key".into() });
        let found = ring.candidates(&["DCNT-10001".into()]);
        assert_eq!(found.iter().map(|e| e.origin.as_str()).collect::<Vec<_>>(), ["--key"]);
    }

    proptest! {
        #[test]
        fn any_text_is_a_list(text in ".{0,400}") {
            let mut ring = Keyring::default();
            let bad = ring.add_list(&text, "x");
            prop_assert!(bad.len() + ring.report().len() <= text.lines().count());
        }

        #[test]
        fn any_spelling_of_an_id_finds_it(sep in "[-_. ]{0,2}", lower in any::<bool>()) {
            let mut ring = Keyring::default();
            ring.add("DCNT10001", Key::new(vec![1; 16]), "x");
            let asked = format!("{}{sep}10001", if lower { "dcnt" } else { "DCNT" });
            prop_assert_eq!(ring.candidates(&[asked]).len(), 1);
        }
    }
}
