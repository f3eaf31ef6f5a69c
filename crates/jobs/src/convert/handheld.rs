//! Titles of the 3DS family: cartridge image to package and back, trimmed or padded images, contents of folders.

use super::Options;
use super::choice::{Choice, Kind as Value};
use super::made::{Back, LeftOut, Made};
use super::shared::{PAD, TRIM};
use super::target::Target;
use crate::locate;
use crate::{Item, Setting, grouped};
use decanter_core::Format;
use decanter_core::blueprint::Blueprint;
use decanter_core::opened::TitlePart;
use decanter_core::source::{Bytes, SourceRef, read_array};
use decanter_core::view::{Concat, Fill, Overlay, Slice};
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::n3ds::cia::ticket::Ticket;
use decanter_formats::package::n3ds::cia::tmd::{Record, Tmd};
use decanter_formats::package::n3ds::cia::{self, Inner, Making, Package};
use decanter_formats::package::n3ds::ncch::header::{EXTENDED_HASHED, LEN};
use decanter_formats::package::n3ds::ncch::{self, Content, exheader};
use decanter_formats::package::n3ds::ncsd::{self, Cartridge, FILLER};
use decanter_formats::package::n3ds::{UNIT, sha256, smdh};
use decanter_formats::package::n3ds::{cia::PACKAGE, ncch::CONTENT, ncsd::CARTRIDGE};
use std::sync::Arc;

/// Titles of the handheld.
pub(super) static TARGETS: [Target; 3] = [
    Target {
        id: "cia",
        what: "an installable 3DS package",
        extension: "cia",
        made_of: "3DS cartridge images; single contents that are programs",
        options: &[&CERTIFICATES],
        may_keep_damage: true,
        accepts: accepts_cia,
        lay: cia,
        ..Target::BASE
    },
    Target {
        id: "3ds",
        what: "a 3DS cartridge image",
        extension: "3ds",
        made_of: "3DS packages of programs; cartridge images, trimmed or padded",
        options: &[&TRIM, &PAD],
        may_keep_damage: true,
        accepts: accepts_cartridge,
        is_meant: |item, target, options| options.keeps_form() && item.opened.identity.format == target.id,
        lay: cartridge,
        ..Target::BASE
    },
    Target {
        id: "ncch",
        what: "a 3DS content",
        extension: "app",
        made_of: "folders that a content was extracted into",
        is_of_files: true,
        accepts: accepts_content,
        lay: content,
        ..Target::BASE
    },
];

pub(super) static CERTIFICATES: Choice = Choice::of(
    "certificates",
    "FILE",
    Value::Path,
    "The certificates for a package: a file that begins with them, or another package [default: a placeholder]",
);

/// Partitions that become contents of a package: game, manual, download-play child.
const CARRIED: std::ops::Range<usize> = 0..3;
/// The largest certificate area that is taken from a file.
const MOST_CERTIFICATES: u64 = 1 << 20;
/// The largest cartridge image that is padded to.
const MOST_PADDED: u64 = 64 << 30;
/// Why the other partitions are left out.
const WHY_UPDATE: &str = "a system update for the slot: a console does not install it with a title";

fn accepts_cia(item: &Item, _: &Target) -> Option<u8> {
    if CARTRIDGE.is_of(&item.opened) {
        return Some(60);
    }
    (CONTENT.is_of(&item.opened) && is_program(item)).then_some(30)
}

fn accepts_cartridge(item: &Item, _: &Target) -> Option<u8> {
    if PACKAGE.is_of(&item.opened) && is_program(item) {
        return Some(40);
    }
    CARTRIDGE.is_of(&item.opened).then_some(5)
}

/// Whether it is the program of its title, not an update, manual or anything else.
fn is_program(item: &Item) -> bool {
    item.opened.identity.belongs.as_ref().is_some_and(|b| b.part == TitlePart::Program)
}

fn accepts_content(item: &Item, _: &Target) -> Option<u8> {
    let tree = item.opened.holds.tree.as_ref().filter(|_| super::target::is_folder(item))?;
    let header = tree.find("header.bin")?.file()?.source().ok()?;
    let is_header = header.len() == LEN && read_array::<4>(header.as_ref(), 0x100).is_ok_and(|m| m == *b"NCCH");
    is_header.then_some(60)
}

