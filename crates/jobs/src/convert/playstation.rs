//! Packages of the PlayStation 3 generation, made of folders.

use super::choice::{Choice, Kind, Split};
use super::folder::add_folders;
use super::made::{Back, Made};
use super::shared::{BLANK, SPLIT};
use super::target::{Target, is_folder};
use super::{Options, choose, open};
use crate::{Item, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::keyring::{Key, plain};
use decanter_core::opened::Disc;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tell::grouped;
use decanter_core::tree::Node;
use decanter_core::view::Fill;
use decanter_core::{Error, Format, Notice, Result, SECTOR};
use decanter_formats::optical::cd::sector::RAW;
use decanter_formats::package::ps3::classics::header::{self, Hashes};
use decanter_formats::package::ps3::classics::{self as image, limg, lock};
use decanter_formats::package::ps3::keys::{self, Console, Role as KeyRole};
use decanter_formats::package::ps3::pkg::{self, Making};
use decanter_formats::package::ps3::{content_id, licence, npd};
use std::sync::Arc;

/// Packages of the family.
pub(super) static TARGETS: [Target; 3] = [
    Target {
        id: "ps2-classics",
        what: "a PS2 classics image",
        extension: "bin.enc",
        made_of: "images of PS2 discs, raw CDs by their cue sheets",
        options: &[&CONTENT_ID, &DEBUG_CONSOLE, &BLANK],
        accepts: accepts_disc,
        needs: needs_keys,
        lay: classics,
        ..Target::BASE
    },
    Target {
        id: "edat",
        what: "an NPD-wrapped file",
        extension: "edat",
        made_of: "any file",
        options: &[&CONTENT_ID, &CONSOLE_NAME],
        is_of_bytes: true,
        open: open::anything,
        accepts: |item, _| (item.source.is_some() && item.opened.identity.role != Role::Sheet).then_some(3),
        lay: wrapped,
        ..Target::BASE
    },
    Target {
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
    },
];

static CONSOLE_NAME: Choice = Choice::of(
    "console-name",
    "NAME",
    Kind::Text,
    "What the file is called on the console, which its header proves [default: the source's name with .edat]",
);
static DEBUG_CONSOLE: Choice = Choice::flag(
    "debug-console",
    "Encrypt it for consoles of developers (ps2.classics.debug.*); else for those that are sold (ps2.classics.consumer.*)",
);

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
    if pkg::PACKAGE.is_of(&item.opened) {
        return item.opened.holds.tree.is_some().then_some(8);
    }
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
fn content_id_of(parameters: &Parameters, own: Option<&str>, options: &Options) -> Result<(String, &'static str)> {
    if let Some(given) = options.given.text(&CONTENT_ID) {
        return match content_id::fault(given) {
            Some(fault) => Err(Error::Usage(format!("--content-id {given}: {fault}"))),
            None => Ok((given.to_owned(), "given")),
        };
    }
    if let Some(own) = own {
        return Ok((own.to_owned(), "that of the package"));
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
    let is_package = pkg::PACKAGE.is_of(&item.opened);
    let notices = if is_package { item.sound(options.keep_damage, setting)? } else { Vec::new() };
    let mut tree = item.opened.holds.tree.clone().unwrap_or_default();
    add_folders(&mut tree);
    let parameters = Parameters::read(item, setting)?;
    let own = item.opened.get("content id").filter(|id| is_package && content_id::fault(id).is_none());
    let (content_id, origin) = content_id_of(&parameters, own, options)?;
    let key = match options.given.has(&FINALIZED) {
        true => Some(keys::find(&item.keyring, KeyRole::Package, "a finalized package")?.0),
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
    made.notices = notices;
    made.facts.push(("content id".into(), format!("{} ({origin})", making.content_id)));
    if is_finalized {
        made.notices.push(Notice::new(
            "its signatures are placeholders of zeros: modded consoles take it, others do not".to_owned(),
        ));
    }
    made.back = Back::Files(tree);
    Ok(made)
}

/// Any file, wrapped with a free licence.
fn wrapped(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder has no bytes of its own".into()))?;
    let Some(given) = options.given.text(&CONTENT_ID) else {
        return Err(Error::Usage("say whose it is with --content-id, as UP0001-DCNT10001_00-KELPCOURIER00000".into()));
    };
    if let Some(fault) = content_id::fault(given) {
        return Err(Error::Usage(format!("--content-id {given}: {fault}")));
    }
    let name = options.given.text(&CONSOLE_NAME).map_or_else(|| format!("{}.edat", item.stem), str::to_owned);
    let making = npd::Making::of(given, &name, &item.keyring)?;
    setting.watch.begin(&format!("hashing {}", item.stem), Some(source.len()));
    let file = npd::compose(source.clone(), &making, setting.watch)?;
    setting.watch.end();
    let mut made = Made::new(Blueprint::of(file), source, "identical bytes after decrypting");
    made.facts.push(("on console".into(), name));
    made.facts.push(("licence".into(), "free".into()));
    made.notices.push(Notice::new("its signatures are placeholders of zeros: modded consoles take it, others do not"));
    Ok(made)
}

/// PS2 discs know what they were pressed on.
fn accepts_disc(item: &Item, _: &Target) -> Option<u8> {
    let is_one = item.around.last().is_some_and(|around| around.format == image::IMAGE.id());
    let is_disc = item.opened.identity.kind.starts_with("PS2 disc");
    is_disc.then_some(if is_one { 5 } else { 25 })
}

/// Which of the keys are missing.
fn needs_keys(item: &Item) -> &'static str {
    let has = |part| keys::find(&item.keyring, KeyRole::Classics(Console::Consumer, part), "").is_ok();
    let has_secrets = has(keys::Part::Data) && has(keys::Part::Meta);
    let is_licensed = licence_of(item, "").is_some();
    match (has_secrets, is_licensed) {
        (true, true) => "",
        (true, false) => "--key HEX",
        (false, true) => "--keys FILE",
        (false, false) => "--keys FILE --key HEX",
    }
}

/// The first licence key that there is for a disc.
fn licence_of(item: &Item, content_id: &str) -> Option<licence::Candidate> {
    licences(item, content_id).found.into_iter().next()
}

/// All that may be it.
fn licences(item: &Item, content_id: &str) -> licence::Candidates {
    let names = [item.stem.clone(), item.opened.identity.id.clone().unwrap_or_default()];
    licence::candidates(content_id, &names, &item.keyring)
}

/// The bytes that an image has of a disc, and what it was pressed on.
fn disc(item: &Item) -> Result<(SourceRef, limg::Kind)> {
    let is_cd = item.opened.holds.disc == Some(Disc::Cd);
    match item.opened.holds.tracks.as_slice() {
        [] => {
            let source = item.source.clone().ok_or_else(|| Error::Usage("there is no image in it".into()))?;
            Ok((source, limg::Kind { is_cd, sector: SECTOR as u32 }))
        }
        [track] if track.sector_len == RAW as u64 || track.sector_len == SECTOR => {
            Ok((track.source.clone(), limg::Kind { is_cd: true, sector: track.sector_len as u32 }))
        }
        [track] => Err(Error::unsupported("ps2-classics", format!("a CD of sectors of {} bytes", track.sector_len))),
        tracks => Err(Error::unsupported("ps2-classics", format!("a CD of {} tracks", tracks.len()))),
    }
}

/// The content id of a disc: given, or made of its id and title.
fn id_of_disc(item: &Item, options: &Options) -> Result<(String, &'static str)> {
    let id = item.opened.identity.id.clone().unwrap_or_default();
    let title = item.opened.identity.title.as_ref().unwrap_or(&item.stem);
    let values = vec![("TITLE_ID".to_owned(), plain(&id)), ("TITLE".to_owned(), title.clone())];
    content_id_of(&Parameters { values }, None, options)
}

fn classics(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let (content_id, origin) = id_of_disc(item, options)?;
    let candidates = licences(item, &content_id);
    let Some(licence) = candidates.found.first() else {
        return Err(candidates.trouble(&item.keyring, &content_id, Vec::new()).into());
    };
    let console = if options.given.has(&DEBUG_CONSOLE) { Console::Debug } else { Console::Consumer };
    let lock = lock::derived(&item.keyring, console, &licence.key, &content_id)?;
    let (disc, kind) = disc(item)?;
    let tree = item.opened.holds.tree.clone().unwrap_or_default();
    if !options.given.texts(&BLANK).is_empty() && kind.sector != SECTOR as u32 {
        return Err(Error::Usage("--blank is for images of 2048-byte sectors".into()));
    }
    let (disc, blanked) = choose::blank(&disc, &tree, options.given.texts(&BLANK))?;
    let whole = limg::with(disc.clone(), kind)?;
    let has_added = whole.len() != disc.len();
    let blueprint = image::compose(whole, &content_id, &lock, &hashes(item, licence)?)?;
    let preserved = match blanked.is_empty() {
        true => "identical bytes after converting back",
        false => "every byte, but for the files filled with zeros",
    };
    let mut made = Made::new(blueprint, disc, preserved);
    made.left_out = blanked;
    made.facts.push(("content id".into(), format!("{content_id} ({origin})")));
    let medium = if kind.is_cd { "CD" } else { "DVD" };
    let told = item.opened.get("medium").map_or_else(|| medium.to_owned(), str::to_owned);
    made.facts.push(("medium".into(), format!("{told}; sectors of {} bytes", kind.sector)));
    made.facts.push(("licence key".into(), format!("from {}", licence.origin)));
    if has_added {
        let what = format!(
            "{} bytes at its end that say what the disc is; --to iso takes them off again",
            grouped(header::SEGMENT)
        );
        made.facts.push(("added".into(), what));
    }
    Ok(made)
}

/// The secrets for the hashes in its header, so far as the ring has them.
fn hashes(item: &Item, licence: &licence::Candidate) -> Result<Hashes> {
    let secret = |role| keys::find(&item.keyring, role, "").ok().map(|(key, _)| key);
    let header = match secret(KeyRole::NpdHeader) {
        Some(key) => {
            let mixed = key.bytes16()?.iter().zip(licence.key.bytes()).map(|(a, b)| a ^ b).collect();
            Some(Key::new(mixed))
        }
        None => None,
    };
    Ok(Hashes { title: secret(KeyRole::NpdTitle), header })
}
