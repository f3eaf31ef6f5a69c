//! What came of recipes, whatever they make.

use decanter_core::Notice;
use decanter_core::digest::Digest;
use serde::Serialize;
use std::path::PathBuf;

/// A recipe that was written.
#[derive(Debug, Serialize)]
pub struct NewReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Where the sources came from.
    pub source: String,
    /// The recipe.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub recipe: PathBuf,
    /// The sources in it, each with its system.
    pub titles: Vec<(String, &'static str)>,
    /// The command to type next.
    pub next: String,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// What a recipe will make.
#[derive(Debug, Serialize)]
pub struct ShowReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The recipe.
    pub recipe: String,
    /// The titles.
    pub titles: Vec<ShownTitle>,
    /// The preview sheet that was written.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub picture: Option<PathBuf>,
    /// The command to type next.
    pub next: String,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A title that will be made.
#[derive(Debug, Serialize)]
pub struct ShownTitle {
    /// The ROM or disc.
    pub source: String,
    /// Format of the source, or what it is in words.
    pub kind: String,
    /// Bytes of it, after patches.
    pub bytes: u64,
    /// The title, as the console's menu shows it.
    pub title: String,
    /// The title id.
    pub title_id: String,
    /// Where the title id is from.
    pub id_from: &'static str,
    /// What else there is to say of it: name and value.
    pub facts: Vec<(&'static str, String)>,
    /// The files of the package, where they are several.
    pub files: Vec<ShownFile>,
    /// The package that will be written.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub output: PathBuf,
}

/// A file of a package that will be made.
#[derive(Debug, Clone, Serialize)]
pub struct ShownFile {
    /// Its path in the package.
    pub path: String,
    /// Its length in bytes, where it is known before it is made.
    pub bytes: Option<u64>,
    /// What it is made of.
    pub from: String,
}

/// What was made.
#[derive(Debug, Serialize)]
pub struct MakeReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The recipe.
    pub recipe: String,
    /// The titles that were made.
    pub titles: Vec<MadeTitle>,
    /// What could not be made, and why.
    pub failed: Vec<String>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A title that was made.
#[derive(Debug, Serialize)]
pub struct MadeTitle {
    /// The ROM or disc.
    pub source: String,
    /// The package.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// The title id.
    pub title_id: String,
    /// The title, as the console's menu shows it.
    pub title: String,
    /// Where the source is in it.
    pub source_at: String,
    /// What reading it back has shown; empty in a rehearsal.
    pub proof: String,
    /// Digests of the package.
    pub digests: Vec<Digest>,
}
