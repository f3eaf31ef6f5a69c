//! What a target of a conversion says of itself.

use super::choice::Choice;
use super::made::Made;
use super::{Options, open};
use crate::{Failure, Item, Setting};
use decanter_core::{Error, Result, SECTOR};
use std::path::PathBuf;

/// Something that sources can become.
pub struct Target {
    /// Id of the format, for `--to`.
    pub id: &'static str,
    /// What it is, as in "a CISO compressed image".
    pub what: &'static str,
    /// Extension of new files.
    pub extension: &'static str,
    /// Extension of the file that always comes beside it: named by either of them, both are meant.
    pub pair: Option<&'static str>,
    /// What it is made of, for the list of formats.
    pub made_of: &'static str,
    /// What several targets are called together in the help, as in "ROMs".
    pub group: Option<&'static str>,
    /// Choices that have a meaning with it.
    pub options: &'static [&'static Choice],
    /// Whether a result that is split becomes a folder of numbered parts, which consoles join; else files beside each other.
    pub splits_into_folder: bool,
    /// Whether `--keep-damage` makes it of contents whose digests do not hold.
    pub may_keep_damage: bool,
    /// Whether it is made of files, so that a folder or an archive is its content.
    pub is_of_files: bool,
    /// Whether it takes the bytes of any file, so that the files that a cue sheet names are sources of their own.
    pub is_of_bytes: bool,
    /// How a source for it is opened.
    pub(super) open: fn(&str, &Options, &Setting<'_>) -> std::result::Result<Item, Failure>,
    /// How what was opened becomes one thing to lay out, however many there are; `None` where one source is all that it is
    /// made of.
    pub(super) gather: Option<Gather>,
    /// Whether a source can become it, and how useful that is.
    pub(super) accepts: fn(&Item, &Target) -> Option<u8>,
    /// What has to be given with it for this source: options with placeholders, for the command that is shown.
    pub(super) needs: fn(&Item) -> &'static str,
    /// Whether it is meant where no target is named.
    pub(super) is_meant: fn(&Item, &Target, &Options) -> bool,
    /// What it is called where only a folder is given, or nothing; `None` where that is the source's name.
    pub(crate) place: Option<fn(&Item, &Options) -> PathBuf>,
    /// Lays it out.
    pub(super) lay: fn(&Item, &Target, &Options, &Setting<'_>) -> Result<Made>,
}

/// Puts sources together: the files of several disks, the parts of a title.
pub(super) type Gather = fn(Vec<Item>, &Setting<'_>) -> std::result::Result<Item, Failure>;

impl Target {
    /// One that nothing becomes: others say what is different with them.
    pub(super) const BASE: Self = Self {
        id: "",
        what: "",
        extension: "",
        pair: None,
        made_of: "",
        group: None,
        options: &[],
        splits_into_folder: false,
        may_keep_damage: false,
        is_of_files: false,
        is_of_bytes: false,
        open: open::whole,
        gather: None,
        accepts: |_, _| None,
        needs: |_| "",
        is_meant: |_, _, _| false,
        place: None,
        lay: |_, target, _, _| Err(Error::unsupported(target.id, "making a new one")),
    };

    /// Whether a source can become it, and how useful that is: the most useful is shown first.
    pub fn accepts(&self, item: &Item) -> Option<u8> {
        (self.accepts)(item, self)
    }

    /// What has to be given with it for this source.
    pub fn needs(&self, item: &Item) -> &'static str {
        (self.needs)(item)
    }

    /// Whether a choice has a meaning with it.
    pub fn has(&self, name: &str) -> bool {
        self.options.iter().any(|choice| choice.name == name)
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
