//! A title of the big console: told, drawn, laid out; and what reading its package back proves.

use super::ready::TitlePs3;
use super::sheet;
use crate::convert::packed_content;
use crate::convert::playstation::package;
use crate::recipe::{Laid, Ready, ShownTitle};
use crate::{Setting, grouped};
use decanter_core::compare::first_difference;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::tree::Node;
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::ps3::pkg;
use std::path::Path;
use std::sync::Arc;

impl Ready for TitlePs3 {
    fn source(&self) -> &str {
        &self.title.disc
    }

    fn id(&self) -> String {
        self.id.clone()
    }

    fn output(&self) -> &Path {
        &self.output
    }

    fn notices(&self) -> &[Notice] {
        &self.notices
    }

    fn title(&self) -> String {
        self.name.clone()
    }

    fn shown(&self, notices: &mut Vec<Notice>, setting: &Setting<'_>) -> Result<ShownTitle> {
        let mut media = self.media(setting)?;
        notices.append(&mut media.notices);
        Ok(self.told(&media))
    }

    fn sheet(&self, setting: &Setting<'_>) -> Result<Vec<u8>> {
        sheet::draw(self, &self.media(setting)?)
    }

    fn lay(&self, setting: &Setting<'_>) -> Result<Laid> {
        self.item.finished(setting)?;
        self.item.sound(false, setting)?;
        let media = self.media(setting)?;
        let (id, keyring) = (self.content_id.clone(), &self.item.keyring);
        let making = package::making(id, &self.parameters, self.title.finalized, keyring)?;
        let blueprint = pkg::compose(&self.tree(&media, setting)?, &making)?;
        Ok(Laid { blueprint, place: self.kind.place().to_owned(), notices: media.notices })
    }

    fn prove(&self, path: &Path, setting: &Setting<'_>) -> Result<String> {
        let names = [self.item.stem.clone(), self.id.clone()];
        let opener = setting.opener(&self.item.keyring).with_names(&names);
        let written: SourceRef = Arc::new(FileSource::own(path)?);
        let package = opener.open(written)?;
        let count = crate::verify::prove(&package, setting)?;
        let place = self.kind.place();
        let file = package.holds.tree.as_ref().and_then(|t| t.find(place)).and_then(Node::file);
        let lost = || Error::Unreadable { why: format!("{place}, read back, has no disc in it; nothing was kept") };
        let opened = opener.open(file.ok_or_else(lost)?.source()?.clone())?;
        let inside = packed_content(&opened).ok_or_else(lost)?;
        setting.watch.begin("comparing the disc", Some(self.disc.bytes.len()));
        let differs = first_difference(self.disc.bytes.as_ref(), inside.as_ref(), setting.watch)?;
        setting.watch.end();
        match differs {
            Some(at) => Err(Error::Checksum {
                what: format!("{place}, read back,"),
                expected: "the bytes of the disc".into(),
                found: format!("other bytes from offset {at:#x} on; nothing was kept"),
            }),
            None => Ok(format!(
                "read back: all {count} digests and checks hold, and the disc in it has the same {} bytes",
                grouped(self.disc.bytes.len())
            )),
        }
    }
}
