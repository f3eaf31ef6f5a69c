//! Shelves: many sources, each with a row of its own. What is in folders and archives is found, several are worked on at
//! once, what fails does not stop the rest, and what is there already is passed over.

mod crew;
mod list;
mod report;
mod same;
mod search;

use crew::Job;
pub(crate) use crew::Turn;
pub(crate) use crew::work;
pub use list::listed;
pub(crate) use report::{Done, Outcome};
pub use report::{Row, ShelfReport, State, Totals};
pub(crate) use same::{compared, is_same};
pub use search::Search;
pub(crate) use search::{Found, Taste};

use crate::{Failure, Item, Setting, quoted};
use decanter_core::Error;
use decanter_core::names::stem_of;
use decanter_core::native;
use std::path::{Path, PathBuf};

/// How sources are taken.
#[derive(Debug, Clone, Copy, Default)]
pub struct How {
    /// Folders and archives are searched, also where they could be the content of the result.
    pub each: bool,
    /// Archives are the content of the result, whatever is in them.
    pub content: bool,
    /// The sources come from a list: there may be any number of them.
    pub is_listed: bool,
}

/// What is to be done with the sources.
pub enum Work {
    /// One was meant, and is worked on by itself.
    One(String),
    /// Each has a row of its own.
    Many(Search),
}

/// What a source that cannot be opened comes to: one that was only found may be nothing at all.
///
/// # Errors
/// The failure, where it counts.
pub(crate) fn unopened<R>(found: &Found, failure: Failure) -> Result<Outcome<R>, Failure> {
    match *failure.cause {
        Error::NotUnderstood { .. } if !found.is_named => Ok(Outcome::PassedOver(failure.cause.to_string())),
        _ => Err(failure),
    }
}

/// The folder that many results go to.
///
/// # Errors
/// When none was given, or something else stands there.
pub(crate) fn folder<'a>(output: Option<&'a Path>, verb: &str, search: &Search) -> Result<&'a Path, Failure> {
    let what = || format!("cannot {verb} several sources");
    let Some(output) = output else {
        let why = match search.through.as_deref() {
            Some(archive) => {
                format!("\"{archive}\" holds {} of them, and no folder is given for the results", search.found.len())
            }
            None => "no folder is given for their results".into(),
        };
        let own = match (&search.through, verb) {
            (Some(archive), _) => format!("; {} means the archive itself", quoted(&format!("{archive}::"))),
            (None, "convert") => "; parts of one dump go together with --join".into(),
            _ => String::new(),
        };
        return Err(Failure::usage(what(), why).hint(format!("add -o DIR{own}")));
    };
    match std::fs::metadata(output) {
        Ok(meta) if !meta.is_dir() => Err(Failure::usage(what(), format!("\"{}\" is a file", native::text(output)))
            .hint("several results need a folder: choose another one with -o")),
        _ => Ok(output),
    }
}

/// The place of one result's folder, below the one that all results go to.
pub(crate) fn place(output: &Path, found: &Found) -> PathBuf {
    let whole = output.join(&found.below);
    // As one that ends in a slash, it is a folder also where nothing is there yet.
    whole.join("")
}

/// Names for the result of an item, the best first: where another result has its name, the extension of its source tells
/// it apart.
pub(crate) fn names(best: PathBuf, item: &Item) -> Vec<PathBuf> {
    apart(best, &item.host.extension().map(native::text).unwrap_or_default())
}

/// Two names, of which the second has `word` behind its stem.
pub(crate) fn apart(best: PathBuf, word: &str) -> Vec<PathBuf> {
    let name = best.file_name().map(native::text).unwrap_or_default();
    let stem = stem_of(&name);
    let extension = name.strip_prefix(stem.as_str()).unwrap_or_default();
    let other = best.with_file_name(native::os(&format!("{stem} ({word}){extension}")));
    if word.is_empty() { vec![best] } else { vec![best, other] }
}

/// Says what there is nothing of.
pub(crate) fn nothing_found(sources: &[String], what: &str, search: &Search) -> Failure {
    let named: Vec<String> = sources.iter().take(3).map(|s| format!("\"{s}\"")).collect();
    let more = if sources.len() > 3 { " and others" } else { "" };
    let failure = Failure::usage(
        format!("nothing to do in {}{more}", named.join(", ")),
        format!("there is nothing in it that {what}"),
    );
    match search.unknown {
        0 => failure.hint("give files, or folders with some"),
        _ => failure.hint("\"decanter identify\" says what the files in it are"),
    }
}

impl Setting<'_> {
    /// Tells what in the folders is no file.
    pub(crate) fn tell_passed(&self, passed: &[(String, &'static str)]) {
        for (path, kind) in passed {
            self.watch.notice(&decanter_core::Notice::new(format!("{path} is passed over: it is {kind}")));
        }
    }
}

/// Does one job for each source, and adds a row for each to the report.
///
/// # Errors
/// What `tell` fails with.
pub(crate) fn run<R: Send, E>(
    all: &[Found],
    phase: &str,
    setting: &Setting<'_>,
    one: &Job<'_, Result<Outcome<R>, Failure>>,
    report: &mut ShelfReport<R>,
    tell: &mut dyn FnMut(&Row<R>) -> Result<(), E>,
) -> Result<(), E> {
    report.rows.iter().try_for_each(&mut *tell)?;
    work(all, phase, setting, one, &mut |found, outcome| match report.add(found, outcome) {
        Some(row) => tell(row),
        None => Ok(()),
    })?;
    report.stopped |= setting.watch.cancelled();
    Ok(())
}
