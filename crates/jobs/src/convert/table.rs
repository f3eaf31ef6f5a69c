//! What can become what: the one table that `convert` obeys and `identify` shows.

use super::{Made, Options, amiga, cartridge, cbm, disc, drive, folder, handheld, moment, packed};
use crate::{Item, Setting};
use decanter_core::{Result, SECTOR};
use decanter_formats::REGISTRY;

/// Something that sources can become.
pub struct Target {
    /// Id of the format, for `--to`.
    pub id: &'static str,
    /// What it is, as in "a CISO compressed image".
    pub what: &'static str,
    /// Extension of new files.
    pub extension: &'static str,
    /// What it is made of, for the list of formats.
    pub made_of: &'static str,
    /// Options that have a meaning with it.
    pub options: &'static [&'static str],
    accepts: fn(&Item, &Target) -> Option<u8>,
    pub(crate) make: fn(&Item, &Target, &Options, &Setting<'_>) -> Result<Made>,
}

impl Target {
    /// Whether a source can become it, and how useful that is: the most useful is shown first.
    pub fn accepts(&self, item: &Item) -> Option<u8> {
        (self.accepts)(item, self)
    }
}

/// Options of every form of a ROM.
const ROM: &[&str] = &["--trim", "--pad", "--fill", "--split", "--join", "--odd"];
const ROM_WITH_HEADER: &[&str] = &["--trim", "--pad", "--fill", "--split", "--join", "--odd", "--header"];

