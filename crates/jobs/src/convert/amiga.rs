//! Amiga disks and hard files out of folders and archives.

use super::Options;
use super::choice::{Choice, Kind as Value};
use super::folder::add_folders;
use super::made::{Back, LeftOut, Made};
use super::shared::LABEL;
use super::target::{Target, is_folder};
use crate::{Item, Setting, starter};
use decanter_core::format::Format;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::view::Fill;
use decanter_core::{Error, Notice, Result};
use decanter_formats::archive::{lha::Lha, lzx::Lzx};
use decanter_formats::disk::amiga::{Adf, Hdf};
use decanter_formats::disk::amiga::{FileSystem, Volume, compose, least_blocks, needed_blocks};
use std::sync::Arc;

/// Volumes of files.
pub(super) static TARGETS: [Target; 2] = [
    Target {
        id: "adf",
        what: "an Amiga disk image",
        extension: "adf",
        made_of: "folders, archives, Amiga disks",
        options: &[&LABEL, &FS, &SIZE, &START],
        is_of_files: true,
        accepts,
        lay: volume,
        ..Target::BASE
    },
    Target {
        id: "hdf",
        what: "an Amiga hard file",
        extension: "hdf",
        made_of: "folders, archives, Amiga disks",
        options: &[&LABEL, &FS, &SIZE, &SPARE, &START],
        is_of_files: true,
        accepts,
        lay: volume,
        ..Target::BASE
    },
];

static FS: Choice = Choice::of(
    "fs",
    "NAME",
    Value::Text,
    "File system of an adf or hdf: ofs, ffs, ofs-intl, ffs-intl [default: ofs for adf, ffs-intl for hdf]",
);
static SIZE: Choice = Choice::of(
    "size",
    "SIZE",
    Value::Size,
    "Size of an adf (880KiB, 1760KiB) or hdf [default: what is needed, and what --spare says]",
);
static SPARE: Choice =
    Choice::of("spare", "SIZE", Value::Size, "What stays free on an hdf [default: a tenth, at least 256KiB]");
static START: Choice = Choice::of(
    "start",
    "PATH|auto",
    Value::Text,
    "Add a start-up sequence to an adf or hdf that runs this program; auto: the likeliest one",
);

/// Blocks of the two kinds of floppies.
const FLOPPIES: [u64; 2] = [1760, 3520];
/// Blocks that the size of a hard file is a multiple of: a track of 32 sectors.
const TRACK: u64 = 32;
/// What is left free on a hard file, unless something else is asked for: a tenth, and at least this.
const LEAST_SPARE: u64 = 256 << 10;
/// The file that the machine reads after starting.
const STARTUP: &str = "S/Startup-Sequence";
/// File systems by the names that `--fs` takes.
const NAMES: [(&str, FileSystem); 4] = [
    ("ofs", FileSystem { is_fast: false, is_international: false }),
    ("ffs", FileSystem { is_fast: true, is_international: false }),
    ("ofs-intl", FileSystem { is_fast: false, is_international: true }),
    ("ffs-intl", FileSystem { is_fast: true, is_international: true }),
];

fn accepts(item: &Item, target: &Target) -> Option<u8> {
    let opened = &item.opened;
    if Lha.is_of(opened) || Lzx.is_of(opened) {
        // A hard file has room for everything.
        return Some(if target.id == Hdf.id() { 50 } else { 45 });
    }
    // The same form once more is left to who wants another size or label.
    if opened.identity.format == target.id {
        return Some(5);
    }
    if Adf.is_of(opened) || Hdf.is_of(opened) {
        return Some(12);
    }
    is_folder(item).then_some(4)
}

