//! Many conversions, each with a row of its own.

use super::aim::{Aim, misfit};
use super::laid::Laid;
use super::table;
use super::target::Target;
use super::{ConvertReport, Options, parts, present};
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn};
use crate::{Answer, Failure, Item, Setting};
use decanter_core::error::Blame;
use decanter_core::role::Role;
use std::path::Path;

/// What is to be done with the sources.
pub enum Work {
    /// There is one, and it becomes one result.
    One(String),
    /// All of them together become one result.
    Together,
    /// Each becomes one of its own.
    Many(Search),
}

/// What only takes a source that was named by itself: nobody means it when a folder is searched.
const LEAST_USE: u8 = 4;

/// Finds out whether one result is asked for or many.
///
/// # Errors
/// When there is nothing to do, what is asked for makes no sense, or the user stops it.
pub fn sort_out(
    sources: &[String],
    to: Option<&str>,
    output: Option<&Path>,
    options: &Options,
    how: How,
    setting: &Setting<'_>,
) -> Result<Work, Failure> {
    let aim = Aim::new(to, output);
    let asked = aim.asked();
    let [first, ..] = sources else {
        return Err(Failure::usage("cannot convert", "no source is given").hint("give a file or a folder"));
    };
    if how.content && !asked.is_of_files {
        let files = table::targets().filter(|t| t.is_of_files).map(|t| t.id).collect::<Vec<_>>().join(", ");
        let why = "--content makes the files in an archive the content of the result";
        return Err(Failure::usage("cannot convert", why).hint(format!("it is for --to {files}")));
    }
    let is_joined = !options.join.is_empty() || options.odd.is_some();
    if asked.gather.is_some() && !how.each {
        return Ok(Work::Together);
    }
    if is_joined && sources.len() == 1 {
        return Ok(Work::One(first.clone()));
    }
    if is_joined {
        return Err(Failure::usage(
            "cannot convert several sources",
            "--join and --odd put the parts of one dump together",
        )
        .hint("give one source, and its further parts with --join"));
    }
    let is_whole = asked.is_of_files && !how.each;
    let taste = Taste {
        keeps_folders: is_whole,
        keeps_archives: how.content,
        takes_roms_apart: !is_whole,
        splits_sheets: asked.is_of_bytes,
        ..Taste::of(|role| !matches!(role, Role::Patch | Role::Description | Role::Record | Role::Unknown))
    };
    let search = Search::of(sources, &taste, how.is_listed, setting).map_err(|e| Failure::new("cannot convert", e))?;
    match &search.found[..] {
        [one] if search.is_one => Ok(Work::One(one.address.clone())),
        [] if search.failed.is_empty() => Err(shelf::nothing_found(sources, "could be converted", &search)),
        _ => {
            aim.check_for_many(options)?;
            Ok(Work::Many(search))
        }
    }
}

/// Converts each source into a file of its own below `output`; `tell` is given every row in the order of sources.
///
/// # Errors
/// When no folder is given. What fails is a row.
pub fn convert_each<E>(
    mut search: Search,
    to: Option<&str>,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<ConvertReport>) -> Result<(), E>,
) -> Result<Result<ShelfReport<ConvertReport>, E>, Failure> {
    let output = shelf::folder(output, "convert", &search)?;
    let mut report = ShelfReport::new("decanter.convert-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, turn: &Turn<'_>| one(found, to, output, options, setting, turn);
    Ok(shelf::run(&search.found, "converting", setting, &one, &mut report, tell).map(|()| report))
}

fn one(
    found: &Found,
    to: Option<&str>,
    output: &Path,
    options: &Options,
    setting: &Setting<'_>,
    turn: &Turn<'_>,
) -> Result<Outcome<ConvertReport>, Failure> {
    let aim = Aim::new(to, None);
    let item = match (aim.asked().open)(&found.address, options, setting) {
        Ok(item) => item,
        Err(failure) => return shelf::unopened(found, failure),
    };
    let target = match aim.target(&item, options) {
        Ok(target) => target,
        Err(failure) if failure.blame() != Blame::Key && !found.is_named && !is_known_to_be_cut(&item) => {
            return Ok(Outcome::PassedOver(failure.cause.to_string()));
        }
        Err(failure) => return Err(failure),
    };
    if !found.is_named {
        if is_already(&item, target, options) {
            return Ok(Outcome::PassedOver(format!("it is {} already", target.what)));
        }
        if target.accepts(&item).is_some_and(|use_of_it| use_of_it < LEAST_USE) {
            return Ok(Outcome::PassedOver(misfit(&item, target)));
        }
    }
    let main = parts::main_path(&item, target, Some(&shelf::place(output, found)), options);
    let main = turn.claim(shelf::names(main, &item))?;
    Laid::check(&item, target, options, setting)?;
    if !setting.replace
        && let Some((how, answer)) = present::is_there(&item, target, &main, options, setting)?
    {
        return Ok(match answer {
            Answer::Yes => Outcome::Present(how),
            _ => Outcome::Incomplete(format!("{how}; but the damage of the source is kept in it")),
        });
    }
    setting.check_target(&main)?;
    let (report, answer) = Laid::of(&item, target, options, setting)?.pour(&main, setting)?;
    let (before, after) = (report.bytes_before, report.bytes_after);
    Ok(Outcome::Done(Done { report, answer, before, after }))
}

/// Whether something is missing or damaged, as far as opening it shows: it may fit nothing for that.
fn is_known_to_be_cut(item: &Item) -> bool {
    let len = item.source.as_ref().map_or(0, |source| source.len());
    let is_short = item.opened.extent.promised_len.is_some_and(|promised| promised > len);
    is_short || item.notices().iter().any(|notice| notice.is_damage)
}

/// Whether a source is what it should become, and nothing about it is to be changed.
pub(super) fn is_already(item: &Item, target: &Target, options: &Options) -> bool {
    let is_asked = table::choices().into_iter().any(|c| options.given.has(c));
    if is_asked || item.around.iter().any(|around| around.role != Role::Wrapper) {
        return false;
    }
    let own = &item.opened;
    let extension = item.host.extension().and_then(|e| e.to_str()).unwrap_or_default();
    let has_its_name = extension.eq_ignore_ascii_case(target.extension);
    if let Some(rom) = &own.holds.rom {
        // A format has several forms, one of which may be called as it is.
        return rom.form == target.id;
    }
    let is_wrapped = has_its_name && item.around.iter().any(|around| around.role == Role::Wrapper);
    let is_plain = has_its_name && item.around.is_empty() && own.identity.role.is_image() && own.protection.is_none();
    let is_its_format = std::iter::once(&own.identity).chain(&item.around).any(|i| i.format == target.id);
    is_its_format || is_wrapped || is_plain && own.holds.tracks.is_empty() && target.id == "iso"
}