/// The bytes of an item that has some.
fn source(item: &Item) -> Result<&SourceRef> {
    item.source.as_ref().ok_or_else(|| Error::Usage("it has no bytes of its own".into()))
}

/// A program that runs from the card, or from the slot: its flags, and the hash over them, changed.
fn program(content: &Content, is_on_card: bool) -> Result<(SourceRef, [u8; LEN as usize])> {
    content.require_whole()?;
    let mut header: [u8; LEN as usize] = read_array(content.clear.as_ref(), 0)?;
    let mut layers: Vec<(u64, SourceRef)> = Vec::new();
    if let Some(mut extended) = content.extended()? {
        exheader::set_on_card(&mut extended, is_on_card);
        header[0x160..0x180].copy_from_slice(&sha256(&extended[..EXTENDED_HASHED as usize]));
        layers.push((LEN, Arc::new(Bytes(extended.to_vec()))));
    }
    layers.push((0, Arc::new(Bytes(header.to_vec()))));
    Ok((Arc::new(Overlay::new(content.clear.clone(), layers)?), header))
}

/// A package of a cartridge image, or of a single program.
fn cia(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let source = source(item)?;
    let mut left_out = Vec::new();
    let (game, version, others) = if CONTENT.is_of(&item.opened) {
        (Content::read(source, &item.keyring)?, 0, Vec::new())
    } else {
        let cartridge = Cartridge::read(source, &item.keyring)?;
        let version = cartridge.title_version();
        let (mut game, mut others) = (None, Vec::new());
        for partition in cartridge.partitions {
            let bytes = partition.range.end - partition.range.start;
            let name = partition.name().to_owned();
            match partition.content {
                _ if !CARRIED.contains(&partition.index) => {
                    left_out.push(LeftOut { what: name, bytes, why: WHY_UPDATE.into() });
                }
                Ok(content) if partition.index == 0 => game = Some(content),
                Ok(content) => others.push((partition.index as u16, content)),
                Err(why) => return Err(Error::Unreadable { why: format!("{name} cannot be read: {why}") }),
            }
        }
        let game = game.ok_or_else(|| Error::Unreadable { why: "it has no game in partition 0".into() })?;
        (game, version, others)
    };
    let title_id = game.header.program_id();
    let extended = game.extended()?;
    let save = extended.as_ref().map_or(0, exheader::save_len);
    let mut contents = vec![(0, program(&game, true)?.0, &game)];
    for (index, content) in &others {
        content.require_whole()?;
        contents.push((*index, content.clear.clone(), content));
    }
    if !options.keep_damage {
        contents.iter().try_for_each(|(index, _, content)| ncch::check_heads(content, &format!("content {index}")))?;
    }
    let mut tmd = Tmd::new(title_id, version, u32::try_from(save).unwrap_or(u32::MAX));
    let inner = |(index, source, content): (u16, SourceRef, &Content)| Inner {
        record: Record { id: u32::from(index), index, kind: 0, len: source.len(), hash: [0; 32] },
        source,
        proof: (!options.keep_damage).then(|| content.clone()),
    };
    let contents: Vec<Inner> = contents.into_iter().map(inner).collect();
    tmd.records = contents.iter().map(|c| c.record.clone()).collect();
    let carried: u64 = contents.iter().map(|c| c.source.len()).sum();
    let certificates = certificates(options.given.text(&CERTIFICATES), setting)?;
    let notices = notice(certificates.is_some());
    let meta = meta(&game, extended.as_ref())?;
    let making = Making { certificates, ticket: Ticket::new(title_id, version), tmd, contents, meta: Some(meta) };
    let words = "all contents that a console installs, decrypted; ticket, metadata and every hash are made anew";
    Ok(Made {
        left_out,
        notices,
        bytes_before: carried,
        back: Back::Seals,
        ..Made::new(cia::compose(making)?, source.clone(), words)
    })
}

