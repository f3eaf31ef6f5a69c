//! Discs that become titles: what they are, their bytes, and what of them the menu can show.

use crate::convert::playstation::classics;
use crate::convert::{LeftOut, chosen_files};
use crate::{Item, Setting};
use decanter_core::source::SourceRef;
use decanter_core::tree::Node;
use decanter_core::{Error, Format, Notice, Result, SECTOR};
use decanter_formats::optical::psp::PspDisc;
use decanter_formats::package::ps3::classics::limg;

/// Whose disc it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Psp,
    Ps2,
}

impl Kind {
    /// That of an item; `None` for all that is neither.
    pub(super) fn of(item: &Item) -> Option<Self> {
        if PspDisc.is_of(&item.opened) {
            return Some(Self::Psp);
        }
        classics::is_ps2(item).then_some(Self::Ps2)
    }

    /// What it is called.
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Psp => "PSP",
            Self::Ps2 => "PS2",
        }
    }

    /// The category of its titles.
    pub(super) fn category(self) -> &'static str {
        match self {
            Self::Psp => "PP",
            Self::Ps2 => "2P",
        }
    }

    /// Where the disc is in a package.
    pub(super) fn place(self) -> &'static str {
        match self {
            Self::Psp => "USRDIR/ISO.BIN.EDAT",
            Self::Ps2 => "USRDIR/ISO.BIN.ENC",
        }
    }
}

/// What a package gets of a disc.
pub(super) struct Wanted {
    pub(super) bytes: SourceRef,
    /// What the disc was pressed on.
    pub(super) pressed: limg::Kind,
    /// What the bytes lack of it.
    pub(super) left_out: Vec<LeftOut>,
    pub(super) notices: Vec<Notice>,
}

/// The bytes of a disc that a package gets.
pub(super) fn wanted(item: &Item, blank: &[String], without: &[String], setting: &Setting<'_>) -> Result<Wanted> {
    let (bytes, pressed) = classics::disc(item)?;
    if blank.is_empty() && without.is_empty() {
        return Ok(Wanted { bytes, pressed, left_out: Vec::new(), notices: Vec::new() });
    }
    if u64::from(pressed.sector) != SECTOR {
        let why = "blank and without are for images of 2048-byte sectors: make one with \"decanter convert --to iso\"";
        return Err(Error::Usage(why.into()));
    }
    let (bytes, left_out, notices) = chosen_files(item, blank, without, setting)?;
    Ok(Wanted { bytes, pressed, left_out, notices })
}

/// A file of the disc itself, for the menu, or why it is not all there: only PSP discs have some.
pub(super) fn own_file(item: &Item, name: &str) -> Option<(String, Result<SourceRef>)> {
    let path = format!("PSP_GAME/{name}");
    let tree = item.opened.holds.tree.as_ref().filter(|_| Kind::of(item) == Some(Kind::Psp))?;
    let file = tree.find(&path).and_then(Node::file)?;
    Some((path, file.source().cloned()))
}
