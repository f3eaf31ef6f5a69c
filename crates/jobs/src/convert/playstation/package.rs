//! Folders become packages.

use super::{CONTENT_ID, PLACEHOLDERS, given_id};
use crate::convert::Options;
use crate::convert::choice::{Choice, Split};
use crate::convert::folder::add_folders;
use crate::convert::made::{Back, Made};
use crate::convert::shared::SPLIT;
use crate::convert::target::{Target, is_folder};
use crate::{Item, Setting};
use decanter_core::error::{Blame, KeyTrouble};
use decanter_core::source::SourceRef;
use decanter_core::tree::Node;
use decanter_core::view::Fill;
use decanter_core::{Error, Format, Keyring, Notice, Result};
use decanter_formats::package::ps3::content_id;
use decanter_formats::package::ps3::keys::{self, Role};
use decanter_formats::package::ps3::pkg::{self, Making, PARAMETERS};
use decanter_formats::record::sfo::Parameters;
use std::sync::Arc;

pub(super) const TARGET: Target = Target {
    id: "pkg",
    what: "a PS3 package",
    extension: "pkg",
    made_of: "folders with a PARAM.SFO; packages, made anew",
    options: &[&CONTENT_ID, &FINALIZED, &SPLIT],
    is_of_files: true,
    may_keep_damage: true,
    accepts: accepts_files,
    lay: package,
    ..Target::BASE
};

static FINALIZED: Choice = Choice::flag(
    "finalized",
    "Encrypt a new package with ps3.pkg.key, as consoles that are not for developers install it; else it is a debug package",
);

/// Content types: game data, and games.
const GAME_DATA: u32 = 4;
const GAME: u32 = 5;
/// Version of a package whose parameter file says none: 01.00.
const FIRST_VERSION: u16 = 0x0100;

fn accepts_files(item: &Item, _: &Target) -> Option<u8> {
    if pkg::PACKAGE.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(8);
    }
    let tree = item.opened.holds.tree.as_ref().filter(|_| is_folder(item))?;
    Some(if tree.find(PARAMETERS).is_some() { 60 } else { 4 })
}

/// Content type by the category of the parameter file.
fn content_type(category: &str) -> u32 {
    match category {
        "" | "GD" => GAME_DATA,
        "1P" => 6,
        "MN" => 15,
        "2P" => 18,
        "PP" => 20,
        _ => GAME,
    }
}

/// What the parameter file says; nothing where there is none.
fn parameters(item: &Item) -> Result<Parameters> {
    let tree = item.opened.holds.tree.as_ref();
    let Some(file) = tree.and_then(|t| t.find(PARAMETERS)).and_then(Node::file) else {
        return Ok(Parameters::default());
    };
    Parameters::read(file.source()?.as_ref()).map_err(|e| match e.blame() {
        Blame::Source => Error::Unreadable { why: format!("{PARAMETERS} cannot be used: {e}") },
        _ => e,
    })
}

/// How the files of a title are closed into a package: with the ring's key, or so that anybody reads it.
///
/// # Errors
/// The trouble with the key.
pub(crate) fn making(
    content_id: String,
    parameters: &Parameters,
    is_finalized: bool,
    keyring: &Keyring,
) -> std::result::Result<Making, KeyTrouble> {
    let key = match is_finalized {
        true => Some(keys::find(keyring, Role::Package, "a finalized package")?.0),
        false => None,
    };
    let content_type = content_type(parameters.text("CATEGORY").unwrap_or_default());
    Ok(Making { content_id, content_type, version: parameters.version().unwrap_or(FIRST_VERSION), key })
}

/// The content id, and where it is from.
fn content_id_of(parameters: &Parameters, own: Option<&str>, options: &Options) -> Result<(String, &'static str)> {
    if let Some(given) = given_id(options)? {
        return Ok((given, "given"));
    }
    if let Some(own) = own {
        return Ok((own.to_owned(), "that of the package"));
    }
    let text = |name: &str| parameters.text(name).unwrap_or_default();
    if content_id::fault(text("CONTENT_ID")).is_none() {
        return Ok((text("CONTENT_ID").to_owned(), "from PARAM.SFO"));
    }
    match content_id::derived(text("TITLE_ID"), text("TITLE")) {
        Some(made) => Ok((made, "made of title id and title")),
        None => Err(Error::Usage(
            "there is no PARAM.SFO with a title id of 9 letters and digits: say what it is with --content-id".into(),
        )),
    }
}

fn package(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let is_package = pkg::PACKAGE.is_of(&item.opened);
    let notices = if is_package { item.sound(options.keep_damage, setting)? } else { Vec::new() };
    let mut tree = item.opened.holds.tree.clone().unwrap_or_default();
    add_folders(&mut tree);
    let parameters = parameters(item)?;
    let own = item.opened.get("content id").filter(|id| is_package && content_id::fault(id).is_none());
    let (content_id, origin) = content_id_of(&parameters, own, options)?;
    let is_finalized = options.given.has(&FINALIZED);
    let making = making(content_id, &parameters, is_finalized, &item.keyring)?;
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
    made.notices = notices;
    made.facts.push(("content id".into(), format!("{} ({origin})", making.content_id)));
    if is_finalized {
        made.notices.push(Notice::new(PLACEHOLDERS));
    }
    made.back = Back::Files(tree);
    Ok(made)
}
