//! A card against the list of what was put there.

use super::manifest::{Manifest, NAME};
use crate::{Answer, Failure, Setting};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::error::Blame;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Result, native};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// How a card compares with its list.
#[derive(Debug, Serialize)]
pub struct CheckReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The folder.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub folder: PathBuf,
    /// Every file on the list.
    pub files: Vec<Checked>,
    /// Bytes of those that are there.
    pub bytes: u64,
}

/// A file on the list.
#[derive(Debug, Serialize)]
pub struct Checked {
    /// Its path below the folder.
    pub path: String,
    /// How it is.
    pub state: CheckedState,
    /// Why it could not be read.
    pub why: Option<String>,
}

/// How a file compares with the list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum CheckedState {
    /// It is as it was put there.
    Match,
    /// It has other bytes.
    Differs,
    /// It is not there.
    Missing,
    /// It cannot be read.
    Unreadable,
}

/// Compares a card with its list.
///
/// # Errors
/// When there is no list, or it cannot be read.
pub fn check(folder: &Path, setting: &Setting<'_>) -> std::result::Result<(CheckReport, Answer), Failure> {
    let what = format!("cannot check \"{}\"", native::text(folder));
    let list = Manifest::read(folder).map_err(|e| Failure::new(what.clone(), e))?;
    let Some(list) = list else {
        return Err(Failure::usage(what, format!("there is no \"{NAME}\" in it")).hint(
            "\"decanter deliver SOURCE --onto DIR\" writes one; or compare with \"decanter verify --against LIST\"",
        ));
    };
    let mut report =
        CheckReport { schema: "decanter.deliver-check/1", folder: folder.to_owned(), files: Vec::new(), bytes: 0 };
    let mut answer = Answer::Yes;
    for (path, wanted) in &list.0 {
        let (state, why) = match one(folder, path, setting) {
            Ok(None) => (CheckedState::Missing, None),
            Ok(Some((found, bytes))) => {
                report.bytes += bytes;
                (if found == *wanted { CheckedState::Match } else { CheckedState::Differs }, None)
            }
            Err(e) if matches!(e, Error::Cancelled) => return Err(Failure::new(what, e)),
            Err(e) => {
                answer = if e.blame() == Blame::Machine { Answer::ReadError } else { answer };
                (CheckedState::Unreadable, Some(e.to_string()))
            }
        };
        if state != CheckedState::Match && answer == Answer::Yes {
            answer = Answer::No;
        }
        report.files.push(Checked { path: path.clone(), state, why });
    }
    Ok((report, answer))
}

/// The SHA-1 of a file and its length; `None` if it is not there. A list is believed nothing: no path leads out.
fn one(folder: &Path, path: &str, setting: &Setting<'_>) -> Result<Option<(Vec<u8>, u64)>> {
    if path.starts_with('/') || path.split('/').any(|name| matches!(name, "" | "." | "..")) {
        return Err(Error::Unreadable { why: "the list names a path that leads out of the folder".into() });
    }
    let target = super::target_of(folder, path);
    if std::fs::metadata(&target).is_err() {
        return Ok(None);
    }
    let source: SourceRef = Arc::new(FileSource::own(&target)?);
    setting.watch.begin(&format!("reading {path}"), Some(source.len()));
    let found = of_source(&source, &[Algorithm::Sha1], setting.watch)?;
    setting.watch.end();
    Ok(Some((found[0].bytes.clone(), source.len())))
}
