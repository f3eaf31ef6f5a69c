//! What is held against catalogues: the files that were named, those of folders, and those that cue sheets name.

use super::matches::{MatchState, MatchedFile, blank};
use super::seeker::Against;
use crate::below::Below;
use crate::{Failure, Setting, locate};
use decanter_core::Result;
use decanter_core::catalogue::last_name;
use decanter_core::head::Head;
use decanter_core::os;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::store;
use decanter_core::track::Track;
use decanter_formats::REGISTRY;
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

/// A file that is to be checked: its path, and its name as far as lists know it.
pub(super) struct Subject {
    pub(super) shown: String,
    pub(super) name: String,
    /// The tracks of a cue sheet that share a file, so that no file is a track: they are checked instead of the sheet's own
    /// bytes.
    pub(super) tracks: Option<Vec<Track>>,
}

/// Everything that is to be checked.
#[derive(Default)]
pub(super) struct Subjects {
    pub(super) files: Vec<Subject>,
    /// What stands in a container, as it was typed.
    pub(super) inner: Vec<(String, SourceRef)>,
    /// Cue sheets with the files that they name.
    pub(super) sheets: HashMap<String, Vec<String>>,
    /// What of the folders could not be looked into.
    pub(super) unreadable: Vec<MatchedFile>,
}

impl Subjects {
    /// Those that `sources` stand for.
    ///
    /// # Errors
    /// When a source is not there, or a sheet that was named cannot be used.
    pub(super) fn of(
        sources: &[String],
        against: &Against,
        setting: &Setting<'_>,
    ) -> std::result::Result<Self, Failure> {
        let mut all = Self::default();
        let own: HashSet<PathBuf> = against.paths.iter().filter_map(|p| resolved(p, setting)).collect();
        for source in sources {
            let fail = |e| Failure::new(format!("cannot verify \"{source}\""), e);
            match setting.store(source).is_folder(source) {
                Ok(true) => all.folder(source, &own, setting),
                Ok(false) if !decanter_core::split::is_numbered(source) => all.file(source, setting).map_err(fail)?,
                _ => all.inner.push((source.clone(), locate::bytes(source, setting).map_err(fail)?)),
            }
        }
        Ok(all)
    }

    /// The files of a folder; lists that it is held against are none of them.
    fn folder(&mut self, folder: &str, own: &HashSet<PathBuf>, setting: &Setting<'_>) {
        let below = Below::with_parts(folder, setting);
        for (path, error) in below.failed {
            let row = blank(&path, MatchState::Unreadable, 0);
            self.unreadable.push(MatchedFile { is_read_error: true, note: Some(error.to_string()), ..row });
        }
        for path in below.files {
            if !own.is_empty() && resolved(&path, setting).is_some_and(|p| own.contains(&p)) {
                continue;
            }
            let name = path.strip_prefix(folder).unwrap_or(&path).trim_start_matches('/').to_owned();
            // A sheet that cannot be used is a file like others; what it names is in the folder anyway.
            if is_sheet(&path, setting).unwrap_or(false)
                && let Ok((files, Some(tracks))) = of_sheet(&path, setting)
            {
                self.sheets.insert(path.clone(), files.into_iter().map(|s| s.shown).collect());
                self.files.push(Subject { shown: path.clone(), name: name.clone(), tracks: Some(tracks) });
            }
            self.files.push(Subject { shown: path, name, tracks: None });
        }
    }

    /// A file that was named, and what it names if it is a sheet.
    fn file(&mut self, path: &str, setting: &Setting<'_>) -> Result<()> {
        let name = last_name(path).to_owned();
        if is_sheet(path, setting)? {
            let (files, tracks) = of_sheet(path, setting)?;
            if let Some(tracks) = tracks {
                self.sheets.insert(path.to_owned(), files.iter().map(|s| s.shown.clone()).collect());
                self.files.push(Subject { shown: path.to_owned(), name: name.clone(), tracks: Some(tracks) });
            }
            self.files.extend(files);
        }
        self.files.push(Subject { shown: path.to_owned(), name, tracks: None });
        Ok(())
    }
}

/// A path of this machine with links resolved.
fn resolved(path: &str, setting: &Setting<'_>) -> Option<PathBuf> {
    os::resolved(&setting.store(path).local(path)?).ok()
}

/// What a cue sheet stands for: the files that it names, and its tracks if those are no files of their own.
pub(crate) type Sheet = (Vec<String>, Option<Vec<Track>>);

/// The files that a cue sheet names, and its tracks if those are no files of their own; `None` for what is no sheet.
///
/// # Errors
/// When it cannot be used.
pub(crate) fn sheet(path: &str, setting: &Setting<'_>) -> Result<Option<Sheet>> {
    if !is_sheet(path, setting)? {
        return Ok(None);
    }
    let (files, tracks) = of_sheet(path, setting)?;
    Ok(Some((files.into_iter().map(|file| file.shown).collect(), tracks)))
}

fn is_sheet(path: &str, setting: &Setting<'_>) -> Result<bool> {
    if !path.to_lowercase().ends_with(".cue") {
        return Ok(false);
    }
    let source = setting.store(path).open(path)?;
    Ok(REGISTRY.detect(&Head::new(source.as_ref()))?.is_some_and(|f| f.role() == Role::Sheet))
}

/// What a cue sheet stands for: the files that it names, and its tracks if those are no files of their own.
fn of_sheet(path: &str, setting: &Setting<'_>) -> Result<(Vec<Subject>, Option<Vec<Track>>)> {
    let item = locate::open(path, "verify", setting).map_err(|f| *f.cause)?;
    let tracks = item.opened.holds.tracks;
    let mut seen = HashSet::new();
    let names: Vec<&String> = tracks.iter().map(|t| &t.file).filter(|n| seen.insert(*n)).collect();
    let subject = |name: &&String| {
        let shown = store::join(store::folder_of(path), name);
        Subject { shown, name: (*name).clone(), tracks: None }
    };
    let files = names.iter().map(subject).collect();
    let shares = names.len() < tracks.len();
    Ok((files, shares.then_some(tracks)))
}
