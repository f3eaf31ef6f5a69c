//! Compressed images.

use super::choice::Choice;
use super::made::Made;
use super::open;
use super::shared::{BLANK, LEVEL};
use super::target::{Target, is_plain_image};
use super::{Options, choose};
use crate::{Item, Setting};
use decanter_core::Format;
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use decanter_formats::chunked::cso::{self, Coding};
use decanter_formats::chunked::zst;
use decanter_formats::optical::xdvdfs::Xdvdfs;

/// Compressed images.
pub(super) static TARGETS: [Target; 3] = [
    Target {
        id: "cso",
        what: "a CISO compressed image",
        extension: "cso",
        made_of: "images of 2048-byte sectors",
        options: &[&LEVEL, &BLANK],
        accepts: accepts_image,
        lay: cso,
        ..Target::BASE
    },
    Target {
        id: "zso",
        what: "a ZISO compressed image",
        extension: "zso",
        made_of: "images of 2048-byte sectors",
        options: &[&BLANK],
        accepts: accepts_image,
        lay: zso,
        ..Target::BASE
    },
    Target {
        id: "zst",
        what: "a seekable zstd file",
        extension: "zst",
        made_of: "any file",
        options: &[&LEVEL, &LONG, &BLANK],
        is_of_bytes: true,
        open: open::anything,
        accepts: accepts_any,
        lay: zst,
        ..Target::BASE
    },
];

static LONG: Choice =
    Choice::flag("long", "Look for repetitions further back: smaller where files repeat, slower, in larger frames");

const LOSSLESS: &str = "identical bytes after converting back";

fn accepts_image(item: &Item, _: &Target) -> Option<u8> {
    (is_plain_image(item) && !Xdvdfs.is_of(&item.opened) && item.opened.protection.is_none()).then_some(30)
}

fn accepts_any(item: &Item, _: &Target) -> Option<u8> {
    let is_image = item.opened.identity.role.is_image();
    (item.source.is_some() && item.opened.identity.role != Role::Sheet).then_some(if is_image { 20 } else { 5 })
}

/// The bytes to pack, with chosen files blank, and what to say of that.
fn body(item: &Item, options: &Options) -> Result<(SourceRef, Made)> {
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder has no bytes of its own".into()))?;
    let tree = item.opened.holds.tree.clone().unwrap_or_default();
    let (source, blanked) = choose::blank(&source, &tree, options.given.texts(&BLANK))?;
    let preserved = if blanked.is_empty() {
        LOSSLESS.to_owned()
    } else {
        "every byte, but for the files filled with zeros".to_owned()
    };
    let mut made = Made::new(decanter_core::Blueprint::new(), source.clone(), preserved);
    made.left_out = blanked;
    Ok((source, made))
}

fn cso(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    compress(item, options, Coding::Deflate)
}

fn zso(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    compress(item, options, Coding::Lz4)
}

fn compress(item: &Item, options: &Options, coding: Coding) -> Result<Made> {
    let level = options.given.number(&LEVEL).unwrap_or(cso::LEVEL);
    if !(1..=12).contains(&level) {
        return Err(Error::Usage(format!("--level {level} is not from 1 to 12")));
    }
    let (source, made) = body(item, options)?;
    let mut blueprint = cso::compose(source, coding, level)?;
    let content = blueprint.packed_part();
    if let Some(part) = content {
        options.digests.iter().for_each(|&a| blueprint.measure(part, a));
    }
    Ok(Made { blueprint, content, ..made })
}

fn zst(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let level = options.given.number(&LEVEL).unwrap_or(zst::LEVEL);
    if !(1..=22).contains(&level) {
        return Err(Error::Usage(format!("--level {level} is not from 1 to 22")));
    }
    let (source, made) = body(item, options)?;
    let choice = zst::Choice { level, long: options.given.has(&LONG) };
    let blueprint = zst::compose(source, choice, &item.file_name(), &item.opened.identity.kind, &options.digests)?;
    let content = blueprint.packed_part();
    Ok(Made { blueprint, content, ..made })
}

/// What stands in the only file of a compressed image, for reading it back.
pub(crate) fn content(opened: &decanter_core::Opened) -> Option<SourceRef> {
    let is_packed = opened.identity.role == Role::Wrapper;
    let tree = opened.holds.tree.as_ref().filter(|_| is_packed && opened.holds.tracks.is_empty())?;
    tree.files().next().and_then(|(_, f)| f.source().ok().cloned())
}
