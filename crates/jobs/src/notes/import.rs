//! A list is brought in: read, checked, and kept among the user's own in one form.

use super::read;
use crate::{Failure, Setting, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, names, native};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::Arc;

/// A list that was brought in.
#[derive(Debug, Serialize)]
pub struct ImportReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Where it came from.
    pub source: String,
    /// Where it is kept.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub list: PathBuf,
    /// Lines that were taken.
    pub notes: usize,
    /// Lines that are of no use.
    pub left: Vec<LeftRow>,
    /// Columns of other names, which are kept.
    pub unknown: Vec<String>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// A line that was not taken.
#[derive(Debug, Serialize)]
pub struct LeftRow {
    /// Its number; in TOML that of the note.
    pub line: u64,
    /// Why.
    pub why: String,
}

/// Brings a list in, under `name` or its own.
///
/// # Errors
/// When it is no list of notes, one of that name is there, or there is no place to keep it.
pub fn import(shown: &str, name: Option<&str>, setting: &Setting<'_>) -> Result<ImportReport, Failure> {
    let what = format!("cannot import \"{shown}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let hint = "columns: id, title, region, target, verdict, remark, source, date (docs/notes.md)";
    let parsed = read::file(shown, "", setting).map_err(|e| match e {
        Error::Usage(_) => fail(e).hint(hint),
        e => fail(e),
    })?;
    let Some(folder) = setting.note_places.first() else {
        return Err(Failure::usage(what, "the system does not say where programs keep what is the user's")
            .hint("name a folder in the configuration: notes = [\"FOLDER\"]"));
    };
    let name = name.map_or_else(|| place::stem_of_shown(shown), str::to_owned);
    let list = folder.join(native::os(&names::file_name(&format!("{name}.csv"))));
    let text = written(&parsed.notes).map_err(fail)?;
    let bytes = Blueprint::of(Arc::new(Bytes(text)));
    setting.write(Output::new(&bytes, &list), &what).map_err(|failure| match *failure.cause {
        Error::Exists { .. } => {
            failure.hint("--name NAME keeps it under another name, --replace puts it in the place of that one")
        }
        _ => failure,
    })?;
    Ok(ImportReport {
        schema: "decanter.notes-import/1",
        source: shown.to_owned(),
        list,
        notes: parsed.notes.len(),
        left: parsed.left.into_iter().map(|(line, why)| LeftRow { line, why: why.to_owned() }).collect(),
        unknown: parsed.unknown,
        dry_run: setting.dry_run,
    })
}

/// Notes as one comma-separated text: our columns, then all others.
fn written(notes: &[super::Note]) -> decanter_core::Result<Vec<u8>> {
    let mut more: Vec<&str> = Vec::new();
    for (name, _) in notes.iter().flat_map(|n| &n.more) {
        if !more.contains(&name.as_str()) {
            more.push(name);
        }
    }
    let mut writer = csv::Writer::from_writer(Vec::new());
    let failed = |e: csv::Error| Error::Usage(e.to_string());
    let own = super::Note::default().fields().map(|(name, _)| name);
    writer.write_record(own.iter().chain(&more)).map_err(failed)?;
    for note in notes {
        let mut note = note.clone();
        let others: Vec<String> = (more.iter())
            .map(|name| note.more.iter().find(|(n, _)| n == name).map_or(String::new(), |(_, v)| v.clone()))
            .collect();
        let own: Vec<String> = note.fields().map(|(_, value)| value.clone()).to_vec();
        writer.write_record(own.iter().chain(&others)).map_err(failed)?;
    }
    writer.into_inner().map_err(|e| Error::Usage(e.to_string()))
}
