//! What can become what: the one table that `convert` obeys and `identify` shows.

use super::{Made, Options, disc, folder, packed};
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
    /// Whether a source can become it, and how useful that is: the most useful is shown first.
    pub accepts: fn(&Item) -> Option<u8>,
    pub(crate) make: fn(&Item, &Options, &Setting<'_>) -> Result<Made>,
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
];

/// Whether the source is an image of 2,048-byte sectors, and not of a CD with all bytes of its sectors.
pub(super) fn is_plain_image(item: &Item) -> bool {
    let is_image = REGISTRY.get(item.opened.format).is_some_and(|f| f.is_image());
    let whole = item.source.as_ref().is_some_and(|s| s.len().is_multiple_of(SECTOR));
    is_image && whole && item.opened.tracks.is_empty()
}

/// Whether the source is files that no image holds: a folder, or an archive of one.
pub(super) fn is_folder(item: &Item) -> bool {
    matches!(item.opened.format, "folder" | "zip")
        && item.opened.tree.as_ref().is_some_and(|t| t.files().next().is_some())
}
