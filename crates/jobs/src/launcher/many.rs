//! Start entries for everything in a folder.

use super::one::{LauncherReport, Options, launcher};
use crate::launch::Starter;
use crate::locate::{self, INSIDE};
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn, Work};
use crate::{Answer, Failure, Setting};
use decanter_core::native;
use decanter_core::role::Role;
use std::collections::BTreeMap;
use std::path::Path;

/// Finds out whether one thing is started or many.
///
/// # Errors
/// When there is nothing to do, or the user stops it.
pub fn sort_out(sources: &[String], setting: &Setting<'_>) -> Result<Work, Failure> {
    let takes: fn(Role) -> bool =
        |role| role.is_image() || matches!(role, Role::Rom | Role::Package | Role::Program | Role::Wrapper);
    let taste = Taste { keeps_archives: true, ..Taste::of(takes) };
    let how = How::default();
    if let [one] = sources
        && !setting.is_folder(one)
    {
        return Ok(Work::One(one.clone()));
    }
    let search = Search::of(sources, &taste, how.is_listed, setting)
        .map_err(|e| Failure::new("cannot make start entries", e))?;
    match search.found.is_empty() && search.failed.is_empty() {
        true => Err(shelf::nothing_found(sources, "could be started", &search)),
        false => Ok(Work::Many(search)),
    }
}

/// Writes an entry for each into the folder `output`.
///
/// # Errors
/// When no folder is given. What fails is a row.
pub fn launcher_each<E>(
    mut search: Search,
    output: &Path,
    options: &Options,
    known: &BTreeMap<String, Starter>,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<LauncherReport>) -> Result<(), E>,
) -> Result<Result<ShelfReport<LauncherReport>, E>, Failure> {
    let output = shelf::folder(Some(output), "start", &search)?;
    let mut report = ShelfReport::new("decanter.launcher-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, turn: &Turn<'_>| {
        let host = found.address.trim_end_matches(INSIDE);
        if host.contains(INSIDE) {
            return Ok(Outcome::PassedOver("it is in an archive with several".into()));
        }
        let stem = decanter_core::names::stem_of(decanter_core::store::name_of(host));
        let best = shelf::place(output, found).join(native::os(&format!("{stem}.desktop")));
        // Two of one name differ by what is behind it.
        let extension = host.rsplit_once('.').map(|(_, e)| e.to_owned()).unwrap_or_default();
        let entry = turn.claim(shelf::apart(best, &extension))?;
        let item = locate::open(host, "look at", setting);
        if item.is_err() && !found.is_named {
            return Ok(Outcome::PassedOver("it is nothing that is known here".into()));
        }
        let report = launcher(&native::path(host), &entry, options, known, setting)?;
        Ok(Outcome::Done(Done { report, answer: Answer::Yes, before: 0, after: 0 }))
    };
    Ok(shelf::run(&search.found, "making start entries", setting, &one, &mut report, tell).map(|()| report))
}
