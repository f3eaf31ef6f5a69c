//! Many sources against DAT files and checksum lists: by content first, then what the name should be.

mod look;
mod matches;
mod seeker;
mod tracks;

pub use matches::{MatchCounts, MatchReport, MatchState, MatchedFile, MissingEntry};
pub use seeker::Against;

use crate::{Failure, Setting, locate};
use decanter_core::catalogue::last_name;
use decanter_core::digest::Algorithm;
use decanter_core::head::Head;
use decanter_core::native;
use decanter_core::role::Role;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use look::nothing;
use matches::{blank, report};
use seeker::Seeker;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tracks::Subject;
use walkdir::WalkDir;

/// Opens what to hold sources against; `None` when these are no catalogues, but descriptions of single discs.
///
/// # Errors
/// When one of them cannot be opened, or both kinds are mixed.
pub fn open(against: &[String], setting: &Setting<'_>) -> std::result::Result<Option<Against>, Failure> {
    let (mut paths, mut catalogues, mut others) = (Vec::new(), Vec::new(), 0);
    for path in against {
        let opened = locate::open(path, "use", setting)?.opened;
        match opened.holds.catalogue {
            Some(catalogue) => {
                paths.push(path.clone());
                catalogues.push(catalogue);
            }
            None => others += 1,
        }
    }
    if catalogues.is_empty() {
        return Ok(None);
    }
    if others > 0 {
        return Err(Failure::usage(
            "cannot verify against both DAT files and disc descriptions",
            "a DAT file is held against files, a description against what is on one disc",
        )
        .hint("verify twice"));
    }
    let mut algorithms: Vec<Algorithm> = catalogues.iter().flat_map(|c| c.proofs()).collect();
    algorithms.sort_unstable();
    algorithms.dedup();
    Ok(Some(Against { paths, catalogues, algorithms }))
}

