//! What can be read, written, and turned into what: straight from the registry.

use decanter_formats::REGISTRY;
use serde::Serialize;

/// The list of formats.
#[derive(Debug, Serialize)]
pub struct FormatsReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The formats.
    pub formats: Vec<FormatEntry>,
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
    FormatsReport { schema: "decanter.formats/1", formats: REGISTRY.formats().iter().map(entry).collect() }
}
