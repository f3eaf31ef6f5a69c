//! Discs that become titles: what they are, their bytes, and what of them the menu can show.

use crate::convert::playstation::classics;
use crate::convert::{LeftOut, chosen_files};
use crate::{Item, Setting};
use decanter_core::source::SourceRef;
use decanter_core::tree::Node;
use decanter_core::{Error, Result, SECTOR};
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
        match item.opened.identity.kind.as_str() {
            kind if kind.starts_with("PSP disc") => Some(Self::Psp),
            kind if kind.starts_with("PS2 disc") => Some(Self::Ps2),
            _ => None,
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

/// The bytes of a disc that a package gets, what it was pressed on, and what they lack of it.
pub(super) fn bytes(
    item: &Item,
    blank: &[String],
    without: &[String],
    setting: &Setting<'_>,
) -> Result<(SourceRef, limg::Kind, Vec<LeftOut>)> {
    let (disc, kind) = classics::disc(item)?;
    if blank.is_empty() && without.is_empty() {
        return Ok((disc, kind, Vec::new()));
    }
    if u64::from(kind.sector) != SECTOR {
        let why = "blank and without are for images of 2048-byte sectors: make one with \"decanter convert --to iso\"";
        return Err(Error::Usage(why.into()));
    }
    let (disc, left_out) = chosen_files(item, blank, without, setting)?;
    Ok((disc, kind, left_out))
}

/// A file of the disc itself, for the menu: only PSP discs have some.
pub(super) fn own_file(item: &Item, name: &str) -> Option<(String, SourceRef)> {
    let path = format!("PSP_GAME/{name}");
    let tree = item.opened.holds.tree.as_ref().filter(|_| Kind::of(item) == Some(Kind::Psp))?;
    let file = tree.find(&path).and_then(Node::file)?;
    Some((path, file.source().ok()?.clone()))
}
