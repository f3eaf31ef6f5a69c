//! Where files come from: jobs are recorded, and followed back from an output to the first sources.

use super::scan::stamp_at;
use super::{broke, failed, open};
use crate::{Failure, Setting, key_files};
use decanter_cellar::files::{FileRow, Stamp};
use decanter_cellar::{Cellar, Job, JobFile, Location, Place, now};
use decanter_core::address::plain;
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Watch, native, os};
use serde::Serialize;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Jobs that are followed back from one file.
const MOST_JOBS: usize = 10_000;
/// Files of one job that are kept with digests.
const MOST_FILES: usize = 10_000;

/// A job that was done.
pub struct Done {
    /// What was asked for.
    pub command: String,
    /// What was typed, without secrets.
    pub words: Vec<String>,
    /// The program's version.
    pub version: &'static str,
    /// When it began.
    pub began: i64,
    /// The exit code.
    pub result: u8,
    /// Files that were opened.
    pub read: Vec<PathBuf>,
    /// Files that were written.
    pub written: Vec<PathBuf>,
}

/// Keeps a job in the cellar at `location`. It does not wait long, and makes no cellar.
///
/// # Errors
/// When the cellar is not there, in use, or broken.
pub fn record(location: &Location, done: &Done, setting: &Setting<'_>) -> Result<(), Failure> {
    let fail = |e| failed(format!("cannot use the cellar \"{}\"", location.shown()), location, e);
    let mut cellar = Cellar::open_soon(location.clone()).map_err(fail)?;
    let ended = now();
    let written: HashSet<PathBuf> = done.written.iter().filter_map(|path| os::resolved(path).ok()).collect();
    let mut files = Vec::new();
    let mut seen = HashSet::new();
    let inputs = done.read.iter().filter(|path| is_input(path, &done.words));
    let all = inputs.map(|path| (path, false)).chain(done.written.iter().map(|path| (path, true)));
    for (path, is_output) in all {
        let text = native::text(path);
        if is_address(&text) {
            if files.len() < MOST_FILES && seen.insert(path.clone()) {
                files.extend(described_far(&text, is_output, &mut cellar, setting).map_err(fail)?);
            }
            continue;
        }
        // What is gone by now, or was its own output, is no source.
        let Ok(path) = os::resolved(path) else { continue };
        if files.len() < MOST_FILES && (is_output || !written.contains(&path)) && seen.insert(path.clone()) {
            files.extend(described(&path, is_output, &mut cellar, setting.watch).map_err(fail)?);
        }
    }
    let parameters = serde_json::to_string(&done.words).unwrap_or_default();
    let job = Job {
        id: 0,
        command: done.command.clone(),
        parameters,
        version: done.version.to_owned(),
        began: done.began,
        ended,
        result: done.result.into(),
        files,
    };
    decanter_cellar::database::together(cellar.db.as_mut(), |db| job.keep(db)).map_err(fail)?;
    Ok(())
}

/// Whether a file that was opened is a source of the job: it was named, lies in a folder that was, or beside a file that
/// was and is read with it. Files with keys, and what lies elsewhere, are none.
fn is_input(path: &Path, words: &[String]) -> bool {
    let text = native::text(path);
    if is_address(&text) {
        let is_it = |word: &String| {
            let host = word.split("::").next().unwrap_or(word);
            super::places::lies_in(&text, host.trim_end_matches('/'))
        };
        return words.iter().any(is_it);
    }
    let name = native::text(path.file_name().unwrap_or_default());
    if key_files::may_matter(&name) {
        return false;
    }
    let Ok(path) = os::resolved(path) else { return false };
    // Sources out of a list were not typed one by one: whatever was read is one of them.
    if words.iter().any(|word| word == "--from" || word.starts_with("--from=")) {
        return true;
    }
    let mut is_value_of_keys = false;
    words.iter().any(|word| {
        let skip =
            std::mem::replace(&mut is_value_of_keys, matches!(word.as_str(), "--keys" | "--config" | "--cellar"));
        if skip || word.starts_with('-') {
            return false;
        }
        let host = word.split("::").next().unwrap_or(word);
        let Ok(typed) = os::resolved(&native::path(host)) else { return false };
        path.starts_with(&typed) || typed.is_file() && typed.parent() == path.parent()
    })
}

