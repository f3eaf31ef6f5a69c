//! Chunk-compressed images of hard disks, CDs and DVDs, and raw drives out of them.

use super::choice::{Choice, Kind};
use super::made::{Back, Made};
use super::open;
use super::shared::{LEVEL, SPLIT};
use super::target::{Target, is_plain_image};
use super::{Options, packed};
use crate::{Item, Setting, locate};
use decanter_core::Format;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Notice, Result};
use decanter_formats::chunked::chd::Chd;
use decanter_formats::chunked::chd::{self, Codec, Medium, Wish};

/// Drives, and images in hunks.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "chd",
        what: "a CHD compressed image",
        extension: "chd",
        made_of: "drives, disc images, CD images with their tracks",
        options: &[&LEVEL, &CODECS, &HUNK, &MEDIUM, &PARENT],
        open: open::anything,
        accepts: accepts_chd,
        lay: chd,
        ..Target::BASE
    },
    Target {
        id: "img",
        what: "a raw drive image",
        extension: "img",
        made_of: "compressed drive images",
        options: &[&SPLIT],
        accepts: accepts_img,
        lay: img,
        ..Target::BASE
    },
];

static CODECS: Choice = Choice::of(
    "codecs",
    "LIST",
    Kind::List,
    "Codecs of a chd, of which each hunk takes the shortest: lzma, zlib, flac, zstd, separated by commas; zstd is fast, and not read by everything [default: lzma,zlib,flac]",
);
static HUNK: Choice = Choice::of(
    "hunk",
    "SIZE",
    Kind::Size,
    "Bytes of a chd's hunks, as in 4KiB [default: 4 KiB, more for drives over 8 GiB; 8 sectors of a CD]",
);
static MEDIUM: Choice = Choice::of(
    "medium",
    "MEDIUM",
    Kind::OneOf(&["drive", "cd", "dvd"]),
    "What a chd is an image of [default: a CD if there are tracks, a DVD if it is a disc, else a drive]",
);
pub(super) static PARENT: Choice = Choice::of(
    "parent",
    "CHD",
    Kind::Path,
    "Write only what differs from this chd, which has to lie beside the result when that is read",
);

/// Codecs of new images, unless others are asked for: those that everything reads that loads such images.
const USUAL: [&str; 3] = ["lzma", "zlib", "flac"];
/// Codecs that an image has place for.
const MOST_CODECS: usize = 4;

/// Whether it is a drive, a partition of one, or a file system that fills one.
fn is_drive(item: &Item) -> bool {
    item.opened.identity.role.is_of_drive()
}

/// The bytes of a drive or an image: of a compressed one those inside.
fn bytes(item: &Item) -> Option<SourceRef> {
    packed::content(&item.opened).or_else(|| item.source.clone())
}

fn accepts_chd(item: &Item, _: &Target) -> Option<u8> {
    let is_compressed = Chd.is_of(&item.opened);
    let is_inside_one = item.around.iter().any(|around| around.format == Chd.id());
    match () {
        // Another choice of codecs is left to who asks for it.
        () if is_inside_one => Some(5),
        () if !item.opened.holds.tracks.is_empty() => {
            item.opened.holds.tracks.iter().all(|t| t.sector_len >= 2048).then_some(35)
        }
        () if is_drive(item) => Some(60),
        () if is_plain_image(item) && item.opened.protection.is_none() => Some(25),
        () if is_compressed => Some(5),
        () => item.source.as_ref().filter(|s| s.len().is_multiple_of(512) && !s.is_empty()).map(|_| 3),
    }
}

fn accepts_img(item: &Item, _: &Target) -> Option<u8> {
    let inside = is_drive(item) && !item.around.is_empty();
    let unknown = Chd.is_of(&item.opened) && item.opened.holds.tracks.is_empty();
    (inside || unknown).then_some(50)
}

/// The drive as it is.
fn img(item: &Item, _: &Target, _: &Options, _: &Setting<'_>) -> Result<Made> {
    let source = bytes(item).ok_or_else(|| Error::Usage("a folder is no drive".into()))?;
    Ok(Made::new(decanter_core::Blueprint::of(source.clone()), source, "every byte of the drive"))
}

