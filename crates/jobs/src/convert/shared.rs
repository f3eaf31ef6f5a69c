//! Choices that targets of several families have.

use super::choice::{Choice, Kind};

pub(super) static LEVEL: Choice = Choice::of(
    "level",
    "N",
    Kind::Number,
    "Effort of compression: more is smaller and slower; 1 to 12 for cso, 1 to 22 for zst and chd [default: 9 for cso, 12 for zst]",
);
pub(super) static SPLIT: Choice = Choice::of(
    "split",
    "SIZE|even-odd",
    Kind::Split,
    "Write several files of at most this size, as in 4GiB-1 for a FAT32 stick (nsp, xci: a folder of parts, as consoles join them); even-odd: one file for each of the two chips of a ROM",
);
pub(super) static BLANK: Choice = Choice::of(
    "blank",
    "GLOB",
    Kind::Texts,
    "Fill these files with zeros in place: a path, a name or a folder, with * and ? (repeatable)",
)
.making("blanked");
pub(super) static WITHOUT: Choice =
    Choice::of("without", "GLOB", Kind::Texts, "Leave these files out of a rebuilt image (repeatable)");
pub(super) static LABEL: Choice = Choice::of(
    "label",
    "TEXT",
    Kind::Text,
    "Volume label of a new file system [default: the title, or the folder's name]",
);
pub(super) static TRIM: Choice = Choice::flag(
    "trim",
    "Cut off a ROM, or an image of a cartridge or gamecard, what is proven to be padding or repetition",
)
.making("trimmed");
pub(super) static PAD: Choice = Choice::of(
    "pad",
    "SIZE",
    Kind::SizeOrFit,
    "Make a ROM as long as SIZE, or as its header or chip says, or else the next power of two",
)
.making("padded");
pub(super) static REPAIR: Choice =
    Choice::flag("repair", "Correct the sectors of a CD image by their P and Q parities, each proven by its EDC")
        .making("repaired");
