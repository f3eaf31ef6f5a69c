//! Files with keys: lists, one key for one title, descriptions that a key can be derived from.

use decanter_core::keyring::{Entry, MOST_LIST_BYTES};
use decanter_core::names::stem_of;
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef, read_vec};
use decanter_core::{Guard, Key, Keyring};
use decanter_formats::package::ps4;
use decanter_formats::record::ird::Description;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use walkdir::WalkDir;

/// Files in a folder of keys that are looked at.
const MOST_FILES: usize = 10_000;
/// The user's own secrets that turn data 1 of a disc description into a disc key.
const DERIVE_KEY: &str = "ps3.disc.derive.key";
/// See [`DERIVE_KEY`].
const DERIVE_IV: &str = "ps3.disc.derive.iv";

/// Whether a file of this name next to a source may carry a key.
pub(crate) fn may_matter(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    [".key", ".dkey", ".keys", ".ird", ".rap"].iter().any(|e| name.ends_with(e))
}

/// The disc description in a file, if it is one.
pub(crate) fn description(source: &SourceRef) -> Option<Description> {
    let content = read_vec(source.as_ref(), 0, source.len(), "a description", MOST_LIST_BYTES).ok()?;
    Description::parse(&zeroize::Zeroizing::new(content)).ok()
}

/// Keys that were read, and descriptions that keys may be derived from.
#[derive(Default)]
pub(crate) struct Gathering {
    ring: Keyring,
    descriptions: Vec<(String, Arc<Description>)>,
}

impl Gathering {
    /// Everything in these files and folders.
    pub(crate) fn of_places(places: &[PathBuf], guard: &Guard) -> Self {
        let mut kept = Self::default();
        places.iter().for_each(|place| kept.place(place, guard));
        kept
    }

    /// One that begins with a key and a passcode that were typed, and the folders that were looked into.
    pub(crate) fn begin(given: Option<&Key>, passcode: Option<&Key>, looked: &[String]) -> Self {
        let mut begun = Self::default();
        if let Some(passcode) = passcode {
            begun.ring.add(ps4::keys::PASSCODE, passcode.clone(), ps4::keys::TYPED);
        }
        begun.ring.given = given.map(|key| Entry { name: "given".into(), key: key.clone(), origin: "--key".into() });
        looked.iter().for_each(|folder| begun.ring.add_place(folder.clone()));
        begun
    }

    /// What was found elsewhere comes after what is here.
    pub(crate) fn append(&mut self, other: &Self) {
        self.ring.append(&other.ring);
        self.descriptions.extend_from_slice(&other.descriptions);
    }

    /// A file or folder that the user named.
    fn place(&mut self, place: &Path, guard: &Guard) {
        self.ring.add_place(native::text(place));
        for entry in WalkDir::new(place).max_depth(4).sort_by_file_name().into_iter().flatten().take(MOST_FILES) {
            if !entry.file_type().is_file() && entry.depth() > 0 {
                continue;
            }
            if let Ok(source) = FileSource::open(entry.path(), guard) {
                let name = native::text(entry.file_name());
                self.file(&native::text(entry.path()), &name, &(Arc::new(source) as SourceRef));
            }
        }
    }

    /// What a file carries, if it carries any.
    pub(crate) fn file(&mut self, at: &str, name: &str, source: &SourceRef) {
        let content = read_vec(source.as_ref(), 0, source.len(), "a key file", MOST_LIST_BYTES);
        let Ok(content) = content.map(zeroize::Zeroizing::new) else { return };
        if let Ok(description) = Description::parse(&content) {
            self.descriptions.push((at.to_owned(), Arc::new(description)));
        } else if let Some(key) = Key::from_title_file(&content) {
            self.ring.add(stem_of(name), key, at);
        } else if let Ok(text) = std::str::from_utf8(&content) {
            let lines = self.ring.add_list(text, at);
            if !lines.is_empty() && lines.len() < text.lines().count() {
                self.ring.unreadable.extend(lines.iter().map(|line| format!("{at}, line {line}")));
            }
        }
    }

    /// Derives keys from the descriptions, now that all secrets are known.
    pub(crate) fn finish(self) -> Keyring {
        let Self { mut ring, descriptions } = self;
        let secret = |name| ring.named(name).map(|e| e.key.clone());
        let secrets = secret(DERIVE_KEY).zip(secret(DERIVE_IV));
        for (at, description) in descriptions {
            let derived = secrets.as_ref().map(|(key, iv)| description.disc_key(key, iv));
            match derived {
                Some(Ok(key)) => ring.add(description.printed_id(), key, format!("data 1 of {at}")),
                Some(Err(_)) => ring.add_place(format!("{at} ({DERIVE_KEY} and {DERIVE_IV} must have 16 bytes each)")),
                None => ring.add_place(format!("{at} (its data 1 needs {DERIVE_KEY} and {DERIVE_IV} in the keyring)")),
            }
        }
        ring
    }
}
