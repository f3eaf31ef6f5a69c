//! The files of many sources, each in a folder of its own.

use super::{ExtractReport, Options, content, copy, done, has_none};
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn, Work};
use crate::{Answer, Failure, Item, Setting, locate, place};
use decanter_core::role::Role;
use decanter_core::{Error, native, tell};
use std::path::{Path, PathBuf};

/// Finds out whether one source is meant or many.
///
/// # Errors
/// When there is nothing to do, or the user stops it.
pub fn sort_out(sources: &[String], options: &Options, how: How, setting: &Setting<'_>) -> Result<Work, Failure> {
    let taste = Taste {
        // What is laid over a folder is laid over its own files.
        keeps_folders: !options.overlay.is_empty() && !how.each,
        keeps_archives: how.content,
        ..Taste::of(Role::is_large_dump)
    };
    let search = Search::of(sources, &taste, how.is_listed, setting).map_err(|e| Failure::new("cannot extract", e))?;
    match &search.found[..] {
        [one] if search.is_one => Ok(Work::One(one.address.clone())),
        // A folder of plain files is one itself.
        [] if search.failed.is_empty() && sources.len() == 1 && !how.is_listed => Ok(Work::One(sources[0].clone())),
        [] if search.failed.is_empty() => Err(shelf::nothing_found(sources, "has files inside", &search)),
        _ if options.originals.is_some() => {
            let why = "--originals keeps what is replaced in one source, but there are several";
            Err(Failure::usage("cannot extract several sources", why).hint("extract that one by itself"))
        }
        _ => Ok(Work::Many(search)),
    }
}

/// Extracts each source into a folder of its own below `output`; `tell` is given every row in the order of sources.
///
/// # Errors
/// When no folder is given. What fails is a row.
pub fn extract_each<E>(
    mut search: Search,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<ExtractReport>) -> Result<(), E>,
) -> Result<Result<ShelfReport<ExtractReport>, E>, Failure> {
    let output = shelf::folder(output, "extract", &search)?;
    let mut report = ShelfReport::new("decanter.extract-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, turn: &Turn<'_>| one(found, output, options, setting, turn);
    Ok(shelf::run(&search.found, "extracting", setting, &one, &mut report, tell).map(|()| report))
}

/// Extracts a source that was opened into `folder`, or finds its files there; whether all of them were.
///
/// # Errors
/// As [`super::extract`].
pub(crate) fn extract_into(
    item: &Item,
    folder: PathBuf,
    setting: &Setting<'_>,
) -> Result<(ExtractReport, Answer, bool), Failure> {
    let copied = copy(item, folder, &Options::default(), true, setting)?;
    let was_there = copied.was_there || copied.report.files == 0 && copied.report.there_already > 0;
    let (report, answer) = done(copied.report);
    Ok((report, answer, was_there))
}

fn one(
    found: &Found,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
    turn: &Turn<'_>,
) -> Result<Outcome<ExtractReport>, Failure> {
    let mut item = match locate::open(&found.address, "extract", setting) {
        Ok(item) => item,
        Err(failure) => return shelf::unopened(found, failure),
    };
    let fail = |e| Failure::new(format!("cannot extract \"{}\"", found.address), e);
    item.opened.look_inside().map_err(fail)?;
    if let Some(trouble) = item.opened.closed_by() {
        return Err(fail(trouble.clone().into()));
    }
    if item.opened.holds.tree.is_none() {
        return match found.is_named {
            true => Err(fail(Error::Usage(has_none(&item)))),
            false => Ok(Outcome::PassedOver(has_none(&item))),
        };
    }
    // All packages share one tree of folders.
    let folder = match options.content_tree {
        true => content::folders(&item)?.iter().fold(output.to_owned(), |at, name| at.join(native::os(name))),
        false => shelf::place(output, found).join(native::os(&place::folder_name(&item))),
    };
    let folder = turn.claim(shelf::names(folder, &item))?;
    let copied = copy(&item, folder, options, true, setting)?;
    let was_there = copied.was_there || copied.report.files == 0 && copied.report.there_already > 0;
    let before = item.source.as_ref().map_or(0, |s| s.len());
    let (report, answer) = done(copied.report);
    if !was_there {
        let after = report.bytes;
        return Ok(Outcome::Done(Done { report, answer, before, after }));
    }
    let how = format!("its files are in {}", native::text(&report.folder));
    Ok(match answer {
        Answer::Yes => Outcome::Present(how),
        _ => {
            let left = tell::count(report.left_out.len() as u64, "file is", "files are");
            Outcome::Incomplete(format!("{how}, but {left} left out, as the source is damaged"))
        }
    })
}
