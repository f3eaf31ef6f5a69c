//! Lists of what is known to run: brought in by the user, searched, and told before an hour is spent. Layout: docs/notes.md.

mod import;
mod read;

pub use import::{ImportReport, LeftRow, import};

use crate::{Failure, Item, Setting};
use decanter_core::keyring::plain;
use decanter_core::{Error, Notice, Result, native};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::OnceLock;
use walkdir::WalkDir;

/// The most lists in a folder.
const MOST_LISTS: usize = 1000;

/// A line of a list.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Note {
    /// Id of the title, as its platform writes it.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Its region.
    pub region: String,
    /// What it was tried on, or in which form.
    pub target: String,
    /// What came of it.
    pub verdict: String,
    /// What else there is to say.
    pub remark: String,
    /// Who says so.
    pub source: String,
    /// When.
    pub date: String,
    /// Columns of other names, as they stood there.
    pub more: Vec<(String, String)>,
    /// The list it stands in.
    pub list: String,
}

impl Note {
    /// Its known fields by the names of their columns.
    fn fields(&mut self) -> [(&'static str, &mut String); 8] {
        [
            ("id", &mut self.id),
            ("title", &mut self.title),
            ("region", &mut self.region),
            ("target", &mut self.target),
            ("verdict", &mut self.verdict),
            ("remark", &mut self.remark),
            ("source", &mut self.source),
            ("date", &mut self.date),
        ]
    }

    /// Puts a value where its column belongs.
    fn put(&mut self, column: &str, value: String) {
        if let Some((_, field)) = self.fields().into_iter().find(|(name, _)| *name == column) {
            *field = value;
            return;
        }
        self.more.push((column.to_owned(), value));
    }

    /// What is missing for it to be of use.
    fn fault(&self) -> Option<&'static str> {
        match (self.verdict.is_empty(), self.id.is_empty() && self.title.is_empty()) {
            (_, true) => Some("neither id nor title"),
            (true, false) => Some("no verdict"),
            (false, false) => None,
        }
    }

    /// Whether it is about a title: by its id, or by its name where it has none.
    fn is_about(&self, id: &str, title: &str) -> bool {
        match plain(&self.id) {
            own if own.is_empty() => !title.is_empty() && plain(&self.title) == plain(title),
            own => own == plain(id),
        }
    }

    /// In one line: "ps3: runs (sound crackles), from marsh list, 2026-05-01".
    pub fn words(&self) -> String {
        let before = |text: &str, with: &str| if text.is_empty() { String::new() } else { format!("{text}{with}") };
        let around = |text: &str, open: &str, close: &str| match text {
            "" => String::new(),
            text => format!("{open}{text}{close}"),
        };
        let said = before(&self.target, ": ") + &self.verdict + &around(&self.remark, " (", ")");
        let by = if self.source.is_empty() { &self.list } else { &self.source };
        said + ", " + by + &around(&self.date, ", ", "")
    }
}

/// The notes of a run, read once; or why they cannot be.
pub(crate) type Kept = OnceLock<std::result::Result<Vec<Note>, String>>;

/// Every note in the lists that are known, in the order of lists and lines.
///
/// # Errors
/// When a list cannot be read.
fn all<'a>(setting: &'a Setting<'_>) -> Result<&'a [Note]> {
    match setting.kept_notes.get_or_init(|| read_all(setting).map_err(|e| e.to_string())) {
        Ok(notes) => Ok(notes),
        Err(why) => Err(Error::Unreadable { why: why.clone() }),
    }
}

fn read_all(setting: &Setting<'_>) -> Result<Vec<Note>> {
    let mut notes = Vec::new();
    for place in &setting.note_places {
        for path in lists_in(place)? {
            let name = path.file_stem().map(native::text).unwrap_or_default();
            let parsed = read::file(&native::text(&path), &name, setting)?;
            notes.extend(parsed.notes);
        }
    }
    Ok(notes)
}

