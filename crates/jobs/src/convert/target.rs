//! What a target of a conversion says of itself.

use super::{Made, Options};
use crate::{Item, Setting};
use decanter_core::{Result, SECTOR};

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
    pub(super) accepts: fn(&Item, &Target) -> Option<u8>,
    pub(crate) make: fn(&Item, &Target, &Options, &Setting<'_>) -> Result<Made>,
}

impl Target {
    /// Whether a source can become it, and how useful that is: the most useful is shown first.
    pub fn accepts(&self, item: &Item) -> Option<u8> {
        (self.accepts)(item, self)
    }
}

/// Whether the source is an image of 2,048-byte sectors, and not of a CD with all bytes of its sectors.
pub(super) fn is_plain_image(item: &Item) -> bool {
    let role = item.opened.identity.role;
    let whole = item.source.as_ref().is_some_and(|s| s.len().is_multiple_of(SECTOR));
    role.is_image() && whole && !role.is_of_drive() && item.opened.holds.tracks.is_empty()
}

/// Whether the source is files that no image holds: a folder, or an archive of one.
pub(super) fn is_folder(item: &Item) -> bool {
    item.opened.identity.role.is_files() && item.opened.holds.tree.as_ref().is_some_and(|t| t.files().next().is_some())
}
