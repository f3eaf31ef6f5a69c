//! PS2 discs become the encrypted images that the console plays.

use super::{CONTENT_ID, given_id};
use crate::convert::choice::Choice;
use crate::convert::made::Made;
use crate::convert::shared::BLANK;
use crate::convert::target::Target;
use crate::convert::{Options, choose};
use crate::{Item, Setting};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::plain;
use decanter_core::opened::Disc;
use decanter_core::source::SourceRef;
use decanter_core::tell::{count, grouped};
use decanter_core::{Error, Format, Notice, Result, SECTOR};
use decanter_formats::optical::cd::sector::RAW;
use decanter_formats::package::ps3::classics::header::{self, Hashes};
use decanter_formats::package::ps3::classics::{self as image, limg, lock};
use decanter_formats::package::ps3::keys::{self, Console, Role};
use decanter_formats::package::ps3::{content_id, licence};

pub(super) const TARGET: Target = Target {
    id: "ps2-classics",
    what: "a PS2 classics image",
    extension: "bin.enc",
    made_of: "images of PS2 discs, raw CDs by their cue sheets",
    options: &[&CONTENT_ID, &DEBUG_CONSOLE, &BLANK],
    accepts: accepts_disc,
    needs: needs_keys,
    lay: classics,
    ..Target::BASE
};

static DEBUG_CONSOLE: Choice = Choice::flag(
    "debug-console",
    "Encrypt it for consoles of developers (ps2.classics.debug.*); else for those that are sold (ps2.classics.consumer.*)",
);

/// Whether a source is a PS2 disc, in whatever form.
pub(crate) fn is_ps2(item: &Item) -> bool {
    item.opened.identity.kind.starts_with("PS2 disc")
}

/// PS2 discs know what they were pressed on.
fn accepts_disc(item: &Item, _: &Target) -> Option<u8> {
    let is_one = item.around.last().is_some_and(|around| around.format == image::IMAGE.id());
    is_ps2(item).then_some(if is_one { 5 } else { 25 })
}

/// Which of the keys are missing.
fn needs_keys(item: &Item) -> &'static str {
    let has = |part| keys::find(&item.keyring, Role::Classics(Console::Consumer, part), "").is_ok();
    let has_secrets = has(keys::Part::Data) && has(keys::Part::Meta);
    let is_licensed = !licences(item, "").found.is_empty();
    match (has_secrets, is_licensed) {
        (true, true) => "",
        (true, false) => "--key HEX",
        (false, true) => "--keys FILE",
        (false, false) => "--keys FILE --key HEX",
    }
}

/// The licence keys that may be those of a disc.
fn licences(item: &Item, content_id: &str) -> licence::Candidates {
    let names = [item.stem.clone(), item.opened.identity.id.clone().unwrap_or_default()];
    licence::candidates(content_id, &names, &item.keyring)
}

/// The bytes that an image has of a disc, and what it was pressed on.
///
/// # Errors
/// When it has no bytes, or is a CD of several tracks.
pub(crate) fn disc(item: &Item) -> Result<(SourceRef, limg::Kind)> {
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
    if let Some(given) = given_id(options)? {
        return Ok((given, "given"));
    }
    let id = plain(item.opened.identity.id.as_deref().unwrap_or_default());
    let title = item.opened.identity.title.as_ref().unwrap_or(&item.stem);
    match content_id::derived(&id, title) {
        Some(made) => Ok((made, "made of the disc's id and title")),
        None => {
            Err(Error::Usage("the disc says no id of 9 letters and digits: say what it is with --content-id".into()))
        }
    }
}

/// Fails for a disc that is not all there, which a console would run into the end of, unless it is to be kept; then says so.
///
/// # Errors
/// [`Error::Damaged`].
pub(crate) fn whole(item: &Item, keep: bool) -> Result<Option<Notice>> {
    let len = item.source.as_ref().map_or(0, |source| source.len());
    let missing = item.opened.extent.promised_len.map_or(0, |promised| promised.saturating_sub(len));
    if missing == 0 || !item.opened.holds.tracks.is_empty() {
        return Ok(None);
    }
    let what = format!("{} missing at its end", count(missing, "byte of the disc is", "bytes of the disc are"));
    if keep { Ok(Some(Notice::damage(format!("kept as it is: {what}")))) } else { Err(Error::Damaged { what }) }
}

/// What closes an image: keys that a console makes of the title's licence key.
pub(crate) struct Closing {
    /// The keys of segments and tables.
    pub(crate) lock: lock::Lock,
    /// Those of the header's hashes, where they are known.
    pub(crate) hashes: Hashes,
    /// Where the licence key is from.
    origin: String,
}

/// What closes the image of a disc.
///
/// # Errors
/// The trouble with the key that is missing.
pub(crate) fn closing(item: &Item, content_id: &str, is_debug: bool) -> std::result::Result<Closing, KeyTrouble> {
    let candidates = licences(item, content_id);
    let Some(licence) = candidates.found.first() else {
        return Err(candidates.trouble(&item.keyring, content_id, Vec::new()));
    };
    let console = if is_debug { Console::Debug } else { Console::Consumer };
    let lock = lock::derived(&item.keyring, console, &licence.key, content_id)?;
    let hashes = Hashes::of(&item.keyring, &licence.key);
    Ok(Closing { lock, hashes, origin: licence.origin.clone() })
}

fn classics(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let (content_id, origin) = id_of_disc(item, options)?;
    let closing = closing(item, &content_id, options.given.has(&DEBUG_CONSOLE))?;
    let kept = whole(item, options.keep_damage)?;
    let (disc, kind) = disc(item)?;
    let tree = item.opened.holds.tree.clone().unwrap_or_default();
    if !options.given.texts(&BLANK).is_empty() && kind.sector != SECTOR as u32 {
        return Err(Error::Usage("--blank is for images of 2048-byte sectors".into()));
    }
    let (disc, blanked) = choose::blank(&disc, &tree, options.given.texts(&BLANK))?;
    let whole = limg::with(disc.clone(), kind)?;
    let has_added = whole.len() != disc.len();
    let blueprint = image::compose(whole, &content_id, &closing.lock, &closing.hashes)?;
    let preserved = match blanked.is_empty() {
        true => "identical bytes after converting back",
        false => "every byte, but for the files filled with zeros",
    };
    let mut made = Made::new(blueprint, disc, preserved);
    made.left_out = blanked;
    made.notices.extend(kept);
    made.facts.push(("content id".into(), format!("{content_id} ({origin})")));
    let medium = if kind.is_cd { "CD" } else { "DVD" };
    let told = item.opened.get("medium").map_or_else(|| medium.to_owned(), str::to_owned);
    made.facts.push(("medium".into(), format!("{told}; sectors of {} bytes", kind.sector)));
    made.facts.push(("licence key".into(), format!("from {}", closing.origin)));
    if has_added {
        let what = format!(
            "{} bytes at its end that say what the disc is; --to iso takes them off again",
            grouped(header::SEGMENT)
        );
        made.facts.push(("added".into(), what));
    }
    Ok(made)
}