/// A new volume with all files of the source.
fn volume(item: &Item, target: &Target, options: &Options, _: &Setting<'_>) -> Result<Made> {
    let mut tree = item.opened.holds.tree.clone().unwrap_or_default();
    let (mut left_out, mut notices) = (Vec::new(), Vec::new());
    tree.nodes.retain(|node| {
        let why = match &node.kind {
            Kind::Link(_) => Some("a link, which would lead nowhere".to_owned()),
            Kind::File(file) => file.source().err().map(|e| e.to_string()),
            Kind::Folder => None,
        };
        if let Some(why) = why {
            left_out.push(LeftOut { what: node.path.clone(), bytes: node.file().map_or(0, |f| f.len), why });
            return false;
        }
        true
    });
    add_folders(&mut tree);
    let mut facts = Vec::new();
    if let Some(start) = options.given.text(&START) {
        facts.push(("starts".to_owned(), set_start(&mut tree, start, &mut notices)?));
    }
    // Whatever order the source has: the same files make the same bytes.
    let place = |n: &Node| {
        (!matches!(n.kind, Kind::Folder), n.path.matches('/').count() * usize::from(matches!(n.kind, Kind::Folder)))
    };
    tree.nodes.sort_by(|a, b| place(a).cmp(&place(b)).then_with(|| a.path.to_lowercase().cmp(&b.path.to_lowercase())));
    let is_floppy = target.id == "adf";
    let file_system = match options.given.text(&FS) {
        Some(name) => NAMES.iter().find(|(n, _)| *n == name).map(|(_, f)| *f).ok_or_else(|| {
            Error::Usage(format!("there is no file system \"{name}\": choose one of ofs, ffs, ofs-intl, ffs-intl"))
        })?,
        None => NAMES[if is_floppy { 0 } else { 3 }].1,
    };
    let needed = needed_blocks(&tree, file_system);
    let blocks = if is_floppy {
        floppy_blocks(options, needed)?
    } else {
        let spare = options.given.size(&SPARE).unwrap_or((needed * 512 / 10).max(LEAST_SPARE));
        match options.given.size(&SIZE) {
            // A drive has whole tracks, and some that load hard files insist on that.
            Some(size) => size / 512 / TRACK * TRACK,
            None => least_blocks(needed + spare.div_ceil(512)).next_multiple_of(TRACK),
        }
    };
    let name = options
        .given
        .text(&LABEL)
        .map(str::to_owned)
        .unwrap_or_else(|| item.stem.chars().filter(|c| *c != ':' && *c != '/').take(30).collect());
    let blueprint = compose(&tree, &Volume { name: &name, file_system, blocks })?;
    let own = NAMES.iter().find(|(_, f)| *f == file_system).map_or("", |(n, _)| *n);
    let free = crate::grouped(blocks.saturating_sub(needed) * 512);
    facts.push(("volume".into(), format!("{name}: {own}, {needed} of {blocks} blocks used, about {free} bytes free")));
    let bytes = tree.files().map(|(_, f)| f.len).sum();
    let content: SourceRef = Arc::new(Fill { byte: 0, len: bytes });
    let mut made = Made::new(blueprint, content, "all files with their content, dates, protection bits and comments");
    made.left_out = left_out;
    made.notices = notices;
    made.facts = facts;
    made.back = Back::Files(tree);
    Ok(made)
}

/// Blocks of the floppy that was asked for, or of the smaller one.
fn floppy_blocks(options: &Options, needed: u64) -> Result<u64> {
    match options.given.size(&SIZE) {
        None => Ok(if needed + 4 > FLOPPIES[0] && needed + 4 <= FLOPPIES[1] { FLOPPIES[1] } else { FLOPPIES[0] }),
        Some(size) => FLOPPIES.into_iter().find(|b| b * 512 == size).ok_or_else(|| {
            Error::Usage(format!("a floppy has {} or {} bytes, not {size}", FLOPPIES[0] * 512, FLOPPIES[1] * 512))
        }),
    }
}

/// Adds the file that starts a program; says what it does.
fn set_start(tree: &mut Tree, start: &str, notices: &mut Vec<Notice>) -> Result<String> {
    let path = match start {
        "auto" => starter::rank(tree)?
            .first()
            .map(|s| s.path.clone())
            .ok_or_else(|| Error::Usage("--start auto: there is no program in it that could be started".into()))?,
        named => tree
            .find(named)
            .filter(|n| n.file().is_some())
            .map(|n| n.path.clone())
            .ok_or_else(|| Error::Usage(format!("--start: there is no file \"{named}\" in it")))?,
    };
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
    let cd = if folder.is_empty() { String::new() } else { format!("CD \"{folder}\"\n") };
    let text = format!("{cd}\"{name}\"\n");
    let modified = tree.nodes.iter().filter_map(|n| n.modified).max();
    let file = Kind::File(File::of(Arc::new(Bytes(text.into_bytes()))));
    match tree.nodes.iter_mut().find(|n| n.path.eq_ignore_ascii_case(STARTUP)) {
        Some(node) => {
            notices.push(Notice::new(format!("{} of the source gave way to one that starts {path}", node.path)));
            node.kind = file;
        }
        None => {
            let own = |n: &Node| matches!(n.kind, Kind::Folder) && n.path.eq_ignore_ascii_case("S");
            let folder = tree.nodes.iter().find(|n| own(n)).map(|n| n.path.clone());
            let folder = folder.unwrap_or_else(|| {
                tree.nodes.insert(0, Node::new("S".into(), Kind::Folder, modified));
                "S".into()
            });
            tree.nodes.push(Node::new(format!("{folder}/Startup-Sequence"), file, modified));
        }
    }
    Ok(format!("{path}, by {STARTUP}"))
}
