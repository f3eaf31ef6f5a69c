//! What is inside a source.

use crate::{Failure, Setting, locate};
use decanter_core::tree::{Content, Kind};
use decanter_core::{Notice, SECTOR};
use serde::Serialize;

/// What is inside a source.
#[derive(Debug, Serialize)]
pub struct ListReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// What it is.
    pub kind: String,
    /// Files, folders and links.
    pub entries: Vec<Entry>,
    /// Named values, of a source that has no files.
    pub parameters: Vec<(String, String)>,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// A file, folder or link.
#[derive(Debug, Serialize)]
pub struct Entry {
    /// Path in the source.
    pub path: String,
    /// "file", "folder" or "link".
    pub kind: &'static str,
    /// Length in bytes.
    pub bytes: u64,
    /// When it was last changed, seconds since 1970 UTC.
    pub modified: Option<i64>,
    /// First sector, or block of the disk's own size, of its content, where it has a place of its own.
    pub sector: Option<u64>,
    /// "whole", "locked" (the key is missing), "cut" or "broken".
    pub state: &'static str,
    /// What its file system says of it: type, protection, load address.
    pub about: Vec<String>,
    /// Where a link leads, or what is wrong with the entry.
    pub note: Option<String>,
}

/// Bytes of a block as a disk itself counts them.
fn block(format: &str) -> u64 {
    match format {
        "d64" | "d71" | "d81" => 256,
        "adf" | "hdf" | "rdb" | "mbr" | "gpt" | "fat" | "ntfs" | "ext" => 512,
        _ => SECTOR,
    }
}

/// Lists a source.
///
/// # Errors
/// When it cannot be opened.
pub fn list(shown: &str, setting: &Setting<'_>) -> Result<ListReport, Failure> {
    let item = locate::open(shown, "list", setting)?;
    let unit = block(item.opened.identity.format);
    let tree = item.opened.holds.tree.unwrap_or_default();
    let entry = |node: &decanter_core::Node| {
        let mut entry = Entry {
            path: node.path.clone(),
            kind: "folder",
            bytes: 0,
            modified: node.modified,
            sector: None,
            state: "whole",
            about: node.about.as_ref().map(|a| a.words.clone()).unwrap_or_default(),
            note: None,
        };
        match &node.kind {
            Kind::Folder => {}
            Kind::Link(target) => {
                entry.kind = "link";
                entry.note = Some(format!("leads to {target}"));
            }
            Kind::File(file) => {
                entry.kind = "file";
                entry.bytes = file.len;
                entry.sector = file.spans.first().map(|s| s.start / unit);
                (entry.state, entry.note) = match &file.content {
                    Content::Whole(_) => ("whole", None),
                    Content::Locked(_) => ("locked", Some("encrypted; the key is missing".into())),
                    Content::Cut { missing } => ("cut", Some(format!("{missing} bytes are missing"))),
                    Content::Broken(why) => ("broken", Some(why.clone())),
                };
            }
        }
        entry
    };
    Ok(ListReport {
        schema: "decanter.list/1",
        source: item.address,
        kind: item.opened.identity.kind,
        entries: tree.nodes.iter().map(entry).collect(),
        parameters: item.opened.told.parameters,
        notices: item.opened.told.notices,
    })
}
