//! CRC-32, MD5, SHA-1 and SHA-256 in one read.

use crate::below::Below;
use crate::{Failure, PIPE, Setting, locate};
use decanter_core::digest::{self, Algorithm, Digest};
use decanter_core::{Error, Notice, native};
use serde::Serialize;

/// The digests of some sources.
#[derive(Debug, Serialize)]
pub struct DigestReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// One entry a source, in the order given.
    pub sources: Vec<SourceDigests>,
}

/// The digests of one source.
#[derive(Debug, Serialize)]
pub struct SourceDigests {
    /// The source as it was typed.
    pub source: String,
    /// Length in bytes.
    pub bytes: u64,
    /// The digests, in the order in which they were asked for.
    pub digests: Vec<Digest>,
    /// Sectors that were not read when it was dumped; zeros stand for them.
    pub missing_sectors: u64,
}

/// Computes digests of the sources exactly as named: an archive is not looked through, but folders are. What cannot be
/// read does not stop the others. A part of a split image stands for all of it, but not in a list that other programs check
/// file by file.
///
/// # Errors
/// When the user stops, or the only source cannot be read.
pub fn digest(
    sources: &[String],
    algorithms: &[Algorithm],
    is_list: bool,
    setting: &Setting<'_>,
) -> Result<(DigestReport, Vec<Failure>), Failure> {
    let mut report = DigestReport { schema: "decanter.digest/1", sources: Vec::new() };
    let mut failures = Vec::new();
    let (files, unread) = files_of(sources, is_list, setting);
    failures.extend(unread);
    if files.is_empty() && failures.is_empty() {
        let what = format!("cannot read \"{}\"", sources.join("\", \""));
        return Err(Failure::usage(what, "there is no file in it").hint("give files, or folders with some"));
    }
    for (shown, is_own) in &files {
        match one(shown, *is_own, algorithms, setting) {
            Ok(found) => report.sources.push(found),
            Err(failure) if files.len() == 1 && failures.is_empty() || matches!(*failure.cause, Error::Cancelled) => {
                return Err(failure);
            }
            Err(failure) => failures.push(failure),
        }
    }
    Ok((report, failures))
}

/// The sources, those that are folders replaced by the files below them; whether each is a file that is taken by itself; and
/// what of the folders cannot be looked into.
fn files_of(sources: &[String], is_list: bool, setting: &Setting<'_>) -> (Vec<(String, bool)>, Vec<Failure>) {
    let (mut files, mut unread) = (Vec::new(), Vec::new());
    for source in sources {
        if !setting.is_folder(source) {
            files.push((source.clone(), is_list && native::path(source).is_file()));
            continue;
        }
        let below = Below::with_parts(source, setting);
        files.extend(below.files.into_iter().map(|path| (path, true)));
        let failed = below.failed.into_iter();
        unread.extend(failed.map(|(path, error)| Failure::new(format!("cannot read \"{path}\""), error)));
        for (path, kind) in below.passed {
            setting.watch.notice(&Notice::new(format!("{path} is passed over: it is {kind}")));
        }
    }
    (files, unread)
}

/// The digests of one source. A file of a folder is itself, also if it is a part of something.
fn one(shown: &str, is_own: bool, algorithms: &[Algorithm], setting: &Setting<'_>) -> Result<SourceDigests, Failure> {
    if shown == PIPE {
        let failed = |e| Failure::new("cannot read standard input", e);
        setting.watch.begin("reading standard input", None);
        let read = digest::of_stream(&mut std::io::stdin().lock(), "standard input", algorithms, setting.watch);
        let (bytes, digests) = read.map_err(failed)?;
        setting.watch.end();
        return Ok(SourceDigests { source: PIPE.to_owned(), bytes, digests, missing_sectors: 0 });
    }
    let failed = |e| Failure::new(format!("cannot read \"{shown}\""), e);
    let (source, unfinished) = match is_own {
        true => locate::file_and_map(shown, setting),
        false => locate::bytes_and_map(shown, setting),
    }
    .map_err(failed)?;
    if unfinished.is_some() && !setting.incomplete {
        return Err(
            failed(locate::unfinished()).hint("go on with \"decanter dump\", or add --incomplete for zeros there")
        );
    }
    setting.watch.begin(&format!("reading {shown}"), Some(source.len()));
    let digests = digest::of_source(&source, algorithms, setting.watch).map_err(failed)?;
    setting.watch.end();
    let missing_sectors = unfinished.map_or(0, |map| map.missing());
    Ok(SourceDigests { source: shown.to_owned(), bytes: source.len(), digests, missing_sectors })
}