/// What is made without the maker's secrets, in one sentence.
fn notice(has_certificates: bool) -> Vec<Notice> {
    let certificates = if has_certificates { "" } else { " and the certificates" };
    vec![Notice::new(format!(
        "the signatures{certificates} are placeholders: consoles that check them refuse it, modded ones and emulators do not"
    ))]
}

/// The meta section of a program: what it depends on, its firmware, its icon.
pub(crate) fn meta(game: &Content, extended: Option<&exheader::Extended>) -> Result<SourceRef> {
    let mut meta = vec![0; cia::META as usize];
    if let Some(extended) = extended {
        meta[..0x180].copy_from_slice(exheader::dependencies(extended));
        meta[0x300..0x304].copy_from_slice(&exheader::firmware(extended).to_le_bytes());
    }
    if let Some(icon) = game.member_bytes("icon", 1 << 20)? {
        let len = icon.len().min(smdh::LEN);
        meta[0x400..0x400 + len].copy_from_slice(&icon[..len]);
    }
    Ok(Arc::new(Bytes(meta)))
}

/// The certificates that a file begins with, or that another package has.
pub(crate) fn certificates(path: Option<&str>, setting: &Setting<'_>) -> Result<Option<SourceRef>> {
    let Some(path) = path else { return Ok(None) };
    let file = locate::bytes(path, setting)?;
    if let Ok(package) = Package::read(&file, &decanter_core::Keyring::default()) {
        let range = package.sections[0].clone();
        return Ok(Some(Arc::new(Slice::new(file, range.start, range.end - range.start)?)));
    }
    let mark = if file.len() >= 4 { u32::from_be_bytes(read_array(file.as_ref(), 0)?) } else { 0 };
    if !(0x1_0000..=0x1_0005).contains(&mark) || file.len() > MOST_CERTIFICATES {
        return Err(Error::Usage(format!(
            "\"{path}\" neither begins with a certificate nor is a package that has some"
        )));
    }
    Ok(Some(file))
}

/// A cartridge image of a package, or the same one trimmed or padded.
fn cartridge(item: &Item, _: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let source = source(item)?;
    if CARTRIDGE.is_of(&item.opened) {
        return resized(item, source, options);
    }
    if options.given.has(&TRIM) {
        return Err(Error::Usage("an image made of a package is trimmed anyway; --pad makes a full one".into()));
    }
    let package = Package::read(source, &item.keyring)?;
    if let Some(trouble) = package.trouble() {
        return Err(trouble.clone().into());
    }
    let mut left_out = Vec::new();
    let mut contents: Vec<(ncsd::Inner, SourceRef, &Content)> = Vec::new();
    for entry in &package.entries {
        let index = usize::from(entry.record.index);
        let Some(content) = entry.content.as_ref().ok().filter(|_| CARRIED.contains(&index)) else {
            let why = "a cartridge has no place for it".to_owned();
            left_out.push(LeftOut { what: format!("content {index}"), bytes: entry.record.len, why });
            continue;
        };
        content.require_whole()?;
        let (source, header) = match index {
            0 => program(content, false)?,
            _ => (content.clear.clone(), read_array(content.clear.as_ref(), 0)?),
        };
        let len = source.len();
        contents.push((ncsd::Inner { index, header, len }, source, content));
    }
    contents.sort_by_key(|(inner, ..)| inner.index);
    if contents.first().is_none_or(|(inner, ..)| inner.index != 0) {
        return Err(Error::Unreadable { why: "it has no program in content 0".into() });
    }
    let (inner, sources): (Vec<_>, Vec<_>) = contents.into_iter().map(|(inner, s, c)| (inner, (s, c))).unzip();
    let head = ncsd::head(package.tmd.version(), &inner)?;
    let chip = u64::from(u32::from_le_bytes([head[0x104], head[0x105], head[0x106], head[0x107]])) * UNIT;
    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(head)));
    for (ncsd::Inner { index, .. }, (source, content)) in inner.iter().zip(sources) {
        let rest = source.len().next_multiple_of(UNIT) - source.len();
        if options.keep_damage {
            blueprint.source(source);
        } else {
            let name = format!("content {index}");
            ncch::check_heads(content, &name)?;
            ncch::lay(content, &source, &name, &mut blueprint)?;
        }
        blueprint.fill(FILLER, rest);
    }
    if let Some(size) = options.given.size_or_fit(&PAD) {
        let wanted = size.unwrap_or(chip);
        let more = wanted.checked_sub(blueprint.len()).filter(|_| wanted <= MOST_PADDED);
        let more = more.ok_or_else(|| cannot_pad(blueprint.len(), wanted))?;
        blueprint.fill(FILLER, more);
    }
    let words =
        "game, manual and download-play child, decrypted, started from the slot; header and hashes are made anew";
    let notices = vec![Notice::new("the signature of the header is a placeholder; emulators do not check it")];
    Ok(Made { left_out, notices, back: Back::Seals, ..Made::new(blueprint, source.clone(), words) })
}

