//! Packages for the big console: a PSP or PS2 disc with a title, pictures and a sound of its own. What they contain:
//! docs/formats/ps3-title.md.

mod disc;
mod entry;
mod media;
mod parameters;
mod prepare;
mod ready;
mod sheet;
mod title;

use super::art::Art;
use super::script::{self, Script};
use super::{Entry, Maker, Ready, each};
use crate::{Failure, Item, Setting};
use decanter_core::Result;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The maker.
pub(super) struct Ps3;

impl Maker for Ps3 {
    fn platform(&self) -> &'static str {
        "ps3"
    }

    fn makes(&self, item: &Item) -> Option<&'static str> {
        disc::Kind::of(item).map(|_| "pkg by recipe")
    }

    fn entry(&self, item: &Item, path: &str, setting: &Setting<'_>) -> Result<Option<Entry>> {
        entry::entry(item, path, setting)
    }

    fn prepare(&self, script: &Script, setting: &Setting<'_>) -> std::result::Result<Vec<Box<dyn Ready>>, Failure> {
        let recipe = Arc::new(Recipe::read(script)?);
        each(script, &recipe.titles, |title| &title.disc, |title| prepare::prepare(&recipe, title, setting))
    }

    fn takes_key(&self) -> bool {
        true
    }

    fn caution(&self) -> &'static str {
        crate::convert::playstation::PLACEHOLDERS
    }
}

/// A recipe of such titles.
type Recipe = script::Recipe<Title>;

/// One title.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Title {
    /// The disc: an image, a cue sheet, a compressed one; it may stand in an archive.
    disc: String,
    /// Title id; the disc's own without it.
    id: Option<String>,
    /// Content id; made of title id and title without it.
    content_id: Option<String>,
    /// Version of the package, as in "01.00".
    version: Option<String>,
    /// The package to write.
    output: Option<String>,
    /// Whether it is encrypted with the ring's key, as consoles that are not for developers install it.
    #[serde(default)]
    finalized: bool,
    /// PS2: whether the image is for consoles of developers.
    #[serde(default)]
    debug_console: bool,
    /// Files of the disc that are filled with zeros.
    #[serde(default)]
    blank: Vec<String>,
    /// Files of the disc that are left out.
    #[serde(default)]
    without: Vec<String>,
    /// A sound of the menu, and a moving icon; those of the disc without it, none where they are empty.
    sound: Option<String>,
    animation: Option<String>,
    /// A parameter file of the user's own, whose values stay where the recipe says nothing.
    parameter_file: Option<String>,
    /// PSP: what the marker contains.
    marker: Option<String>,
    /// PS2: settings for the console's emulator.
    config: Option<String>,
    /// PS2: memory cards: "empty", or a file.
    cards: Option<Vec<String>>,
    #[serde(default)]
    names: Names,
    #[serde(default)]
    icon: Art,
    #[serde(default)]
    background: Art,
    #[serde(default)]
    overlay: Art,
    /// Values of the parameter file.
    #[serde(default)]
    parameters: BTreeMap<String, parameters::Given>,
    /// Files of the user's own, by their paths in the package.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

/// The title in the menu, and others for single languages.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Names {
    title: Option<String>,
    #[serde(default, rename = "in")]
    languages: BTreeMap<String, Texts>,
}

/// The title in one language.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Texts {
    title: String,
}

impl Title {
    /// The memory cards: two empty ones where nothing is said.
    fn cards(&self) -> Vec<&str> {
        match &self.cards {
            Some(cards) => cards.iter().map(String::as_str).collect(),
            None => vec![ready::EMPTY; ready::CARDS.len()],
        }
    }
}
