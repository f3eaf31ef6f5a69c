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
    /// Where the ROMs came from.
    pub source: String,
    /// The recipe.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub recipe: PathBuf,
    /// The ROMs in it, each with its system.
    pub titles: Vec<(String, &'static str)>,
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
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A title that will be made.
#[derive(Debug, Serialize)]
pub struct ShownTitle {
    /// The ROM.
    pub rom: String,
    /// The package that carries the player, if one does.
    pub base: Option<String>,
    /// Format of the ROM, and its length in bytes after patches.
    pub system: &'static str,
    /// Bytes of the ROM.
    pub rom_bytes: u64,
    /// The title id.
    pub title_id: String,
    /// Whether it was derived from the ROM.
    pub id_is_derived: bool,
    /// The short name in English.
    pub short: String,
    /// The long name in English.
    pub long: String,
    /// The publisher in English.
    pub publisher: String,
    /// Languages with names of their own.
    pub own_languages: Vec<String>,
    /// Save type, for the GBA mode, and how it is known.
    pub save: Option<(&'static str, String)>,
    /// Motion ghosting in words, for the GBA mode.
    pub ghosting: Option<String>,
    /// The darkening curve in words, for the GBA mode.
    pub darkening: Option<String>,
    /// The package that will be written.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub output: PathBuf,
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
    /// The ROM.
    pub rom: String,
    /// The package.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// The title id.
    pub title_id: String,
    /// The short name in English.
    pub short: String,
    /// Where the ROM is in it.
    pub rom_at: String,
    /// Digests of the package.
    pub digests: Vec<Digest>,
}
