//! Folders in which a receiving machine looks, by what a file is.

use crate::Item;

/// A way of laying files out.
#[derive(Debug)]
pub struct Layout {
    /// Its name, for `--layout`.
    pub name: &'static str,
    /// For what, in words.
    pub what: &'static str,
    /// Folders, by format and by what the kind of the source begins with; what fits none goes to the top.
    folders: &'static [(&'static str, &'static str, &'static str)],
}

/// All of them; the first one is meant where none is named.
pub static LAYOUTS: [Layout; 3] = [
    Layout { name: "plain", what: "everything at the top", folders: &[] },
    Layout {
        name: "ps3",
        what: "packages at the top, where the console's menu finds them; images by their kind",
        folders: &[
            ("ps3-disc", "", "PS3ISO"),
            ("psp-disc", "", "PSPISO"),
            ("ps-disc", "PS2", "PS2ISO"),
            ("ps-disc", "PS1", "PSXISO"),
        ],
    },
    Layout { name: "psp", what: "images of PSP discs, compressed or not, in ISO", folders: &[("psp-disc", "", "ISO")] },
];

impl Layout {
    /// The one with this name.
    pub fn named(name: &str) -> Option<&'static Self> {
        LAYOUTS.iter().find(|l| l.name == name)
    }

    /// Whether a file's place depends on what it is.
    pub(super) fn has_folders(&self) -> bool {
        !self.folders.is_empty()
    }

    /// The folder for a source; empty for the top.
    pub(super) fn folder(&self, item: &Item) -> &'static str {
        let identity = &item.opened.identity;
        let fits =
            |(format, kind, _): &&(&str, &str, &str)| *format == identity.format && identity.kind.starts_with(kind);
        self.folders.iter().find(fits).map_or("", |(.., folder)| folder)
    }
}
