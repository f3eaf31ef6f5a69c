//! A title of the handheld: told, drawn, and laid out with or without a package that carries its player.

use super::ready::Title3ds;
use super::{base, gba, sheet};
use crate::Setting;
use crate::convert::handheld::certificates;
use crate::recipe::{Laid, Ready, ShownTitle};
use decanter_core::{Notice, Result};
use decanter_formats::package::n3ds::title as ids;
use std::path::Path;

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