/// The lists in a folder, by name; none where there is no folder.
///
/// # Errors
/// When the folder cannot be read, or has too many.
fn lists_in(place: &std::path::Path) -> Result<Vec<PathBuf>> {
    if !place.exists() {
        return Ok(Vec::new());
    }
    let is_list = |path: &std::path::Path| path.extension().is_some_and(|e| e.eq_ignore_ascii_case("csv"));
    let mut lists = Vec::new();
    for entry in WalkDir::new(place).max_depth(1).sort_by_file_name() {
        let entry = entry.map_err(|e| Error::io("list", place, e.into()))?;
        if entry.file_type().is_file() && is_list(entry.path()) {
            lists.push(entry.into_path());
        }
        if lists.len() > MOST_LISTS {
            let (asked, limit) = (lists.len() as u64, MOST_LISTS as u64);
            return Err(Error::Limit { what: "the lists of notes in a folder", asked, limit });
        }
    }
    Ok(lists)
}

/// What is known of a title.
///
/// # Errors
/// When a list cannot be read.
pub(crate) fn of_item(item: &Item, setting: &Setting<'_>) -> Result<Vec<Note>> {
    let identity = &item.opened.identity;
    let id = identity.id.as_deref().unwrap_or_default();
    // What says nothing of itself is called as its file is.
    let title = identity.title.as_deref().unwrap_or(if id.is_empty() { &item.stem } else { "" });
    Ok(all(setting)?.iter().filter(|note| note.is_about(id, title)).cloned().collect())
}

/// What is known of a title, as notices.
pub(crate) fn notices(item: &Item, setting: &Setting<'_>) -> Vec<Notice> {
    match of_item(item, setting) {
        Ok(notes) => notes.iter().map(|n| Notice::new(format!("noted: {}", n.words()))).collect(),
        Err(e) => vec![Notice::new(format!("the lists of notes cannot be used: {e}"))],
    }
}

/// Tells what is known of a title before the work on it begins.
pub(crate) fn tell(item: &Item, setting: &Setting<'_>) {
    notices(item, setting).iter().for_each(|notice| setting.watch.notice(notice));
}

/// What was found in the lists.
#[derive(Debug, Serialize)]
pub struct FindReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// What was looked for.
    pub text: String,
    /// The lines that have it.
    pub notes: Vec<Note>,
    /// How many lines there are in all.
    pub all: usize,
}

/// Looks for a text in ids, titles and remarks; case, spaces and hyphens do not count in ids.
///
/// # Errors
/// When there is no list, or one cannot be read.
pub fn find(text: &str, setting: &Setting<'_>) -> std::result::Result<FindReport, Failure> {
    let what = format!("cannot look for \"{text}\"");
    let notes = all(setting).map_err(|e| Failure::new(what.clone(), e))?;
    if notes.is_empty() {
        let why = Error::Usage("there are no notes yet".into());
        return Err(Failure::new(what, why).hint("decanter notes import LIST brings a list in"));
    }
    let (small, bare) = (text.to_lowercase(), plain(text));
    let has = |note: &&Note| {
        let texts = [&note.title, &note.remark, &note.target, &note.verdict];
        texts.iter().any(|t| t.to_lowercase().contains(&small)) || (!bare.is_empty() && plain(&note.id).contains(&bare))
    };
    let count = notes.len();
    let found = notes.iter().filter(has).cloned().collect();
    Ok(FindReport { schema: "decanter.notes-find/1", text: text.to_owned(), notes: found, all: count })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_note_is_about_an_id_however_it_is_spelled() {
        let note = Note { id: "DCUS-10007".into(), title: "Moth Parade".into(), ..Note::default() };
        assert!(note.is_about("dcus10007", "") && !note.is_about("DCUS10008", "Moth Parade"));
        let by_title = Note { title: "Moth Parade".into(), ..Note::default() };
        assert!(by_title.is_about("X", "MOTH PARADE") && !by_title.is_about("X", "") && !by_title.is_about("", "Moth"));
    }

    #[test]
    fn words_leave_out_what_is_not_there() {
        let mut note = Note { verdict: "runs".into(), list: "marsh".into(), ..Note::default() };
        assert_eq!(note.words(), "runs, marsh");
        (note.target, note.remark, note.date, note.source) =
            ("ps3".into(), "slow".into(), "2026-05-01".into(), "Ada".into());
        assert_eq!(note.words(), "ps3: runs (slow), Ada, 2026-05-01");
    }
}
