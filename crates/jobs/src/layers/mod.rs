//! What goes over what: base, updates and replacement files of a title, each a layer over those before it.

mod fit;
mod folders;
mod keep;

pub use fit::{LayerSet, sets};
pub(crate) use fit::{fault_of_order, fits};
pub(crate) use folders::{TITLE_MARKS, take_root, title_folders};
pub use keep::{Kept, Point, keep};

use crate::Item;
use crate::convert::playstation::fourth;
use decanter_core::opened::TitlePart;
use decanter_core::role::Role;
use decanter_core::{Format, Result};
use decanter_formats::package::ps4::{self, header::Header};
use serde::Serialize;

/// What a layer is among the others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LayerPart {
    /// The game.
    Base,
    /// An update of it.
    Update,
    /// Files that take the place of others.
    Replacements,
    /// What goes with the title and is no layer: add-ons.
    Other,
}

impl LayerPart {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Update => "update",
            Self::Replacements => "replacements",
            Self::Other => "add-on",
        }
    }
}

/// What a source says of its place among the layers of a title.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Layer {
    /// The source.
    pub source: String,
    /// What it is.
    pub part: LayerPart,
    /// What the title is called; empty where it is not told.
    pub title: String,
    /// Title id; empty where it is not told.
    pub title_id: String,
    /// Content id; empty where it is not told.
    pub content_id: String,
    /// Version of the application; empty where it is not told.
    pub app_version: String,
    /// Version of the application that it was made for, where that is told.
    pub made_for: String,
    /// Version of the system that it needs, as a number; 0 where none is told.
    pub system: u32,
    /// Whether it holds changes alone.
    pub is_delta: bool,
    /// Files in it.
    pub files: usize,
    /// What else is to be said of it.
    pub remarks: Vec<String>,
}

impl Layer {
    /// What an item is among layers; `None` for what is no package of the generation, and no folder or archive of files.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn of(item: &Item) -> Result<Option<Self>> {
        let Some(tree) = item.opened.holds.tree.as_ref() else { return Ok(None) };
        let is_package = ps4::PACKAGE.is_of(&item.opened);
        let is_files = matches!(item.opened.identity.role, Role::Folder | Role::Archive);
        if !is_package && !is_files {
            return Ok(None);
        }
        let mut remarks = Vec::new();
        let found = match fourth::parameters(tree) {
            Ok(found) => found,
            Err(e) if e.blame() == decanter_core::error::Blame::Source => {
                remarks.push(e.to_string());
                None
            }
            Err(e) => return Err(e),
        };
        let own = found.clone().unwrap_or_default();
        // A handheld of the same time has files of the same names.
        if own.entries.iter().any(|(name, _)| name.starts_with("PSP2_")) {
            return Ok(None);
        }
        let text = |name: &str| own.text(name).unwrap_or_default().to_owned();
        let mut layer = Self {
            source: item.address.clone(),
            part: LayerPart::Replacements,
            title: text("TITLE"),
            title_id: text("TITLE_ID"),
            content_id: text("CONTENT_ID"),
            app_version: text("APP_VER"),
            made_for: text("TARGET_APP_VER"),
            system: own.number("SYSTEM_VER").unwrap_or(0),
            is_delta: false,
            files: tree.files().count(),
            remarks,
        };
        if let (true, Some(source)) = (is_package, &item.source) {
            let header = Header::read(source.as_ref())?;
            // What a console goes by is in the header; the parameter file agrees, or verify says so.
            layer.content_id = header.content_id();
            layer.title_id = item.opened.identity.id.clone().unwrap_or(layer.title_id);
            layer.is_delta = header.is_delta();
            let part = item.opened.identity.belongs.as_ref().map(|b| b.part);
            layer.part = match part {
                Some(TitlePart::Program) => LayerPart::Base,
                Some(TitlePart::Update) => LayerPart::Update,
                _ => LayerPart::Other,
            };
            if let (Some(TitlePart::Other), true, Some(own)) = (part, header.is_game(), &found) {
                let said = own.text("CATEGORY").unwrap_or_default();
                let what = if said.is_empty() { "no CATEGORY".to_owned() } else { format!("the CATEGORY {said}") };
                layer.remarks.push(format!(
                    "its {} has {what}: nothing says whether it is a base or an update",
                    ps4::PARAMETERS
                ));
            }
            if found.is_none() {
                layer.remarks.push(format!("it has no {} that says what it is", ps4::PARAMETERS));
            }
        }
        Ok(Some(layer))
    }

    /// What it is, with its version: "update 01.08".
    pub fn what(&self) -> String {
        match (self.part, self.app_version.as_str()) {
            (LayerPart::Replacements, "") => "replacements".into(),
            (LayerPart::Replacements, version) => format!("replacements for {version}"),
            (part, "") => part.word().into(),
            (part, version) => format!("{} {version}", part.word()),
        }
    }

    /// Its version as one that can be compared; 0 where there is none.
    pub(crate) fn rank(&self) -> u32 {
        rank(&self.app_version)
    }
}

/// `01.08` as a number that can be compared; 0 for what is no version.
pub(crate) fn rank(version: &str) -> u32 {
    let number = |digits: &str| digits.parse::<u16>().ok().map(u32::from);
    let parts = version.split_once('.').and_then(|(whole, part)| Some((number(whole)?, number(part)?)));
    parts.map_or(0, |(whole, part)| whole << 16 | part)
}

/// A version of the system in words; nothing for 0.
pub fn system_version(number: u32) -> String {
    if number == 0 { String::new() } else { ps4::system(number) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_compared_as_numbers() {
        assert!(rank("01.08") > rank("01.00") && rank("02.00") > rank("01.99") && rank("1.10") > rank("1.9"));
        assert_eq!((rank(""), rank("1"), rank("x.y")), (0, 0, 0));
    }
}
