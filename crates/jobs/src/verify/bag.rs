//! Bags: every file of one against its manifests, and nothing in it that they do not list.

use super::report::{Counts, FileReport, FileState, VerifyReport};
use super::settle;
use super::verdict::Finding;
use crate::below::Below;
use crate::{Item, Setting, quoted};
use decanter_core::digest::{Algorithm, Digest, of_source};
use decanter_core::error::Blame;
use decanter_core::source::read_vec;
use decanter_core::{Error, Notice, Result, store, watch};
use decanter_formats::record::bag;
use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// The longest manifest that is read.
const MOST: u64 = 1 << 30;

/// Whether a folder is a bag.
pub(super) fn is_one(folder: &str, setting: &Setting<'_>) -> bool {
    let path = store::join(folder, bag::DECLARATION);
    setting.store(&path).open_later(&path).is_ok()
}

/// What manifests say of a file.
#[derive(Default)]
struct Listed {
    digests: Vec<Digest>,
    is_tag: bool,
}

/// Holds a bag against its manifests.
///
/// # Errors
/// [`Error::Malformed`] and [`Error::Unsupported`] for what is no bag that can be read; what reading fails with.
pub(super) fn check(item: &Item, folder: &str, setting: &Setting<'_>) -> Result<VerifyReport> {
    let text = |name: &str| -> Result<String> {
        let path = store::join(folder, name);
        let source = setting.store(&path).open(&path)?;
        let bytes = read_vec(source.as_ref(), 0, source.len(), "a file of a bag", MOST)?;
        String::from_utf8(bytes).map_err(|e| {
            let at = e.utf8_error().valid_up_to() as u64;
            Error::malformed(bag::ID, format!("{name} is no UTF-8 text"), at)
        })
    };
    bag::check_declaration(&text(bag::DECLARATION)?)?;
    let below = Below::with_parts(folder, setting);
    if let Some((_, error)) = below.failed.into_iter().next() {
        return Err(error);
    }
    let own = |path: &String| path.strip_prefix(folder).unwrap_or(path).trim_start_matches('/').to_owned();
    let here: HashSet<String> = below.files.iter().map(own).collect();
    let mut report = VerifyReport::of(item, "everything is as it was when the bag was made".into());
    let (mut listed, mut manifests) = (BTreeMap::<String, Listed>::new(), Vec::new());
    let mut tops: Vec<&String> = here.iter().filter(|path| !path.contains('/')).collect();
    tops.sort();
    for name in tops {
        match bag::manifest_of(name) {
            Some((Some(algorithm), is_tag)) => {
                for (path, bytes) in bag::parse(name, &text(name)?, algorithm)? {
                    let row = listed.entry(path).or_insert_with(|| Listed { is_tag, ..Listed::default() });
                    row.digests.push(Digest { algorithm, bytes });
                }
                manifests.push((name.clone(), algorithm, is_tag));
            }
            Some((None, _)) => {
                report.notices.push(Notice::new(format!("{name} is of a digest that is not known here")))
            }
            None => {}
        }
    }
    let payload: Vec<&(String, Algorithm, bool)> = manifests.iter().filter(|(.., is_tag)| !is_tag).collect();
    if payload.is_empty() {
        let why = "it has no manifest of its payload with MD5, SHA-1, SHA-256 or SHA-512";
        return Err(Error::malformed(bag::ID, why, 0));
    }
    report.against = Some(manifests.iter().map(|(name, ..)| name.as_str()).collect::<Vec<_>>().join(", "));
    let fetched: HashSet<String> = match here.contains(bag::FETCH) {
        true => bag::fetched(&text(bag::FETCH)?).into_iter().collect(),
        false => HashSet::new(),
    };
    report.files = read(&listed, &here, folder, setting)?;
    for file in report.files.iter_mut().filter(|f| f.state == FileState::Missing && fetched.contains(&f.path)) {
        file.note = Some("it is to be fetched: its address stands in fetch.txt".into());
    }
    for path in here.iter().filter(|path| path.starts_with("data/")) {
        match listed.get(path) {
            None => report.files.push(FileReport {
                note: Some("no manifest lists it".into()),
                ..FileReport::new(path.clone(), FileState::Unexpected, 0)
            }),
            Some(row) if row.digests.len() < payload.len() => {
                let missing =
                    payload.iter().find(|(_, algorithm, _)| !row.digests.iter().any(|d| d.algorithm == *algorithm));
                if let (Some((name, ..)), Some(file)) = (missing, report.files.iter_mut().find(|f| f.path == *path)) {
                    file.state = FileState::Differs;
                    file.note = Some(format!("{name} does not list it"));
                }
            }
            Some(_) => {}
        }
    }
    if here.contains(bag::INFO)
        && let Some((bytes, files)) = bag::oxum(&text(bag::INFO)?)
    {
        let own = payload_of(&here, folder, setting)?;
        if own != (bytes, files) {
            let why = format!(
                "bag-info.txt says that the payload has {} bytes in {} files, and it has {} in {}",
                crate::grouped(bytes),
                crate::grouped(files),
                crate::grouped(own.0),
                crate::grouped(own.1)
            );
            report.notices.push(Notice::damage(why));
            report.findings.next(Finding::Differs, NEXT);
        }
    }
    report.files.sort_by(|a, b| a.path.cmp(&b.path));
    report.counts = Counts::of(&report.files);
    let counts = &report.counts;
    if counts.differing + counts.unexpected + counts.missing > 0 {
        report.findings.next(Finding::Differs, NEXT);
    }
    if counts.unreadable > 0 {
        report.findings.next(Finding::Broken, "what cannot be read has to come from another copy");
    }
    report.findings.add(Finding::Described);
    settle::conclude(&mut report);
    if report.verdict.is_good() {
        report.next = format!("decanter list {}", quoted(folder));
    }
    Ok(report)
}

