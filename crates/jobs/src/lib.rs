//! What a user asks for: one module a job. Each returns a report; none prints, and none knows of the command line.

#![cfg_attr(not(test), warn(clippy::disallowed_methods))]

mod attributes;
mod below;
mod cd;
pub mod cellar;
pub mod clean;
pub mod convert;
pub mod decrypt;
pub mod deliver;
pub mod digest;
pub mod dump;
mod estimate;
pub mod extract;
pub mod failure;
pub mod family;
pub mod formats;
mod helps;
mod html;
pub mod identify;
mod key_files;
mod keys;
pub mod label;
pub mod launch;
pub mod launcher;
pub mod layers;
pub mod list;
mod locate;
pub mod merge;
mod nearest;
pub mod notes;
pub mod overlay;
mod padding;
pub mod patch;
pub mod picture;
mod place;
pub mod prepare;
mod quote;
pub mod recipe;
pub mod repair;
pub mod rom;
pub mod save;
mod settle;
pub mod shelf;
pub mod starter;
mod title_folder;
pub mod toml_text;
mod traces;
pub mod typed_in;
pub mod verify;

pub use decanter_core::tell::grouped;
pub use decanter_formats::package::ps4::keys::PASSCODE_LEN;
pub use estimate::Estimate;
pub use failure::Failure;
pub use keys::{KeysReport, KnownKey, Standing, keys};
pub use locate::{Item, PIPE, Piped, open};
pub use nearest::nearest;
pub use padding::Padding;
pub use quote::{quoted, typed};

use decanter_core::format::Opener;
use decanter_core::store::Store;
use decanter_core::{Door, Guard, Key, Keyring, SourceRef, Watch};
use decanter_formats::REGISTRY;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, OnceLock};

/// What all jobs share.
pub struct Setting<'a> {
    /// Who is told of progress, and who can stop the work.
    pub watch: &'a dyn Watch,
    /// A key for the one source of this job.
    pub key: Option<Key>,
    /// What packages of this job were made with, and what new ones are made with.
    pub passcode: Option<Key>,
    /// Files and folders with keys, in the order in which they are looked into.
    pub key_places: Vec<PathBuf>,
    /// Those of them that were typed for this run: a command that goes on from here needs them again.
    pub typed_key_places: Vec<PathBuf>,
    /// Folders with lists of what is known to run; new ones are kept in the first.
    pub note_places: Vec<PathBuf>,
    /// Whether existing targets are replaced.
    pub replace: bool,
    /// Whether everything is done but the writing.
    pub dry_run: bool,
    /// How many files or sources are worked on at once.
    pub jobs: usize,
    /// The user's language, as two letters (ISO 639-1): titles are told in it where a source has them.
    pub language: Option<String>,
    /// The keys of `key_places`, read when the first source is opened: a folder may hold thousands.
    kept_keys: Arc<OnceLock<key_files::Gathering>>,
    /// The notes of `note_places`, read when the first title is met.
    kept_notes: Arc<notes::Kept>,
    /// Archives that are still open.
    containers: Arc<locate::Containers>,
    /// Whether what was not read when a dump was made counts as zeros.
    pub incomplete: bool,
    /// Whether checksums of what is around a source, and digests that it carries, are left alone.
    pub unchecked: bool,
    /// Every file that this run reads: none of them is ever written.
    pub guard: Arc<Guard>,
    /// What was taken out of containers on the way to the sources.
    duties: Mutex<Vec<SourceRef>>,
    /// The collection that this run is about, or that it is recorded in.
    pub cellar: Option<cellar::Location>,
    /// The folder for what has to be complete before it can be handed on as a stream.
    pub scratch: PathBuf,
    /// Places beside this machine that sources come from, each with paths of its own.
    pub stores: Vec<Arc<dyn Store>>,
    /// Sources that go with the others: the bases of updates.
    companions: Vec<SourceRef>,
    /// What stands in the folders of the sources, each read once.
    folders: Arc<Mutex<HashMap<String, locate::Listing>>>,
}

