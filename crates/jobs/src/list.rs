//! What is inside a source.

use crate::failure::with_article;
use crate::grouped;
use crate::locate::INSIDE;
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn, Work};
use crate::{Answer, Failure, Setting, locate};
use decanter_core::role::Role;
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
    /// What it is.
    pub kind: EntryKind,
    /// Length in bytes.
    pub bytes: u64,
    /// When it was last changed, seconds since 1970 UTC.
    pub modified: Option<i64>,
    /// First sector, or block of the disk's own size, of its content, where it has a place of its own.
    pub sector: Option<u64>,
    /// How much of it can be read.
    pub state: EntryState,
    /// What its file system says of it: type, protection, load address.
    pub about: Vec<String>,
    /// Where a link leads, or what is wrong with the entry.
    pub note: Option<String>,
}

/// What an entry is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum EntryKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link.
    Link,
}

/// How much of an entry can be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum EntryState {
    /// All of it.
    Whole,
    /// Nothing without its key.
    Locked,
    /// The source ends before it does.
    Cut,
    /// Its place cannot be right.
    Broken,
}

/// Finds out whether one source is meant or many. A folder in which nothing has files inside is one itself.
///
/// # Errors
/// When the user stops it.
pub fn sort_out(sources: &[String], how: How, setting: &Setting<'_>) -> Result<Work, Failure> {
    let takes = |role: decanter_core::role::Role| role.is_large_dump();
    let taste = Taste::of(takes);
    let mut search = Search::of(sources, &taste, how.is_listed, setting).map_err(|e| Failure::new("cannot list", e))?;
    if let Some(archive) = &search.through {
        // Its own files come first.
        search.found.insert(0, Found::named(format!("{archive}{INSIDE}")));
    }
    match (&search.found[..], sources) {
        ([one], _) if search.is_one => Ok(Work::One(one.address.clone())),
        ([], [one]) if search.failed.is_empty() && !how.is_listed => Ok(Work::One(one.clone())),
        _ => Ok(Work::Many(search)),
    }
}

/// Lists each source; `tell` is given every row in their order.
///
/// # Errors
/// What `tell` fails with. What cannot be listed is a row.
pub fn list_each<E>(
    mut search: Search,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<ListReport>) -> Result<(), E>,
) -> Result<ShelfReport<ListReport>, E> {
    let mut report = ShelfReport::new("decanter.list-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, _: &Turn<'_>| match list(&found.address, setting) {
        Err(failure) => shelf::unopened(found, failure),
        Ok(listed) if !found.is_named && listed.entries.is_empty() && listed.parameters.is_empty() => {
            Ok(Outcome::PassedOver(format!("{} has no files inside", with_article(&listed.kind))))
        }
        Ok(report) => Ok(Outcome::Done(Done { report, answer: Answer::Yes, before: 0, after: 0 })),
    };
    shelf::run(&search.found, "listing", setting, &one, &mut report, tell)?;
    Ok(report)
}

/// Lists a source.
///
/// # Errors
/// When it cannot be opened.
pub fn list(shown: &str, setting: &Setting<'_>) -> Result<ListReport, Failure> {
    let mut item = locate::open(shown, "list", setting)?;
    let fail = |e| Failure::new(format!("cannot list \"{shown}\""), e);
    item.opened.look_inside().map_err(fail)?;
    if let Some(trouble) = item.opened.closed_by() {
        return Err(fail(trouble.clone().into()));
    }
    let unit = item.opened.extent.unit.unwrap_or(SECTOR);
    let tree = item.opened.holds.tree.unwrap_or_default();
    let entry = |node: &decanter_core::Node| {
        let mut entry = Entry {
            path: node.path.clone(),
            kind: EntryKind::Folder,
            bytes: 0,
            modified: node.modified,
            sector: None,
            state: EntryState::Whole,
            about: node.about.as_ref().map(|a| a.words.clone()).unwrap_or_default(),
            note: None,
        };
        match &node.kind {
            Kind::Folder => {}
            Kind::Link(target) => {
                entry.kind = EntryKind::Link;
                entry.note = Some(format!("leads to {target}"));
            }
            Kind::File(file) => {
                entry.kind = EntryKind::File;
                entry.bytes = file.len;
                // What a package holds has no sectors.
                let is_package = item.opened.identity.role == Role::Package;
                entry.sector = file.spans.first().filter(|_| !is_package).map(|s| s.start / unit);
                (entry.state, entry.note) = match &file.content {
                    Content::Whole(_) => (EntryState::Whole, None),
                    Content::Locked(_) => (EntryState::Locked, Some("encrypted; the key is missing".into())),
                    Content::Cut { missing } => {
                        (EntryState::Cut, Some(format!("{} bytes are missing", grouped(*missing))))
                    }
                    Content::Broken(why) => (EntryState::Broken, Some(why.clone())),
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