/// A file with its digests: those that the catalogue knows, or read now.
fn described(
    path: &Path,
    is_output: bool,
    cellar: &mut Cellar,
    watch: &dyn Watch,
) -> decanter_core::Result<Option<JobFile>> {
    let Ok(meta) = std::fs::symlink_metadata(path) else { return Ok(None) };
    if !meta.is_file() {
        return Ok(None);
    }
    let stamp = super::scan::stamp(&meta);
    let text = native::text(path);
    let sha1 = match known(cellar, &text, &stamp)? {
        Some(sha1) => Some(sha1),
        None => sha1_of(path, watch)?,
    };
    let (size, modified) = (stamp.size, Some(stamp.modified));
    Ok(Some(JobFile { is_output, path: text, size, modified, sha1, sha256: None }))
}

/// The same for something that is not on this machine.
fn described_far(
    address: &str,
    is_output: bool,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> decanter_core::Result<Option<JobFile>> {
    let Some(stamp) = stamp_at(address, setting)? else { return Ok(None) };
    let sha1 = match known(cellar, address, &stamp)? {
        Some(sha1) => Some(sha1),
        None => {
            let source = setting.store(address).open(address)?;
            of_source(&source, &[Algorithm::Sha1], setting.watch)?.into_iter().next().map(|d| d.bytes)
        }
    };
    let (path, size, modified) = (plain(address), stamp.size, Some(stamp.modified));
    Ok(Some(JobFile { is_output, path, size, modified, sha1, sha256: None }))
}

fn is_address(path: &str) -> bool {
    path.contains("://")
}

/// The SHA-1 of a file as it is.
fn sha1_of(path: &Path, watch: &dyn Watch) -> decanter_core::Result<Option<Vec<u8>>> {
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    Ok(of_source(&source, &[Algorithm::Sha1], watch)?.into_iter().next().map(|d| d.bytes))
}

/// What the catalogue has of a file that is as it was scanned.
fn known(cellar: &mut Cellar, path: &str, stamp: &Stamp) -> decanter_core::Result<Option<Vec<u8>>> {
    let db = cellar.db.as_mut();
    let row = at(db, path)?;
    Ok(row.filter(|row| row.stamp == *stamp).and_then(|row| row.sums.get(Algorithm::Sha1).map(<[u8]>::to_vec)))
}

/// The row of the file at a whole path, in whichever place it lies.
pub(super) fn at(db: &mut dyn decanter_cellar::Database, path: &str) -> decanter_core::Result<Option<FileRow>> {
    for place in Place::all(db)?.into_iter().rev() {
        let below = path.strip_prefix(place.root.as_str()).map(|rest| rest.trim_start_matches('/'));
        if let Some(below) = below.filter(|_| super::places::lies_in(path, &place.root))
            && let Some(row) = FileRow::at(db, place.id, below)?
        {
            return Ok(Some(row));
        }
    }
    Ok(None)
}

/// Where a file comes from.
#[derive(Debug, Serialize)]
pub struct HistoryReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// The file, as a whole path.
    pub file: String,
    /// Its SHA-1, if it is there.
    pub sha1: Option<String>,
    /// The jobs that led to it, the last one first.
    pub jobs: Vec<JobReport>,
    /// What is left to say.
    pub notices: Vec<decanter_core::Notice>,
}

