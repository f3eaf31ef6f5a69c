//! Packages of the PlayStation 3 generation, made of folders.

use super::Options;
use super::choice::{Choice, Kind, Split};
use super::folder::add_folders;
use super::made::{Back, Made};
use super::shared::SPLIT;
use super::target::{Target, is_folder};
use crate::{Item, Setting};
use decanter_core::error::Blame;
use decanter_core::source::SourceRef;
use decanter_core::tree::Node;
use decanter_core::view::Fill;
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::ps3::keys::{self, Role};
use decanter_formats::package::ps3::pkg::{self, Making, content_id};
use std::sync::Arc;

/// Packages of the family.
pub(super) static TARGETS: [Target; 1] = [Target {
    id: "pkg",
    what: "a PS3 package",
    extension: "pkg",
    made_of: "folders with a PARAM.SFO",
    options: &[&CONTENT_ID, &FINALIZED, &SPLIT],
    is_of_files: true,
    accepts: accepts_files,
    lay: package,
    ..Target::BASE
}];

static CONTENT_ID: Choice = Choice::of(
    "content-id",
    "ID",
    Kind::Text,
    "Content id of a new package, as UP0001-DCNT10001_00-KELPCOURIER00000 [default: that of the PARAM.SFO, else made of its title id and title]",
);
static FINALIZED: Choice = Choice::flag(
    "finalized",
    "Encrypt a new package with ps3.pkg.key, as consoles that are not for developers install it; else it is a debug package",
);

/// The parameter file of a title.
const PARAMETERS: &str = "PARAM.SFO";
/// Content types: game data, and games.
const GAME_DATA: u32 = 4;
const GAME: u32 = 5;

fn accepts_files(item: &Item, _: &Target) -> Option<u8> {
    let tree = item.opened.holds.tree.as_ref().filter(|_| is_folder(item))?;
    Some(if tree.find(PARAMETERS).is_some() { 60 } else { 4 })
}

/// What the parameter file says.
#[derive(Default)]
struct Parameters {
    values: Vec<(String, String)>,
}

impl Parameters {
    fn read(item: &Item, setting: &Setting<'_>) -> Result<Self> {
        let tree = item.opened.holds.tree.as_ref();
        let Some(file) = tree.and_then(|t| t.find(PARAMETERS)).and_then(Node::file) else { return Ok(Self::default()) };
        let opened = setting.opener(&item.keyring).open(file.source()?.clone()).map_err(|e| match e.blame() {
            Blame::Source => Error::Unreadable { why: format!("{PARAMETERS} cannot be used: {e}") },
            _ => e,
        })?;
        Ok(Self { values: opened.told.parameters })
    }

    fn text(&self, name: &str) -> &str {
        self.values.iter().find(|(n, _)| n == name).map(|(_, v)| v.trim()).unwrap_or_default()
    }

    /// Content type by the category.
    fn content_type(&self) -> u32 {
        match self.text("CATEGORY") {
            "" | "GD" => GAME_DATA,
            "1P" => 6,
            "MN" => 15,
            "2P" => 18,
            "PP" => 20,
            _ => GAME,
        }
    }

    /// `01.00` as 0x0100; 0x0100 where there is none.
    fn version(&self) -> u16 {
        let text = self.text("VERSION");
        let digits = text.split_once('.').filter(|(a, b)| a.len() == 2 && b.len() == 2);
        digits.and_then(|(a, b)| u16::from_str_radix(&format!("{a}{b}"), 16).ok()).unwrap_or(0x0100)
    }
}

/// The content id, and where it is from.
fn content_id_of(parameters: &Parameters, options: &Options) -> Result<(String, &'static str)> {
    if let Some(given) = options.given.text(&CONTENT_ID) {
        return match content_id::fault(given) {
            Some(fault) => Err(Error::Usage(format!("--content-id {given}: {fault}"))),
            None => Ok((given.to_owned(), "given")),
        };
    }
    let own = parameters.text("CONTENT_ID");
    if content_id::fault(own).is_none() {
        return Ok((own.to_owned(), "from PARAM.SFO"));
    }
    match content_id::derived(parameters.text("TITLE_ID"), parameters.text("TITLE")) {
        Some(made) => Ok((made, "made of title id and title")),
        None => Err(Error::Usage(
            "there is no PARAM.SFO with a title id of 9 letters and digits: say what it is with --content-id".into(),
        )),
    }
}

fn package(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let mut tree = item.opened.holds.tree.clone().unwrap_or_default();
    add_folders(&mut tree);
    let parameters = Parameters::read(item, setting)?;
    let (content_id, origin) = content_id_of(&parameters, options)?;
    let key = match options.given.has(&FINALIZED) {
        true => Some(keys::find(&item.keyring, Role::Package, "a finalized package")?.0),
        false => None,
    };
    let is_finalized = key.is_some();
    let making = Making { content_id, content_type: parameters.content_type(), version: parameters.version(), key };
    let blueprint = match options.given.split(&SPLIT) {
        Some(Split::EvenOdd) => {
            return Err(Error::Usage("even-odd is for ROMs: --split takes a size here, as in 4GiB-1".into()));
        }
        // Its end has a digest of all that stands before it, in other parts.
        Some(Split::Size(_)) => pkg::compose_early(&tree, &making, setting.watch)?,
        None => pkg::compose(&tree, &making)?,
    };
    let bytes: u64 = tree.files().map(|(_, f)| f.len).sum();
    let before: SourceRef = Arc::new(Fill { byte: 0, len: bytes });
    let mut made = Made::new(blueprint, before, "all files and folders; times and links have no place in a package");
    made.facts.push(("content id".into(), format!("{} ({origin})", making.content_id)));
    if is_finalized {
        made.notices.push(Notice::new(
            "its signatures are placeholders of zeros: modded consoles take it, others do not".to_owned(),
        ));
    }
    made.back = Back::Files(tree);
    Ok(made)
}