fn cannot_pad(len: u64, wanted: u64) -> Error {
    Error::Usage(format!("it has {} bytes and cannot be padded to {}", grouped(len), grouped(wanted)))
}

/// The same image, without the filler or with it.
fn resized(item: &Item, source: &SourceRef, options: &Options) -> Result<Made> {
    let cartridge = Cartridge::read(source, &item.keyring)?;
    let (len, used) = (source.len(), cartridge.used());
    let refuse = |why: String| Err(Error::Unreadable { why });
    if len < used {
        return Err(Error::PastEnd { offset: 0, asked: used, len });
    }
    match (options.given.has(&TRIM), options.given.size_or_fit(&PAD)) {
        (true, None) if len == used => Err(Error::Unneeded("there is nothing to trim: it is trimmed already".into())),
        (true, None) => {
            if !ncsd::is_filled(source.as_ref(), used..len, FILLER)? {
                return refuse(format!(
                    "the {} bytes after its last partition are not all {FILLER:#04x}: nothing proves that they are not needed{}",
                    grouped(len - used),
                    if cartridge.is_card2() { "; this card keeps its save there" } else { "" }
                ));
            }
            let cut = Slice::new(source.clone(), 0, used)?;
            let words = format!("identical bytes after --pad {len}; what was cut was looked at byte by byte");
            let cut: SourceRef = Arc::new(cut);
            let made = Made::new(Blueprint::of(cut.clone()), source.clone(), words);
            let why = format!("all of it is {FILLER:#04x}");
            let left_out = vec![LeftOut { what: format!("{used:#x} to {len:#x}"), bytes: len - used, why }];
            Ok(Made { left_out, back: Back::Bytes(cut), ..made })
        }
        (false, Some(size)) => {
            let wanted = size.unwrap_or(cartridge.full_len);
            if wanted == len {
                return refuse("there is nothing to pad: it has that length already".into());
            }
            let more = wanted.checked_sub(len).filter(|_| wanted <= MOST_PADDED).ok_or_else(|| cannot_pad(len, wanted))?;
            let fill: SourceRef = Arc::new(Fill { byte: FILLER, len: more });
            let full: SourceRef = Arc::new(Concat::new(vec![source.clone(), fill])?);
            let words = format!("identical bytes in front; {} bytes of {FILLER:#04x} were added", grouped(more));
            Ok(Made { back: Back::Bytes(full.clone()), ..Made::new(Blueprint::of(full), source.clone(), words) })
        }
        (true, Some(_)) => Err(Error::Usage("--trim and --pad exclude each other".into())),
        (false, None) => Err(Error::Usage(
            "it is a cartridge image already: --trim or --pad changes its length, \"decanter decrypt\" takes the encryption out".into(),
        )),
    }
}

/// A content put together of the folder it was extracted into.
fn content(item: &Item, _: &Target, _: &Options, _: &Setting<'_>) -> Result<Made> {
    let tree = item.opened.holds.tree.as_ref().ok_or_else(|| Error::Usage("it has no files".into()))?;
    let parts = ncch::from_tree(tree)?;
    let blueprint = ncch::compose(&parts)?;
    let bytes = tree.files().map(|(_, f)| f.len).sum();
    let words = "all files; identical bytes to the content that was extracted, decrypted, if none of them was changed";
    let nothing: SourceRef = Arc::new(Bytes(Vec::new()));
    Ok(Made { back: Back::Seals, bytes_before: bytes, ..Made::new(blueprint, nothing, words) })
}
