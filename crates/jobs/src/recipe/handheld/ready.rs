//! A title of a recipe, ready to be made.

use super::{Recipe, Title, base, gba, sheet};
use crate::Setting;
use crate::convert::handheld::certificates;
use crate::recipe::{Laid, Ready, ShownTitle};
use decanter_core::label::Picture;
use decanter_core::{Notice, Result};
use decanter_formats::package::n3ds::gba_mode::Settings;
use decanter_formats::package::n3ds::smdh::Smdh;
use decanter_formats::package::n3ds::title as ids;
use std::path::{Path, PathBuf};
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

impl Ready for Title3ds {
    fn source(&self) -> &str {
        &self.title.rom
    }

    fn id(&self) -> String {
        ids::shown(self.id)
    }

    fn output(&self) -> &Path {
        &self.output
    }

    fn notices(&self) -> &[Notice] {
        &self.notices
    }

    fn title(&self) -> String {
        self.smdh.names(1).short
    }

    fn shown(&self, _: &mut Vec<Notice>, _: &Setting<'_>) -> Result<ShownTitle> {
        let names = self.smdh.names(1);
        let mut facts = vec![("long name", names.long.replace('\n', " / "))];
        facts.push(("base", self.title.base.clone().unwrap_or("none: the console's GBA mode runs it".into())));
        if !names.publisher.is_empty() {
            facts.push(("publisher", names.publisher));
        }
        if !self.title.names.languages.is_empty() {
            let own: Vec<&str> = self.title.names.languages.keys().map(String::as_str).collect();
            facts.push(("own names", own.join(", ")));
        }
        if self.title.base.is_none() {
            let settings = &self.settings;
            facts.push(("save", format!("{} ({})", settings.save.name(), self.save_known_by)));
            facts.push((
                "ghosting",
                match settings.ghosting {
                    0xff => "off".to_owned(),
                    value => format!("{value} of 255, where 255 is none"),
                },
            ));
            facts.push((
                "darkening",
                match (settings.gamma, settings.level) {
                    (1.0, 1.0) => "none".to_owned(),
                    (gamma, level) => format!("gamma {gamma}, white at {:.0} %", level * 100.0),
                },
            ));
        }
        Ok(ShownTitle {
            source: self.title.rom.clone(),
            kind: self.system.to_owned(),
            bytes: self.rom.len() as u64,
            title: names.short,
            title_id: self.id(),
            id_from: if self.title.id.is_none() { "derived from the ROM" } else { "the recipe says so" },
            facts,
            files: Vec::new(),
            output: self.output.clone(),
        })
    }

    fn sheet(&self, _: &Setting<'_>) -> Result<Vec<u8>> {
        sheet::draw(self, self.title.base.is_some())
    }

    fn lay(&self, setting: &Setting<'_>) -> Result<Laid> {
        let given = self.recipe.named(self.title.certificates.as_deref());
        let certificates = certificates(given.as_deref(), setting)?;
        let mut notices = Vec::new();
        let (blueprint, place) = match &self.title.base {
            Some(path) => {
                base::package(&self.recipe.path(path), &self.title, self, certificates, &mut notices, setting)?
            }
            None => (gba::package(self, certificates, setting)?, "code of the program, for the GBA mode".to_owned()),
        };
        Ok(Laid { blueprint, place, notices })
    }
}
