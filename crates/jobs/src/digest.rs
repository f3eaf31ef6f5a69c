//! CRC-32, MD5, SHA-1 and SHA-256 in one read.

use crate::{Failure, Setting, locate};
use decanter_core::Error;
use decanter_core::digest::{self, Algorithm, Digest};
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

/// Computes digests of the sources exactly as named: an archive is not looked through. What cannot be read does not
/// stop the others.
///
/// # Errors
/// When the user stops, or the only source cannot be read.
pub fn digest(
    sources: &[String],
    algorithms: &[Algorithm],
    setting: &Setting<'_>,
) -> Result<(DigestReport, Vec<Failure>), Failure> {
    let mut report = DigestReport { schema: "decanter.digest/1", sources: Vec::new() };
    let mut failures = Vec::new();
    for shown in sources {
        match one(shown, algorithms, setting) {
            Ok(found) => report.sources.push(found),
            Err(failure) if sources.len() == 1 || matches!(*failure.cause, Error::Cancelled) => return Err(failure),
            Err(failure) => failures.push(failure),
        }
    }
    Ok((report, failures))
}

fn one(shown: &str, algorithms: &[Algorithm], setting: &Setting<'_>) -> Result<SourceDigests, Failure> {
    let failed = |e| Failure::new(format!("cannot read \"{shown}\""), e);
    let (source, unfinished) = locate::bytes_and_map(shown, setting).map_err(failed)?;
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
