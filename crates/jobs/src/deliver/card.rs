//! What a card or stick can hold: by its mount, or by an image of it.

use crate::{Failure, Setting, locate};
use decanter_core::os;
use decanter_core::{Error, Result};
use serde::Serialize;
use std::path::Path;

/// Bytes that clusters of large cards have at most: what a file takes is rounded up to that, to be on the safe side.
const CLUSTER: u64 = 32 << 10;
/// The most bytes of a file on FAT: one less than 4 GiB.
const MOST_ON_FAT: u64 = u32::MAX as u64;
/// The longest name, in UTF-16 units or bytes.
const MOST_NAME: usize = 255;

/// What a card can hold.
#[derive(Debug, Clone, Serialize)]
pub struct Card {
    /// Its file system.
    pub file_system: String,
    /// How that is known.
    pub known_by: String,
    /// The most bytes of one file, where that is less than any.
    pub largest_file: Option<u64>,
    /// Bytes that are free.
    pub free_bytes: Option<u64>,
    /// Which names it can hold.
    #[serde(skip)]
    names: Names,
}

/// Rules for names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Names {
    /// Those of FAT, exFAT and NTFS.
    Windows,
    /// Those of Unix.
    Unix,
}

impl Card {
    /// The card that something is put onto, by an image of it if there is one; `what` says what cannot be done without it.
    ///
    /// # Errors
    /// When `onto` is no folder, or the image none of a card.
    pub(crate) fn open(
        what: &str,
        onto: &Path,
        like: Option<&str>,
        setting: &Setting<'_>,
    ) -> std::result::Result<Self, Failure> {
        if !onto.is_dir() {
            return Err(Failure::usage(what, "it is no folder that is there")
                .hint("give the folder where the card or stick is mounted"));
        }
        let card = match like {
            Some(image) => Self::of_image(image, setting),
            None => Self::of_folder(onto),
        };
        card.map_err(|e| Failure::new(what, e))
    }

    /// The card that a folder lies on.
    fn of_folder(folder: &Path) -> Result<Self> {
        let free_bytes = os::free_bytes(folder).map_err(|e| Error::io("ask for free space", folder, e))?;
        let name = os::file_system(folder);
        let names = match name {
            Some("FAT" | "exFAT" | "NTFS") => Names::Windows,
            _ if cfg!(windows) => Names::Windows,
            _ => Names::Unix,
        };
        let known_by = if name.is_some() { "its mount" } else { "nothing tells: the rules of this system are taken" };
        Ok(Self {
            file_system: name.unwrap_or("unknown").to_owned(),
            known_by: known_by.to_owned(),
            largest_file: os::largest_file(folder),
            free_bytes,
            names,
        })
    }

    /// A card by an image of it.
    fn of_image(shown: &str, setting: &Setting<'_>) -> Result<Self> {
        let known_by = format!("the first sectors of {shown}");
        let item = locate::open(shown, "look at", setting).map_err(|failure| *failure.cause)?;
        let (names, largest_file) = match item.opened.identity.format {
            "fat" => (Names::Windows, Some(MOST_ON_FAT)),
            "ntfs" | "exfat" => (Names::Windows, None),
            "ext" => (Names::Unix, None),
            _ => {
                return Err(Error::Usage(format!(
                    "\"{shown}\" is {}, and no image of one file system (FAT, exFAT, NTFS or ext)",
                    crate::failure::with_article(&item.opened.identity.kind)
                )));
            }
        };
        let file_system = item.opened.identity.kind.trim_end_matches(" file system").to_owned();
        Ok(Self { file_system, known_by, largest_file, free_bytes: item.opened.extent.free, names })
    }

    /// What is wrong with a path there, in words; `None` if it can be held.
    pub(crate) fn misnamed(&self, path: &str) -> Option<String> {
        path.split('/').find_map(|name| self.misnamed_one(name))
    }

    fn misnamed_one(&self, name: &str) -> Option<String> {
        let len = match self.names {
            Names::Windows => name.encode_utf16().count(),
            Names::Unix => name.len(),
        };
        if len > MOST_NAME {
            return Some(format!("a name of {len} characters, the most is {MOST_NAME}"));
        }
        if self.names == Names::Unix {
            return None;
        }
        let bad = |c: char| c.is_control() || matches!(c, '"' | '*' | ':' | '<' | '>' | '?' | '\\' | '|');
        if let Some(sign) = name.chars().find(|c| bad(*c)) {
            return Some(format!("{} cannot hold the sign {sign:?} in a name", self.file_system));
        }
        let ends = name.ends_with(['.', ' ']);
        ends.then(|| format!("{} cannot hold a name that ends with a dot or a space", self.file_system))
    }

    /// Whether two names that differ in case alone are one there.
    pub(super) fn folds_case(&self) -> bool {
        self.names == Names::Windows
    }

    /// Bytes that files of these lengths take.
    pub(crate) fn room_for(lengths: impl Iterator<Item = u64>) -> u64 {
        lengths.map(|len| len.next_multiple_of(CLUSTER)).fold(0, u64::saturating_add)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn card(names: Names) -> Card {
        Card { file_system: "FAT32".into(), known_by: String::new(), largest_file: None, free_bytes: None, names }
    }

    #[test]
    fn names_that_a_card_cannot_hold() {
        let fat = card(Names::Windows);
        for name in ["a:b", "what?.iso", "x/tab\t", "end.", "end /x", "a\\b"] {
            assert!(fat.misnamed(name).is_some(), "{name}");
            assert_eq!(card(Names::Unix).misnamed(name), None, "{name}");
        }
        assert_eq!(fat.misnamed("PSPISO/Moth Parade.iso"), None);
        assert!(fat.misnamed(&"x".repeat(256)).unwrap().contains("256"));
        assert!(card(Names::Unix).misnamed(&"ä".repeat(128)).is_some() && fat.misnamed(&"ä".repeat(128)).is_none());
    }

    #[test]
    fn what_files_take_is_rounded_up() {
        assert_eq!(Card::room_for([0, 1, CLUSTER, CLUSTER + 1].into_iter()), 4 * CLUSTER);
    }
}