impl<'a> Setting<'a> {
    /// One without keys that replaces nothing.
    pub fn new(watch: &'a dyn Watch) -> Self {
        let jobs = decanter_core::threads::available();
        Self {
            watch,
            key: None,
            passcode: None,
            key_places: Vec::new(),
            typed_key_places: Vec::new(),
            note_places: Vec::new(),
            replace: false,
            dry_run: false,
            jobs,
            language: None,
            kept_keys: Arc::default(),
            kept_notes: Arc::default(),
            containers: Arc::default(),
            incomplete: false,
            unchecked: false,
            duties: Mutex::default(),
            guard: Arc::default(),
            cellar: None,
            scratch: std::env::temp_dir(),
            stores: Vec::new(),
            companions: Vec::new(),
            folders: Arc::default(),
        }
    }

    /// The same for one of many sources: it shares what is known of the run, keys and folders, but what it takes out of
    /// containers is its own.
    pub(crate) fn for_one<'b>(&self, watch: &'b dyn Watch) -> Setting<'b> {
        Setting {
            watch,
            key: self.key.clone(),
            passcode: self.passcode.clone(),
            key_places: self.key_places.clone(),
            typed_key_places: self.typed_key_places.clone(),
            note_places: self.note_places.clone(),
            language: self.language.clone(),
            kept_keys: self.kept_keys.clone(),
            kept_notes: self.kept_notes.clone(),
            containers: self.containers.clone(),
            duties: Mutex::default(),
            cellar: self.cellar.clone(),
            scratch: self.scratch.clone(),
            guard: self.guard.clone(),
            stores: self.stores.clone(),
            companions: self.companions.clone(),
            folders: self.folders.clone(),
            ..*self
        }
    }

    /// The way in for everything that is read: all formats, with these keys.
    pub(crate) fn opener<'s>(&'s self, keys: &'s Keyring) -> Opener<'s> {
        let opener = Opener::new(&REGISTRY, keys).with_watch(self.watch).with_companions(&self.companions);
        opener.unchecked(self.unchecked)
    }

    /// Takes sources along that go with those of the job: the bases of updates.
    ///
    /// # Errors
    /// When one cannot be read.
    pub fn take_along(&mut self, paths: &[String]) -> Result<(), Failure> {
        for path in paths {
            let source =
                locate::bytes(path, self).map_err(|e| Failure::new(format!("cannot take \"{path}\" along"), e))?;
            self.companions.push(source);
        }
        Ok(())
    }

    /// Where the source at `path` comes from.
    pub(crate) fn store(&self, path: &str) -> Arc<dyn Store + '_> {
        match self.stores.iter().find(|store| store.has(path)) {
            Some(store) => Arc::new(locate::Joining(store.clone(), &self.guard)),
            None => Arc::new(locate::Joining(Arc::new(locate::Files(&self.guard)), &self.guard)),
        }
    }

    /// Whether a folder stands at `path`; false also where nothing does.
    pub(crate) fn is_folder(&self, path: &str) -> bool {
        self.store(path).is_folder(path).unwrap_or(false)
    }

    /// Every key of the places with keys, for sources of which none has a place of its own.
    pub(crate) fn all_keys(&self) -> Keyring {
        let mut gathering = key_files::Gathering::begin(None, None, &[]);
        gathering.append(self.kept_keys.get_or_init(|| key_files::Gathering::of_places(&self.key_places, &self.guard)));
        gathering.finish()
    }

    /// The options that say once more where keys were looked for: for a command that goes on from here, and needs them again.
    pub(crate) fn typed_keys(&self) -> String {
        let places = self.typed_key_places.iter();
        places.map(|place| format!(" --keys {}", quoted(&decanter_core::native::text(place)))).collect()
    }

    /// The way out for everything that is written.
    pub fn door(&self) -> Door<'_> {
        Door { guard: &self.guard, replace: self.replace }
    }
}

/// How a job ended, apart from failing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Done, or everything matched.
    Yes,
    /// The answer is no: something differs, is missing or damaged.
    No,
    /// A source was not understood; the others were.
    NotUnderstood,
    /// Something could not be read; the rest was.
    ReadError,
}