/// A job.
#[derive(Debug, Clone, Serialize)]
pub struct JobReport {
    /// Its number in the catalogue.
    pub id: i64,
    /// What was asked for.
    pub command: String,
    /// What was typed, without secrets.
    pub parameters: Vec<String>,
    /// The program's version.
    pub version: String,
    /// When it began: seconds since 1970.
    pub began: i64,
    /// When it ended.
    pub ended: i64,
    /// The exit code.
    pub result: i64,
    /// What went in.
    pub inputs: Vec<FileOfJob>,
    /// What came out.
    pub outputs: Vec<FileOfJob>,
}

/// A file of a job.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FileOfJob {
    /// Its whole path at that time.
    pub path: String,
    /// Length in bytes.
    pub bytes: u64,
    /// Its SHA-1.
    pub sha1: Option<String>,
}

/// Follows a file back to the first sources.
///
/// # Errors
/// When the cellar cannot be used, the file is not there and unknown, or cannot be read.
pub fn history(file: &str, setting: &Setting<'_>) -> Result<HistoryReport, Failure> {
    let mut cellar = open("use", setting)?;
    let what = format!("cannot tell the history of \"{file}\"");
    let fail = broke(&what);
    let typed = native::path(file);
    let path = match is_address(file) {
        true => typed.clone(),
        false => os::resolved(&typed).or_else(|_| std::path::absolute(&typed)).unwrap_or_else(|_| typed.clone()),
    };
    let mut notices = Vec::new();
    let there = match is_address(file) {
        true => described_far(file, true, &mut cellar, setting).map_err(&fail)?,
        false if typed.is_file() => described(&path, true, &mut cellar, setting.watch).map_err(&fail)?,
        false => None,
    };
    let is_there = there.is_some();
    let start = there.unwrap_or_else(|| JobFile { is_output: true, path: native::text(&path), ..JobFile::default() });
    let db = cellar.db.as_mut();
    let (mut todo, mut jobs, mut seen) = (vec![start.clone()], Vec::<JobReport>::new(), HashSet::new());
    while let Some(file) = todo.pop() {
        let found = Job::that_wrote(db, &file).map_err(&fail)?;
        // The same bytes go before the same name; the last job is the one that made what is there.
        let is_same = |job: &&Job| job.files.iter().any(|f| f.is_output && f.sha1.is_some() && f.sha1 == file.sha1);
        let chosen = found.iter().find(is_same).or_else(|| found.first());
        let Some(job) = chosen else { continue };
        if file.sha1.is_some() && !is_same(&job) {
            let text = format!("{} has other bytes now than job {} wrote", file.path, job.id);
            notices.push(decanter_core::Notice::damage(text));
        }
        if !seen.insert(job.id) || jobs.len() >= MOST_JOBS {
            continue;
        }
        todo.extend(job.files.iter().filter(|f| !f.is_output).cloned());
        jobs.push(told(job));
    }
    jobs.sort_by_key(|job| std::cmp::Reverse(job.id));
    if jobs.is_empty() && !is_there {
        let error = Error::io("open", &path, std::io::ErrorKind::NotFound.into());
        return Err(Failure::new(what.clone(), error).hint("give a file that is there, or one that a job wrote"));
    }
    Ok(HistoryReport {
        schema: "decanter.cellar-history/1",
        cellar: cellar.location.shown(),
        file: start.path,
        sha1: start.sha1.as_deref().map(decanter_core::digest::hex),
        jobs,
        notices,
    })
}

fn told(job: &Job) -> JobReport {
    let file = |f: &JobFile| FileOfJob {
        path: f.path.clone(),
        bytes: f.size,
        sha1: f.sha1.as_deref().map(decanter_core::digest::hex),
    };
    JobReport {
        id: job.id,
        command: job.command.clone(),
        parameters: serde_json::from_str(&job.parameters).unwrap_or_default(),
        version: job.version.clone(),
        began: job.began,
        ended: job.ended,
        result: job.result,
        inputs: job.files.iter().filter(|f| !f.is_output).map(file).collect(),
        outputs: job.files.iter().filter(|f| f.is_output).map(file).collect(),
    }
}
