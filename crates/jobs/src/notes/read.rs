//! Lists of notes as files: comma-separated with a head, or TOML with one `[[note]]` for each.

use super::Note;
use crate::{Setting, locate, toml_text};
use decanter_core::source::read_vec;
use decanter_core::{Error, Result};
use std::collections::BTreeMap;

/// A list of a hundred thousand titles.
const MOST: u64 = 64 << 20;
/// What fields may be separated by: whichever the first line has most of.
const SEPARATORS: [u8; 3] = [b',', b';', b'\t'];

/// A list that was read.
pub(super) struct Parsed {
    pub(super) notes: Vec<Note>,
    /// Lines that are of no use: their numbers, and why.
    pub(super) left: Vec<(u64, &'static str)>,
    /// Columns of other names than ours.
    pub(super) unknown: Vec<String>,
}

/// Reads a list; `name` is what it is called.
///
/// # Errors
/// When it cannot be read, is no such list, or has none of the columns that it needs.
pub(super) fn file(path: &str, name: &str, setting: &Setting<'_>) -> Result<Parsed> {
    let source = locate::bytes(path, setting)?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a list of notes", MOST)?;
    let text = String::from_utf8(bytes).map_err(|_| Error::Usage(format!("\"{path}\" is no text in UTF-8")))?;
    let text = text.trim_start_matches('\u{feff}');
    let parsed = match path.to_ascii_lowercase().ends_with(".toml") {
        true => toml_list(text, name),
        false => csv_list(text, name),
    };
    parsed.map_err(|why| Error::Usage(format!("\"{path}\": {why}")))
}

fn csv_list(text: &str, list: &str) -> std::result::Result<Parsed, String> {
    let first = text.lines().next().unwrap_or_default().as_bytes();
    let count = |separator: &u8| first.iter().filter(|b| *b == separator).count();
    let separator = SEPARATORS.into_iter().rev().max_by_key(count).unwrap_or(b',');
    let mut reader =
        csv::ReaderBuilder::new().delimiter(separator).flexible(true).trim(csv::Trim::All).from_reader(text.as_bytes());
    let told = |e: csv::Error| match e.position() {
        Some(position) => format!("line {}: {e}", position.line()),
        None => e.to_string(),
    };
    let head: Vec<String> = reader.headers().map_err(told)?.iter().map(str::to_lowercase).collect();
    let mut parsed = begin(&head)?;
    for row in reader.records() {
        let row = row.map_err(told)?;
        let line = row.position().map_or(0, |p| after_blanks(text, p.line()));
        let mut note = Note { list: list.to_owned(), ..Note::default() };
        head.iter().zip(row.iter()).for_each(|(column, value)| note.put(column, value.to_owned()));
        if row.len() > head.len() {
            parsed.left.push((line, "more fields than the head has"));
        } else {
            parsed.take(line, note);
        }
    }
    Ok(parsed)
}

/// The number of a line, or of the first one after it that is not empty: records are counted from where the one before
/// them ends.
fn after_blanks(text: &str, line: u64) -> u64 {
    let skip = line.saturating_sub(1) as usize;
    line + text.lines().skip(skip).take_while(|l| l.trim().is_empty()).count() as u64
}

/// A list in TOML.
#[derive(serde::Deserialize)]
#[serde(deny_unknown_fields)]
struct List {
    note: Vec<BTreeMap<String, String>>,
}

fn toml_list(text: &str, list: &str) -> std::result::Result<Parsed, String> {
    let all: List = toml_text::parse(text)?;
    let mut head: Vec<String> = all.note.iter().flat_map(|n| n.keys()).map(|k| k.to_lowercase()).collect();
    head.sort();
    head.dedup();
    let mut parsed = begin(&head)?;
    for (number, entry) in (1..).zip(all.note) {
        let mut note = Note { list: list.to_owned(), ..Note::default() };
        entry.into_iter().for_each(|(column, value)| note.put(&column.to_lowercase(), value.trim().to_owned()));
        parsed.take(number, note);
    }
    Ok(parsed)
}

/// Looks at the names of columns.
fn begin(head: &[String]) -> std::result::Result<Parsed, String> {
    let has = |name: &str| head.iter().any(|column| column == name);
    if !has("verdict") || !(has("id") || has("title")) {
        return Err(format!(
            "it needs a column verdict, and id or title; its first line has: {}",
            if head.is_empty() { "nothing".to_owned() } else { head.join(", ") }
        ));
    }
    let known: Vec<&str> = Note::default().fields().map(|(name, _)| name).to_vec();
    let unknown = head.iter().filter(|c| !known.contains(&c.as_str())).cloned().collect();
    Ok(Parsed { notes: Vec::new(), left: Vec::new(), unknown })
}

impl Parsed {
    fn take(&mut self, line: u64, note: Note) {
        match note.fault() {
            None => self.notes.push(note),
            Some(fault) => self.left.push((line, fault)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn either_form_gives_the_same_notes() {
        let text =
            "ID;Title;Verdict;Heat\nDCUS-10007;\"Moth; Parade\";runs;warm\n\n;;runs;\nDCUS-10008;;;\nx;y;z;w;v\n";
        let csv = csv_list(text, "marsh").unwrap();
        assert_eq!(csv.left, [(4, "neither id nor title"), (5, "no verdict"), (6, "more fields than the head has")]);
        assert_eq!((csv.unknown.as_slice(), csv.notes.len()), (&["heat".to_owned()][..], 1));
        let toml = "[[note]]\nid = \"DCUS-10007\"\ntitle = \"Moth; Parade\"\nverdict = \"runs\"\nheat = \"warm\"\n";
        assert_eq!(toml_list(toml, "marsh").unwrap().notes, csv.notes);
        assert_eq!(csv.notes[0].more, [("heat".to_owned(), "warm".to_owned())]);
    }

    #[test]
    fn a_list_without_its_columns_says_what_it_has() {
        let why = |text: &str| csv_list(text, "x").err().unwrap();
        assert!(why("name,works\na,b\n").ends_with("its first line has: name, works"));
        assert!(why("id,title\n").contains("verdict") && why("").contains("verdict"));
        assert!(toml_list("[[note]]\nverdict = 5\n", "x").err().unwrap().contains("text in quotes"));
    }

    proptest! {
        #[test]
        fn any_text_is_a_list_or_an_error(text in "\\PC{0,200}", head in any::<bool>()) {
            let text = if head { format!("id,verdict\n{text}") } else { text };
            if let Ok(parsed) = csv_list(&text, "x") {
                prop_assert!(parsed.notes.iter().all(|n| n.fault().is_none()));
            }
        }
    }
}
