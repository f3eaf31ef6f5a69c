//! A title of a recipe, ready to be made.

use super::{Recipe, Title};
use decanter_core::Notice;
use decanter_core::label::Picture;
use decanter_formats::package::n3ds::gba_mode::Settings;
use decanter_formats::package::n3ds::smdh::Smdh;
use std::path::PathBuf;
use std::sync::Arc;

/// A title, ready to be made.
pub(super) struct Title3ds {
    /// The recipe, and what it says of this title.
    pub(super) recipe: Arc<Recipe>,
    pub(super) title: Title,
    /// Format of the ROM.
    pub(super) system: &'static str,
    /// The ROM, patched.
    pub(super) rom: Vec<u8>,
    /// Its own code of four characters.
    pub(super) game_code: String,
    /// The title id.
    pub(super) id: u64,
    /// Names and icons.
    pub(super) smdh: Smdh,
    /// Both icons, as the console shows them.
    pub(super) icons: [Picture; 2],
    /// The wide picture.
    pub(super) wide: Picture,
    /// Settings of the GBA mode, and how the save type is known.
    pub(super) settings: Settings,
    pub(super) save_known_by: String,
    /// The package to write.
    pub(super) output: PathBuf,
    pub(super) notices: Vec<Notice>,
}