/// A compressed image.
fn chd(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let level = options.given.number(&LEVEL).unwrap_or(chd::LEVEL);
    if !(1..=22).contains(&level) {
        return Err(Error::Usage(format!("--level {level} is not from 1 to 22")));
    }
    let tracks = &item.opened.holds.tracks;
    let no_bytes = || Error::Usage("a folder has no bytes of its own: make an image of it first".into());
    let medium = match (options.given.text(&MEDIUM), tracks.is_empty()) {
        (Some("cd") | None, false) => Medium::Cd(tracks),
        (Some(other), false) => return Err(Error::Usage(format!("it is a CD with tracks, which is no {other}"))),
        (Some("cd"), true) => {
            let text = "it has no tracks: convert it to cd-raw first, whose cue sheet then becomes a chd";
            return Err(Error::Usage(text.into()));
        }
        (Some("dvd"), true) => Medium::Dvd(bytes(item).ok_or_else(no_bytes)?),
        (None, true) if is_plain_image(item) && !is_drive(item) => Medium::Dvd(bytes(item).ok_or_else(no_bytes)?),
        _ => Medium::HardDisk(bytes(item).ok_or_else(no_bytes)?),
    };
    if let Medium::Dvd(source) = &medium
        && !source.len().is_multiple_of(decanter_core::SECTOR)
    {
        return Err(Error::Usage(format!("{} bytes are no whole sectors of a DVD", source.len())));
    }
    let of_cd = matches!(medium, Medium::Cd(_));
    let wish = Wish {
        codecs: codecs(options.given.texts(&CODECS), of_cd)?,
        level,
        hunk_len: options.given.size(&HUNK).map(|h| u32::try_from(h).unwrap_or(u32::MAX)),
        parent: options.given.text(&PARENT).map(|p| parent(p, setting)).transpose()?,
    };
    let is_difference = wish.parent.is_some();
    if is_difference && options.prove {
        return Err(Error::Usage(
            "a difference can only be proven where its parent is: use \"decanter verify\" on it".into(),
        ));
    }
    let what = match &medium {
        Medium::HardDisk(_) => "a hard disk",
        Medium::Dvd(_) => "a DVD",
        Medium::Cd(_) => "a CD",
    };
    let (mut blueprint, body) = chd::compose(&medium, wish)?;
    let content = blueprint.packed_part();
    if let Some(part) = content {
        options.digests.iter().for_each(|&a| blueprint.measure(part, a));
    }
    let preserved = match is_difference {
        true => format!("every byte of {what}, together with its parent"),
        false => format!("every byte of {what}"),
    };
    let mut made = Made::new(blueprint, body, preserved);
    made.content = content;
    if let Medium::HardDisk(source) = &medium {
        let sectors = source.len().div_ceil(512);
        let (cylinders, heads, own) = chd::geometry(sectors);
        if cylinders * heads * own != sectors {
            made.notices.push(Notice::new(format!(
                "{} sectors are no cylinders, heads and tracks of a drive: it is told to be addressed by sector numbers",
                crate::grouped(sectors)
            )));
        }
    }
    if of_cd {
        made.back = Back::Tracks(tracks.clone());
    }
    Ok(made)
}

/// The codecs that were named, or the usual ones.
fn codecs(names: &[String], of_cd: bool) -> Result<Vec<Codec>> {
    let usual: Vec<String> = USUAL.iter().map(|n| (*n).to_owned()).collect();
    let names = if names.is_empty() { &usual } else { names };
    if names.len() > MOST_CODECS {
        return Err(Error::Usage(format!("an image has place for {MOST_CODECS} codecs")));
    }
    let named = |name: &String| {
        Codec::named(name, of_cd)
            .ok_or_else(|| Error::Usage(format!("there is no codec \"{name}\": choose from zlib, lzma, flac, zstd")))
    };
    names.iter().map(named).collect()
}

/// The image that the new one becomes a difference to.
fn parent(path: &str, setting: &Setting<'_>) -> Result<([u8; 20], SourceRef)> {
    let item = locate::open_container(path, setting)?;
    if !Chd.is_of(&item.opened) {
        return Err(Error::Usage(format!("\"{path}\" is no chd, and cannot be a parent")));
    }
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder cannot be a parent".into()))?;
    let names = [item.stem.clone()];
    // A parent may be a difference itself: its own parent is beside it.
    let beside = locate::beside(&decanter_core::native::text(&item.host), setting);
    let opener = setting.opener(&item.keyring).with_names(&names).with_beside(&beside);
    chd::as_parent(source, &opener)
}
