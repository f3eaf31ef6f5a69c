//! The keyring: gathered from the places that the user named and from what lies next to the source.

use crate::locate::{Around, stem_of};
use crate::{Failure, Item, Setting, locate};
use decanter_core::format::KeyState;
use decanter_core::keyring::{Entry, EntryReport, MOST_LIST_BYTES};
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef, read_vec};
use decanter_core::{Error, Guard, Key, Keyring};
use decanter_formats::record::ird::Description;
use serde::Serialize;
use std::path::Path;
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
    name == "keys.txt" || [".key", ".dkey", ".keys", ".ird"].iter().any(|e| name.ends_with(e))
}

/// The disc description in a file, if it is one.
pub(crate) fn description(source: &SourceRef) -> Option<Description> {
    let content = read_vec(source.as_ref(), 0, source.len(), "a description", MOST_LIST_BYTES).ok()?;
    Description::parse(&zeroize::Zeroizing::new(content)).ok()
}

/// All keys for a source with these surroundings. What lies next to it goes before what the user keeps elsewhere.
pub(crate) fn gather(setting: &Setting<'_>, around: &Around) -> Keyring {
    let mut gathering = Gathering::default();
    if let Some(key) = &setting.key {
        gathering.ring.given = Some(Entry { name: "given".into(), key: key.clone(), origin: "--key".into() });
    }
    for folder in &around.folders {
        gathering.ring.add_place(folder.clone());
    }
    for (at, name, source) in &around.files {
        gathering.file(at, name, source);
    }
    let kept = setting.kept_keys.get_or_init(|| {
        let mut kept = Gathering::default();
        setting.key_places.iter().for_each(|place| kept.place(place, &setting.guard));
        kept
    });
    gathering.ring.append(&kept.ring);
    gathering.descriptions.extend_from_slice(&kept.descriptions);
    gathering.finish()
}

/// Fails if a key was given for a source that needs one, and is not the one that serves.
///
/// # Errors
/// [`Error::Key`].
pub(crate) fn check_given(item: &Item, setting: &Setting<'_>) -> decanter_core::Result<()> {
    let Some(protection) = item.opened.protection.as_ref().filter(|_| setting.key.is_some()) else { return Ok(()) };
    match &protection.key {
        KeyState::Trouble(trouble) if !trouble.wrong.is_empty() => Err(Error::Key(trouble.clone())),
        _ => Ok(()),
    }
}

/// Keys that were read, and descriptions that keys may be derived from.
#[derive(Default)]
pub(crate) struct Gathering {
    ring: Keyring,
    descriptions: Vec<(String, Arc<Description>)>,
}

impl Gathering {
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

    fn file(&mut self, at: &str, name: &str, source: &SourceRef) {
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
    fn finish(self) -> Keyring {
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

/// What is known of keys; never their values.
#[derive(Debug, Serialize)]
pub struct KeysReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Every key that is known.
    pub keys: Vec<EntryReport>,
    /// Places that were looked into.
    pub looked: Vec<String>,
    /// Lines of key lists that could not be read.
    pub unreadable: Vec<String>,
    /// Which of them serves which source.
    pub sources: Vec<SourceKey>,
}

/// The key of one source.
#[derive(Debug, Serialize)]
pub struct SourceKey {
    /// The source.
    pub source: String,
    /// Its id.
    pub id: Option<String>,
    /// One of "not needed", "found", "missing", "wrong", "unproven".
    pub state: &'static str,
    /// Where the key was found.
    pub origin: Option<String>,
    /// What proves it right.
    pub proof: Option<String>,
    /// What is needed, where it is missing.
    pub need: Option<String>,
}

/// Reports the keys that are known, and which of them fits which of `sources`.
///
/// # Errors
/// When a source cannot be opened.
pub fn keys(sources: &[String], setting: &Setting<'_>) -> Result<KeysReport, Failure> {
    let mut ring = gather(setting, &Around::default());
    let mut reports = Vec::new();
    for shown in sources {
        let item = locate::open(shown, "look for the key of", setting)?;
        let mut report = SourceKey {
            source: item.address.clone(),
            id: item.opened.get("id").map(str::to_owned),
            state: "not needed",
            origin: None,
            proof: None,
            need: None,
        };
        match item.opened.protection.map(|p| p.key) {
            Some(KeyState::Found { origin, proof }) => {
                report.state = if proof.is_some() { "found" } else { "unproven" };
                (report.origin, report.proof) = (Some(origin), proof);
            }
            Some(KeyState::Trouble(trouble)) => {
                report.state = if trouble.wrong.is_empty() { "missing" } else { "wrong" };
                report.need = Some(trouble.need);
            }
            _ => {}
        }
        reports.push(report);
        ring = item.keyring;
    }
    Ok(KeysReport {
        schema: "decanter.keys/1",
        keys: ring.report(),
        looked: ring.looked().to_vec(),
        unreadable: ring.unreadable.clone(),
        sources: reports,
    })
}
