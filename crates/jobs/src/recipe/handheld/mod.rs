//! Titles for the handheld: a ROM in a package, with names, icons, a banner, settings of the GBA mode.

mod art;
mod base;
mod entry;
mod gba;
mod prepare;
mod ready;
mod sheet;
mod title;

use super::art::{Art, Colour, FitName};
use super::script::{self, Script};
use super::{Entry, Maker, Ready, each, language_number};
use crate::{Failure, Item, Setting};
use decanter_core::{Error, Format, Result};
use decanter_formats::cartridge::gba::GAME_BOY_ADVANCE;
use decanter_formats::package::n3ds::gba_mode::MOST_ROM;
use decanter_formats::package::n3ds::smdh::LANGUAGES;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The largest content that is put together in memory.
const MOST_CONTENT: u64 = 512 << 20;

/// The maker.
pub(super) struct Handheld;

impl Maker for Handheld {
    fn platform(&self) -> &'static str {
        "handheld"
    }

    fn makes(&self, item: &Item) -> Option<&'static str> {
        let fits = item.opened.holds.rom.as_ref().is_some_and(|rom| rom.body.len() <= MOST_ROM as u64);
        (fits && GAME_BOY_ADVANCE.is_of(&item.opened)).then_some("cia by recipe")
    }

    fn entry(&self, item: &Item, path: &str, setting: &Setting<'_>) -> Result<Option<Entry>> {
        entry::entry(item, path, setting)
    }

    fn prepare(&self, script: &Script, setting: &Setting<'_>) -> std::result::Result<Vec<Box<dyn Ready>>, Failure> {
        let recipe = Arc::new(Recipe::read(script)?);
        check(&recipe).map_err(|e| script.failed(e))?;
        each(script, &recipe.titles, |title| &title.rom, |title| prepare::prepare(&recipe, title, setting))
    }

    fn caution(&self) -> &'static str {
        "signatures, and certificates unless the recipe names some, are placeholders: consoles that check them refuse it"
    }
}

/// A recipe of such titles.
type Recipe = script::Recipe<Title>;

/// One title.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Title {
    /// The ROM; it may stand in an archive.
    pub(crate) rom: String,
    /// A package of the user's own that carries the player. GBA ROMs need none.
    pub(crate) base: Option<String>,
    /// Path of the ROM in that package, if it is not found by its content.
    pub(crate) replace: Option<String>,
    /// Title id; derived from the ROM without it.
    pub(crate) id: Option<String>,
    /// Patches to apply on the way, in order.
    #[serde(default)]
    pub(crate) patches: Vec<String>,
    /// The package to write.
    pub(crate) output: Option<String>,
    /// The logo region of a content of the user's own.
    pub(crate) logo: Option<String>,
    /// The certificates.
    pub(crate) certificates: Option<String>,
    /// Whether it starts in every region.
    #[serde(default = "yes")]
    pub(crate) region_free: bool,
    #[serde(default)]
    pub(crate) names: Names,
    #[serde(default)]
    pub(crate) icon: Art,
    #[serde(default)]
    pub(crate) wide: Wide,
    #[serde(default)]
    pub(crate) gba: Gba,
}

/// Names in all languages, and others for single ones.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Names {
    pub(crate) short: Option<String>,
    pub(crate) long: Option<String>,
    pub(crate) publisher: Option<String>,
    #[serde(default, rename = "in")]
    pub(crate) languages: BTreeMap<String, Texts>,
}

/// Names in one language.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Texts {
    pub(crate) short: Option<String>,
    pub(crate) long: Option<String>,
    pub(crate) publisher: Option<String>,
}

/// The wide picture.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Wide {
    pub(crate) picture: Option<String>,
    #[serde(default)]
    pub(crate) fit: FitName,
    pub(crate) background: Option<Colour>,
    pub(crate) frame: Option<Colour>,
    pub(crate) frame_width: Option<u32>,
    pub(crate) text: Option<String>,
    pub(crate) text_colour: Option<Colour>,
    pub(crate) text_size: Option<f32>,
    pub(crate) font: Option<String>,
}

/// Settings of the GBA mode.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub(crate) struct Gba {
    pub(crate) save: Option<String>,
    pub(crate) ghosting: u8,
    pub(crate) gamma: f32,
    pub(crate) brightness: f32,
    pub(crate) sleep: Vec<String>,
}

impl Default for Gba {
    fn default() -> Self {
        let sleep = ["L", "R", "Select"].map(str::to_owned).to_vec();
        Self { save: None, ghosting: 0xff, gamma: 1.0, brightness: 1.0, sleep }
    }
}

fn yes() -> bool {
    true
}

/// What a type cannot say: ranges, and names of languages and buttons.
fn check(recipe: &Recipe) -> Result<()> {
    for title in &recipe.titles {
        for language in title.names.languages.keys() {
            language_number(language, &LANGUAGES)?;
        }
        prepare::buttons(&title.gba.sleep)?;
        let gba = &title.gba;
        let inside = |what: &str, value: f32, range: std::ops::RangeInclusive<f32>| match range.contains(&value) {
            true => Ok(()),
            false => Err(Error::Usage(format!("{what} = {value} is not from {} to {}", range.start(), range.end()))),
        };
        inside("gamma", gba.gamma, 0.2..=5.0)?;
        inside("brightness", gba.brightness, 0.05..=1.0)?;
        inside("ghosting", f32::from(gba.ghosting), 1.0..=255.0)?;
        inside("text-size", title.wide.text_size.unwrap_or(24.0), 6.0..=128.0)?;
        for width in [title.icon.frame_width, title.wide.frame_width].into_iter().flatten() {
            inside("frame-width", width as f32, 0.0..=10.0)?;
        }
    }
    Ok(())
}