const NEXT: &str = "take what is missing or differs from another copy of the bag";

/// Bytes and files of the payload.
fn payload_of(here: &HashSet<String>, folder: &str, setting: &Setting<'_>) -> Result<(u64, u64)> {
    let (mut bytes, mut files) = (0, 0);
    for path in here.iter().filter(|path| path.starts_with("data/")) {
        let whole = store::join(folder, path);
        bytes += setting.store(&whole).open_later(&whole)?.len();
        files += 1;
    }
    Ok((bytes, files))
}

/// Reads everything that is listed, on all cores.
fn read(
    listed: &BTreeMap<String, Listed>,
    here: &HashSet<String>,
    folder: &str,
    setting: &Setting<'_>,
) -> Result<Vec<FileReport>> {
    let all: Vec<(&String, &Listed)> = listed.iter().collect();
    let next = AtomicUsize::new(0);
    let found: Mutex<Vec<FileReport>> = Mutex::default();
    setting.watch.begin("reading the bag", None);
    let work = || -> Result<()> {
        while let Some((path, row)) = all.get(next.fetch_add(1, Ordering::Relaxed)) {
            watch::check(setting.watch)?;
            let file = one(path, row, here, folder, setting)?;
            found.lock().unwrap_or_else(PoisonError::into_inner).push(file);
            setting.watch.item(path);
        }
        Ok(())
    };
    let ended: Result<Vec<()>> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..setting.jobs.clamp(1, all.len().max(1))).map(|_| scope.spawn(work)).collect();
        let lost = |_| Err(Error::Usage("a reading thread ended early".into()));
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
    });
    setting.watch.end();
    ended?;
    Ok(found.into_inner().unwrap_or_else(PoisonError::into_inner))
}

fn one(path: &str, row: &Listed, here: &HashSet<String>, folder: &str, setting: &Setting<'_>) -> Result<FileReport> {
    let expected = row.digests.iter().max_by_key(|d| d.algorithm).cloned();
    if !here.contains(path) {
        return Ok(FileReport { expected, ..FileReport::new(path.to_owned(), FileState::Missing, 0) });
    }
    let whole = store::join(folder, path);
    let algorithms: Vec<Algorithm> = row.digests.iter().map(|d| d.algorithm).collect();
    let read = setting
        .store(&whole)
        .open(&whole)
        .and_then(|source| Ok((source.len(), of_source(&source, &algorithms, setting.watch)?)));
    match read {
        Ok((len, found)) => {
            let wrong = row.digests.iter().find(|expected| !found.contains(expected));
            let state = if wrong.is_some() { FileState::Differs } else { FileState::Match };
            let shown = wrong.cloned().or(expected);
            let found = shown.as_ref().and_then(|s| found.iter().find(|f| f.algorithm == s.algorithm)).cloned();
            let note = row.is_tag.then(|| "a file about the bag".to_owned());
            Ok(FileReport { expected: shown, found, note, ..FileReport::new(path.to_owned(), state, len) })
        }
        Err(Error::Cancelled) => Err(Error::Cancelled),
        Err(e) => Ok(FileReport {
            expected,
            note: Some(e.to_string()),
            is_read_error: e.blame() == Blame::Machine,
            ..FileReport::new(path.to_owned(), FileState::Unreadable, 0)
        }),
    }
}
