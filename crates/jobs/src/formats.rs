//! What can be read, written, and turned into what: straight from the registry.

use crate::convert::Target;
use crate::convert::table::targets;
use decanter_formats::REGISTRY;
use serde::Serialize;

/// The list of formats.
#[derive(Debug, Serialize)]
pub struct FormatsReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The formats.
    pub formats: Vec<FormatEntry>,
    /// What "convert" can make.
    pub targets: Vec<TargetEntry>,
}

/// Something that sources can become.
#[derive(Debug, Serialize)]
pub struct TargetEntry {
    /// Its id, for `--to`.
    pub id: &'static str,
    /// What it is.
    pub what: &'static str,
    /// What it is made of.
    pub made_of: &'static str,
}

/// One format.
#[derive(Debug, Serialize)]
pub struct FormatEntry {
    /// Its id.
    pub id: &'static str,
    /// What people call it.
    pub name: &'static str,
    /// Usual extensions.
    pub extensions: &'static [&'static str],
    /// What is read of it.
    pub reads: &'static str,
}

/// Lists all formats.
pub fn formats() -> FormatsReport {
    let entry = |f: &&dyn decanter_core::Format| FormatEntry {
        id: f.id(),
        name: f.name(),
        extensions: f.extensions(),
        reads: f.reads(),
    };
    let target = |t: &Target| TargetEntry { id: t.id, what: t.what, made_of: t.made_of };
    FormatsReport {
        schema: "decanter.formats/1",
        formats: REGISTRY.formats().iter().map(entry).collect(),
        targets: targets().map(target).collect(),
    }
}
