//! Many sources against DAT files and checksum lists: by content first, then what the name should be.

mod look;
mod matches;
mod readings;
mod seeker;
mod subjects;
mod tracks;

pub use matches::{MatchCounts, MatchReport, MatchState, MatchedFile, MissingEntry};
pub(crate) use readings::{CARRIED, container, inner_name, of_rom, of_track, prove_carried, track_names, whole_disc};
pub use seeker::Against;
pub(crate) use subjects::sheet;

use crate::{Failure, Setting, locate};
use decanter_core::catalogue::last_name;
use decanter_core::digest::Algorithm;
use decanter_core::{Error, Keyring};
use look::nothing;
use matches::report;
use seeker::Seeker;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use subjects::{Subject, Subjects};

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
    let Subjects { files: subjects, inner, sheets, unreadable } = Subjects::of(sources, against, setting)?;
    let len = |s: &Subject| setting.store(&s.shown).local(&s.shown).and_then(|p| std::fs::metadata(p).ok());
    let total = subjects.iter().filter_map(len).map(|m| m.len()).sum();
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
                    let file = setting.store(&subject.shown).open(&subject.shown);
                    let result = match (file, &subject.tracks) {
                        (Err(e), _) => seeker.unreadable(&nothing(), &subject.shown, e),
                        (Ok(_), Some(tracks)) => seeker.tracks(tracks, &subject.name, &subject.shown),
                        (Ok(file), None) => seeker.look(&file, &subject.name, &subject.shown, 0),
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
