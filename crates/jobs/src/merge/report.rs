//! What came of merging and of taking apart.

use super::lay::{Laid, Proof};
use crate::Failure;
use crate::family::Family;
use decanter_core::Notice;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// What was merged.
#[derive(Debug, Serialize)]
pub struct MergeReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// What the results are.
    pub to: &'static str,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// A result for each title.
    pub results: Vec<Merged>,
    /// Sources that cannot be used, and why.
    pub failed: Vec<String>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// One merged file.
#[derive(Debug, Default, Serialize)]
pub struct Merged {
    /// Id of the base.
    pub id: String,
    /// What the title is called.
    pub title: Option<String>,
    /// What is in it, in words.
    pub holds: String,
    /// The sources of its parts, in their order: source, and what it is.
    pub parts: Vec<(String, String)>,
    /// The file.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub path: Option<PathBuf>,
    /// Its length in bytes.
    pub bytes: u64,
    /// Files in it.
    pub files: usize,
    /// Contents that were held against the digests that their lists have of them.
    pub checked: usize,
    /// What reading it back has shown, if that was asked for.
    pub proven: Option<Proof>,
    /// What else is to be said of it: name and value.
    pub facts: Vec<(String, String)>,
    /// What each source gave, where their files went over each other.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub taken: Vec<Taken>,
    /// Files that have no place in the result, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub dropped: Vec<Dropped>,
    /// Why it was not made.
    pub error: Option<String>,
    /// What to do about it.
    pub hint: Option<String>,
    /// What was noticed.
    pub notices: Vec<Notice>,
}

/// What one of several sources gave whose files went over each other.
#[derive(Debug, Clone, Serialize)]
pub struct Taken {
    /// The source.
    pub source: String,
    /// What it is.
    pub what: String,
    /// Files of it that are in the result.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Files of sources before it that they took the place of.
    pub replaced: usize,
    /// Files that no source before it had.
    pub added: usize,
    /// Files of it that a source behind it took the place of.
    pub superseded: usize,
}

/// A file that has no place in the result.
#[derive(Debug, Clone, Serialize)]
pub struct Dropped {
    /// The source.
    pub source: String,
    /// Path of the file.
    pub path: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Why.
    pub why: String,
}

impl MergeReport {
    pub(super) fn new(to: &'static str, dry_run: bool) -> Self {
        let (results, failed, notices) = (Vec::new(), Vec::new(), Vec::new());
        Self { schema: "decanter.merge/1", to, dry_run, results, failed, notices }
    }
}

impl Merged {
    fn named(family: &Family) -> Self {
        Self {
            id: family.id.clone(),
            title: family.name.clone(),
            holds: family.words(),
            parts: family.chosen().map(|m| (m.source.clone(), m.what())).collect(),
            ..Self::default()
        }
    }

    pub(super) fn of(family: &Family, target: &Path, laid: &Laid) -> Self {
        Self {
            path: Some(target.to_owned()),
            bytes: laid.blueprint.len(),
            files: laid.files,
            checked: laid.checked,
            facts: laid.facts.clone(),
            notices: laid.notices.iter().map(Notice::new).collect(),
            ..Self::named(family)
        }
    }

    pub(super) fn failed(family: &Family, failure: &Failure) -> Self {
        Self { error: Some(failure.cause.to_string()), hint: failure.hint.clone(), ..Self::named(family) }
    }
}

/// What was taken apart.
#[derive(Debug, Serialize)]
pub struct UnmergeReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source.
    pub source: String,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// A package for each title.
    pub results: Vec<Unmerged>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A package of one title.
#[derive(Debug, Default, Serialize)]
pub struct Unmerged {
    /// Id of the title.
    pub id: String,
    /// What it is.
    pub what: String,
    /// The file.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub path: Option<PathBuf>,
    /// Its length in bytes.
    pub bytes: u64,
    /// Contents that were held against the digests that its list has of them.
    pub checked: usize,
    /// Why it was not made.
    pub error: Option<String>,
}
