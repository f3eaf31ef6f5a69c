//! Titles that a source holds, and what they are to each other.

use serde::Serialize;

/// A part of a title.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum TitlePart {
    /// The game or program itself.
    Program,
    /// A trial version of it.
    Trial,
    /// An update of it.
    Update,
    /// More content for it.
    AddOn,
    /// Its manual.
    Manual,
    /// Something else that goes with it.
    Other,
}

/// A title in a source that can be told apart from others in it, and put together with those of other sources.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HeldTitle {
    /// Its id.
    pub id: String,
    /// The id that it has in common with what it goes with: that of the base.
    pub family: String,
    /// Which part it is.
    pub part: TitlePart,
    /// Its number among add-ons.
    pub number: Option<u64>,
    /// Its version; a larger one is newer.
    pub version: u32,
    /// The version, as people write it.
    pub version_text: String,
    /// The version of the update that it needs, if it says one.
    pub needs: Option<u32>,
    /// Contents that have to be there and are not.
    pub missing: Vec<String>,
    /// What two copies of the same have in common: different ones of the same version contradict each other.
    pub mark: String,
    /// Bytes of its contents.
    pub bytes: u64,
}
