//! CRC-32, MD5, SHA-1 and SHA-256 in one read.

use crate::{Failure, Setting, locate};
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
}

/// Computes digests of the sources exactly as named: an archive is not looked through.
///
/// # Errors
/// When one of them cannot be read.
pub fn digest(sources: &[String], algorithms: &[Algorithm], setting: &Setting<'_>) -> Result<DigestReport, Failure> {
    let mut report = DigestReport { schema: "decanter.digest/1", sources: Vec::new() };
    for shown in sources {
        let failed = |e| Failure::new(format!("cannot read \"{shown}\""), e);
        let source = locate::bytes(shown, setting).map_err(failed)?;
        setting.watch.begin(&format!("reading {shown}"), Some(source.len()));
        let digests = digest::of_source(&source, algorithms, setting.watch).map_err(failed)?;
        setting.watch.end();
        report.sources.push(SourceDigests { source: shown.clone(), bytes: source.len(), digests });
    }
    Ok(report)
}