/// A form of a ROM.
const fn rom(id: &'static str, what: &'static str, made_of: &'static str, options: &'static [&'static str]) -> Target {
    Target { id, what, extension: id, made_of, options, accepts: cartridge::accepts, make: cartridge::make }
}

/// All targets.
pub static TARGETS: &[Target] = &[
    Target {
        id: "iso",
        what: "a disc image of 2048-byte sectors",
        extension: "iso",
        made_of: "CD data tracks, encrypted images, compressed and split images, folders",
        options: &["--split", "--blank", "--without", "--udf", "--label"],
        accepts: disc::accepts_iso,
        make: disc::iso,
    },
    Target {
        id: "cd-raw",
        what: "a raw CD image with a cue sheet",
        extension: "bin",
        made_of: "images of up to 99 minutes of 2048-byte sectors; CD images, joined or repaired",
        options: &["--repair"],
        accepts: disc::accepts_raw,
        make: disc::raw,
    },
    Target {
        id: "xdvdfs",
        what: "a minimal Xbox family image",
        extension: "iso",
        made_of: "full-disc dumps, game partitions, folders",
        options: &["--split", "--keep-positions", "--blank", "--without"],
        accepts: folder::accepts_xdvdfs,
        make: folder::xdvdfs,
    },
    Target {
        id: "cso",
        what: "a CISO compressed image",
        extension: "cso",
        made_of: "images of 2048-byte sectors",
        options: &["--level", "--blank"],
        accepts: packed::accepts_image,
        make: packed::cso,
    },
    Target {
        id: "zso",
        what: "a ZISO compressed image",
        extension: "zso",
        made_of: "images of 2048-byte sectors",
        options: &["--blank"],
        accepts: packed::accepts_image,
        make: packed::zso,
    },
    Target {
        id: "zst",
        what: "a seekable zstd file",
        extension: "zst",
        made_of: "any file",
        options: &["--level", "--long", "--blank"],
        accepts: packed::accepts_any,
        make: packed::zst,
    },
    Target {
        id: "chd",
        what: "a CHD compressed image",
        extension: "chd",
        made_of: "drives, disc images, CD images with their tracks",
        options: &["--level", "--codecs", "--hunk", "--medium", "--parent"],
        accepts: drive::accepts_chd,
        make: drive::chd,
    },
    Target {
        id: "img",
        what: "a raw drive image",
        extension: "img",
        made_of: "compressed drive images",
        options: &["--split"],
        accepts: drive::accepts_img,
        make: drive::img,
    },
    Target {
        id: "d64",
        what: "a C64 disk image",
        extension: "d64",
        made_of: "programs, folders, disks and tapes, gathered onto one disk",
        options: &["--label", "--name", "--disk-id"],
        accepts: cbm::accepts,
        make: cbm::disk,
    },
    Target {
        id: "d81",
        what: "a C64 disk image of 3.5 inches",
        extension: "d81",
        made_of: "the same, where more has to fit",
        options: &["--label", "--name", "--disk-id"],
        accepts: cbm::accepts,
        make: cbm::disk,
    },
    Target {
        id: "prg",
        what: "a C64 program that restores a running moment",
        extension: "prg",
        made_of: "the description of a moment, with its memory",
        options: &[],
        accepts: moment::accepts,
        make: moment::prg,
    },
    Target {
        id: "adf",
        what: "an Amiga disk image",
        extension: "adf",
        made_of: "folders, archives, Amiga disks",
        options: &["--label", "--fs", "--size", "--start"],
        accepts: amiga::accepts,
        make: amiga::volume,
    },
    Target {
        id: "hdf",
        what: "an Amiga hard file",
        extension: "hdf",
        made_of: "folders, archives, Amiga disks",
        options: &["--label", "--fs", "--size", "--spare", "--start"],
        accepts: amiga::accepts,
        make: amiga::volume,
    },
    rom("z64", "a Nintendo 64 ROM in the console's own byte order", "Nintendo 64 ROMs", ROM),
    rom("v64", "a Nintendo 64 ROM with bytes swapped in pairs", "Nintendo 64 ROMs", ROM),
    rom("n64", "a Nintendo 64 ROM of little-endian words", "Nintendo 64 ROMs", ROM),
    rom("md", "a plain Mega Drive ROM", "Mega Drive ROMs", ROM),
    rom("smd", "an interleaved Mega Drive ROM with a copier header", "Mega Drive and 32X ROMs", ROM_WITH_HEADER),
    rom("32x", "a plain 32X ROM", "32X ROMs", ROM),
    rom("sfc", "an SNES ROM without a header", "SNES ROMs", ROM),
    rom("smc", "an SNES ROM with a copier header", "SNES ROMs", ROM_WITH_HEADER),
    rom("nes", "a NES ROM with its header", "NES ROMs; program and character ROM with --header", ROM_WITH_HEADER),
    Target {
        extension: "bin",
        ..rom("nes-bare", "a NES ROM without a header, which is kept beside it", "NES ROMs", ROM)
    },
    rom("gb", "a Game Boy ROM", "Game Boy ROMs", ROM),
    rom("gbc", "a Game Boy Color ROM", "Game Boy Color ROMs", ROM),
    rom("gba", "a Game Boy Advance ROM", "Game Boy Advance ROMs", ROM),
    rom("nds", "a Nintendo DS ROM", "Nintendo DS ROMs", ROM),
    rom("sms", "a Master System ROM without a header", "Master System ROMs", ROM),
    rom("gg", "a Game Gear ROM without a header", "Game Gear ROMs", ROM),
    rom("pce", "a PC Engine ROM without a header", "PC Engine ROMs", ROM),
    Target {
        id: "cia",
        what: "an installable 3DS package",
        extension: "cia",
        made_of: "3DS cartridge images; single contents that are programs",
        options: &["--certificates", "--keep-damage"],
        accepts: handheld::accepts_cia,
        make: handheld::cia,
    },
    Target {
        id: "3ds",
        what: "a 3DS cartridge image",
        extension: "3ds",
        made_of: "3DS packages of programs; cartridge images, trimmed or padded",
        options: &["--trim", "--pad", "--keep-damage"],
        accepts: handheld::accepts_cartridge,
        make: handheld::cartridge,
    },
    Target {
        id: "ncch",
        what: "a 3DS content",
        extension: "app",
        made_of: "folders that a content was extracted into",
        options: &[],
        accepts: handheld::accepts_content,
        make: handheld::content,
    },
];

/// Whether the source is an image of 2,048-byte sectors, and not of a CD with all bytes of its sectors.
pub(super) fn is_plain_image(item: &Item) -> bool {
    let is_image = REGISTRY.get(item.opened.format).is_some_and(|f| f.is_image());
    let whole = item.source.as_ref().is_some_and(|s| s.len().is_multiple_of(SECTOR));
    let is_drive = decanter_formats::disk::DRIVES.contains(&item.opened.format);
    is_image && whole && !is_drive && item.opened.tracks.is_empty()
}

/// Whether the source is files that no image holds: a folder, or an archive of one.
pub(super) fn is_folder(item: &Item) -> bool {
    (item.opened.format == "folder" || REGISTRY.get(item.opened.format).is_some_and(|f| f.is_archive()))
        && item.opened.tree.as_ref().is_some_and(|t| t.files().next().is_some())
}