/// Holds every file of the sources, and every file in their archives and compressed images, against the catalogues.
///
/// # Errors
/// When a source is not there, or the user stops.
pub fn verify(
    sources: &[String],
    against: &Against,
    setting: &Setting<'_>,
) -> std::result::Result<MatchReport, Failure> {
    let mut subjects = Vec::new();
    let own: HashSet<PathBuf> =
        against.paths.iter().filter_map(|p| std::fs::canonicalize(native::path(p)).ok()).collect();
    let (mut inner, mut sheets, mut unreadable) = (Vec::new(), HashMap::new(), Vec::new());
    for source in sources {
        let fail = |e| Failure::new(format!("cannot verify \"{source}\""), e);
        if native::path(source).is_dir() {
            for entry in WalkDir::new(native::path(source)).sort_by_file_name() {
                let entry = match entry {
                    Ok(entry) => entry,
                    Err(e) => {
                        let place = e.path().map_or_else(|| source.clone(), native::text);
                        let row = blank(&place, MatchState::Unreadable, 0);
                        unreadable.push(MatchedFile { is_read_error: true, note: Some(e.to_string()), ..row });
                        continue;
                    }
                };
                if !entry.file_type().is_file() {
                    continue;
                }
                let path = entry.into_path();
                if own.is_empty() || !std::fs::canonicalize(&path).is_ok_and(|p| own.contains(&p)) {
                    let name = native::text(path.strip_prefix(native::path(source)).unwrap_or(&path));
                    let shown = native::text(&path);
                    // A sheet that cannot be used is a file like others; what it names is in the folder anyway.
                    if is_sheet(&path, setting).unwrap_or(false)
                        && let Ok((files, Some(sheet))) = tracks::of_sheet(&path, &shown, setting)
                    {
                        sheets.insert(path.clone(), files.into_iter().map(|s| s.path).collect::<Vec<_>>());
                        let (path, shown, name) = (path.clone(), shown.clone(), name.clone());
                        subjects.push(Subject { shown, name, path, sheet: Some(sheet) });
                    }
                    subjects.push(Subject { shown, name, path, sheet: None });
                }
            }
        } else if native::path(source).is_file() && !decanter_core::split::is_numbered(source) {
            let path = native::path(source);
            let name = last_name(source).to_owned();
            if is_sheet(&path, setting).map_err(fail)? {
                let (files, sheet) = tracks::of_sheet(&path, source, setting).map_err(fail)?;
                if let Some(sheet) = sheet {
                    sheets.insert(path.clone(), files.iter().map(|s| s.path.clone()).collect());
                    let (path, shown, name) = (path.clone(), source.clone(), name.clone());
                    subjects.push(Subject { path, shown, name, sheet: Some(sheet) });
                }
                subjects.extend(files);
            }
            subjects.push(Subject { path, shown: source.clone(), name, sheet: None });
        } else {
            let bytes = locate::bytes(source, setting).map_err(fail)?;
            inner.push((source.clone(), bytes));
        }
    }
    let total = subjects.iter().filter_map(|s| std::fs::metadata(&s.path).ok()).map(|m| m.len()).sum();
    setting.watch.begin("verifying", Some(total));
    let next = AtomicUsize::new(0);
    let found: Mutex<Vec<(usize, Vec<MatchedFile>)>> = Mutex::default();
    let stopped: Mutex<Option<Error>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..setting.jobs.clamp(1, subjects.len().max(1)) {
            scope.spawn(|| {
                let keys = Keyring::default();
                loop {
                    let index = next.fetch_add(1, Ordering::Relaxed);
                    let Some(subject) = subjects.get(index).filter(|_| !setting.watch.cancelled()) else { break };
                    let mut seeker = Seeker { against, setting, keys: &keys, found: Vec::new() };
                    let file = FileSource::open(&subject.path, &setting.guard);
                    let result = match (file, &subject.sheet) {
                        (Err(e), _) => seeker.unreadable(&nothing(), &subject.shown, e),
                        (Ok(_), Some(sheet)) => seeker.tracks(&sheet.tracks, &subject.name, &subject.shown),
                        (Ok(file), None) => {
                            seeker.look(&(Arc::new(file) as SourceRef), &subject.name, &subject.shown, 0)
                        }
                    };
                    if let Err(e) = result {
                        *stopped.lock().unwrap_or_else(PoisonError::into_inner) = Some(e);
                    }
                    found.lock().unwrap_or_else(PoisonError::into_inner).push((index, seeker.found));
                    setting.watch.item(&subject.name);
                }
            });
        }
    });
    let keys = Keyring::default();
    let mut seeker = Seeker { against, setting, keys: &keys, found: Vec::new() };
    let mut result = match stopped.into_inner().unwrap_or_else(PoisonError::into_inner) {
        Some(e) => Err(e),
        None => Ok(()),
    };
    for (shown, source) in &inner {
        let name = last_name(shown.rsplit("::").next().unwrap_or(shown)).to_owned();
        result = result.and_then(|()| seeker.look(source, &name, shown, 0));
    }
    setting.watch.end();
    result.and_then(|()| decanter_core::watch::check(setting.watch)).map_err(|e| Failure::new("cannot verify", e))?;
    let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    found.sort_by_key(|(index, _)| *index);
    let mut files: Vec<MatchedFile> = found.into_iter().flat_map(|(_, f)| f).collect();
    files.extend(seeker.found);
    files.extend(unreadable);
    tracks::without_covered(&mut files, &sheets);
    Ok(report(files, &against.paths, &against.catalogues))
}

fn is_sheet(path: &Path, setting: &Setting<'_>) -> Result<bool> {
    let could_be = path.extension().is_some_and(|e| e.eq_ignore_ascii_case("cue"));
    Ok(could_be
        && REGISTRY
            .detect(&Head::new(&FileSource::open(path, &setting.guard)?))?
            .is_some_and(|f| f.role() == Role::Sheet))
}
