//! What a plan says is done, step by step. A journal beside the plan says what was done, so that a run that was killed is
//! completed by the next, and all of it can be taken back.

use super::groups;
use super::journal::{Done, journal_of};
use super::repack::Group;
use super::step::{Step, below, is_between, take};
use super::steps::{lay, read};
use crate::cellar::history::at;
use crate::cellar::scan::stamp;
use crate::cellar::{Unread, broke, open};
use crate::{Failure, Setting};
use decanter_cellar::database::together;
use decanter_cellar::{Cellar, Place, matching};
use decanter_core::pour::{self, Journal};
use decanter_core::{Error, native, os, watch};
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// What came of it.
#[derive(Debug, Serialize)]
pub struct ApplyReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The plan.
    pub plan: String,
    /// Files that got another name, or their old one again.
    pub moved: usize,
    /// Archives that were taken apart, or made: by their files, or of them.
    pub repacked: usize,
    /// Files that stay as they are, and why.
    pub stays: Vec<Unread>,
    /// Folders that nothing was left in.
    pub folders_removed: usize,
    /// Whether a run that was stopped before was completed.
    pub is_completed: bool,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Does what a plan says.
///
/// # Errors
/// When a line of it makes no sense, and then nothing is moved; when the user stops, or something cannot be moved: the same
/// command goes on from there.
pub fn apply(plan: &Path, setting: &Setting<'_>) -> Result<ApplyReport, Failure> {
    let what = format!("cannot apply the plan \"{}\"", native::text(plan));
    let fail = |e| Failure::new(what.clone(), e);
    let mut cellar = open("use", setting)?;
    let path = journal_of(plan);
    let was_begun = path.symlink_metadata().is_ok();
    let lines = read(plan, setting)?;
    if setting.dry_run {
        let done = Done::laid(lay(plan, &lines, &roots(&mut cellar)?)?);
        let (moved, repacked) = (done.steps.len(), done.groups.len());
        return Ok(ApplyReport { moved, repacked, stays: done.stays, ..report(plan, was_begun, true) });
    }
    // What is wrong with a plan is told before there is a journal.
    if !was_begun {
        lay(plan, &lines, &roots(&mut cellar)?)?;
    }
    let (mut journal, written) = Journal::open(&path).map_err(fail)?;
    let mut done =
        Done::of(&written).map_err(|e| fail(e).hint("the journal stands beside the plan; look into it by hand"))?;
    if done.is_undoing || done.is_over {
        let why = if done.is_over { "it was applied already" } else { "it is being taken back" };
        return Err(Failure::usage(what, why).hint("take it back with --undo, or make a new plan"));
    }
    if !done.is_begun {
        done = Done::laid(lay(plan, &lines, &roots(&mut cellar)?)?);
        surroundings(&mut done, &lines.places());
        // Lines of a run that was killed before it began are none.
        journal.end().map_err(fail)?;
        (journal, _) = Journal::open(&path).map_err(fail)?;
        journal.write(&done.lines()).map_err(fail)?;
    }
    let hint = "the same command goes on from here; --undo takes back what was done";
    let built = groups::repack(&mut done, journal, setting);
    journal = built.map_err(|e| fail(e).hint(hint))?;
    let asides: Vec<Step> = done.built().flat_map(Group::steps).collect();
    setting.watch.begin(&format!("moving {} files", crate::grouped(done.steps.len() as u64)), None);
    for step in asides.iter().chain(&done.steps) {
        watch::check(setting.watch).map_err(|e| fail(e).hint(hint))?;
        take(&step.from, &step.to, setting).map_err(|e| fail(e).hint(hint))?;
    }
    let mut removed = 0;
    let places = lines.places();
    for folder in done.folders.keys().rev() {
        let is_root = places.contains(folder);
        let left_by_us = asides.iter().chain(&done.steps).any(|step| step.from.starts_with(folder));
        if !is_root && left_by_us && folder.is_dir() && is_empty(folder) {
            removed += usize::from(pour::remove_empty_folder(folder).map_err(fail)?);
        }
    }
    setting.watch.end();
    groups::note(&mut cellar, &done, true, setting)?;
    note(&mut cellar, done.steps.iter().map(|s| (s.from.clone(), s.to.clone())).collect())?;
    journal.write(&[serde_json::json!({ "what": "applied" }).to_string()]).map_err(fail)?;
    let moved = done.steps.iter().filter(|s| !is_between(&s.to)).count();
    let (repacked, stays) = (done.built().count(), done.stays);
    Ok(ApplyReport { moved, repacked, stays, folders_removed: removed, ..report(plan, was_begun, false) })
}

/// Takes back what was done by a plan.
///
/// # Errors
/// When there is nothing to take back, or something cannot be moved: the same command goes on from there.
pub fn undo(plan: &Path, setting: &Setting<'_>) -> Result<ApplyReport, Failure> {
    let what = format!("cannot take back the plan \"{}\"", native::text(plan));
    let fail = |e| Failure::new(what.clone(), e);
    let mut cellar = open("use", setting)?;
    let path = journal_of(plan);
    if path.symlink_metadata().is_err() {
        return Err(Failure::usage(what, "nothing was done by it: there is no journal beside it")
            .hint("apply it first: decanter cellar tidy --apply PLAN"));
    }
    let (mut journal, lines) = Journal::open(&path).map_err(fail)?;
    let done =
        Done::of(&lines).map_err(|e| fail(e).hint("the journal stands beside the plan; look into it by hand"))?;
    if setting.dry_run {
        let (moved, repacked) = (done.steps.len(), done.built().count());
        return Ok(ApplyReport { moved, repacked, ..report(plan, done.is_undoing, true) });
    }
    let was_begun = done.is_undoing;
    if done.is_begun && !was_begun {
        journal.write(&[serde_json::json!({ "what": "undo" }).to_string()]).map_err(fail)?;
    }
    let hint = "the same command goes on from here";
    let mut stays = Vec::new();
    let mut back = Vec::new();
    setting.watch.begin(&format!("moving {} files back", crate::grouped(done.steps.len() as u64)), None);
    for step in done.steps.iter().rev() {
        watch::check(setting.watch).map_err(|e| fail(e).hint(hint))?;
        match take(&step.to, &step.from, setting) {
            Ok(()) => back.push((step.to.clone(), step.from.clone())),
            // Something else has its old name by now: that is not touched.
            Err(e @ (Error::Exists { .. } | Error::Io { .. })) => {
                stays.push(Unread { path: native::text(&step.to), why: e.to_string() });
            }
            Err(e) => return Err(fail(e).hint(hint)),
        }
    }
    for folder in done.folders.keys() {
        pour::make_folder(folder).map_err(fail)?;
    }
    groups::take_back(&done, &mut stays, setting).map_err(|e| fail(e).hint(hint))?;
    for folder in done.made.iter().rev() {
        if folder.is_dir() && is_empty(folder) {
            pour::remove_empty_folder(folder).map_err(fail)?;
        }
    }
    for (folder, (modified, mode)) in done.folders.iter().rev() {
        pour::set_folder(folder, *modified, *mode).map_err(fail)?;
    }
    setting.watch.end();
    // The last one holds everything against the sets.
    groups::note(&mut cellar, &done, false, setting)?;
    note(&mut cellar, back.clone())?;
    let moved = back.iter().filter(|(_, to)| !is_between(to)).count();
    if stays.is_empty() {
        journal.end().map_err(fail)?;
    }
    Ok(ApplyReport { moved, repacked: done.built().count(), stays, ..report(plan, was_begun, false) })
}

/// A report in which nothing has happened yet.
fn report(plan: &Path, is_completed: bool, dry_run: bool) -> ApplyReport {
    ApplyReport {
        schema: "decanter.cellar-tidy/1",
        plan: native::text(plan),
        moved: 0,
        repacked: 0,
        stays: Vec::new(),
        folders_removed: 0,
        is_completed,
        dry_run,
    }
}

fn roots(cellar: &mut Cellar) -> Result<Vec<String>, Failure> {
    let places = Place::all(cellar.db.as_mut()).map_err(broke("cannot apply the plan"))?;
    Ok(places.into_iter().map(|place| place.root).collect())
}

fn is_empty(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_none())
}

/// Notes how the folders are that the steps touch, and which will be made.
fn surroundings(done: &mut Done, roots: &BTreeSet<PathBuf>) {
    let steps = done.steps.iter().flat_map(|step| [step.from.clone(), step.to.clone()]);
    let paths: Vec<PathBuf> = steps.chain(done.groups.iter().flat_map(Group::paths)).collect();
    let folders = paths.iter().flat_map(|path| {
        let root = roots.iter().filter(|root| path.starts_with(root)).max_by_key(|root| root.as_os_str().len());
        path.ancestors().skip(1).take_while(move |a| root.is_some_and(|root| a.starts_with(root)))
    });
    for folder in folders {
        match std::fs::symlink_metadata(folder) {
            Ok(meta) => {
                done.folders.insert(folder.to_owned(), (stamp(&meta).modified, os::mode(&meta)));
            }
            Err(_) => {
                done.made.insert(folder.to_owned());
            }
        }
    }
}

/// The catalogue knows the files under their new names, too: a scan would find that out by itself.
fn note(cellar: &mut Cellar, moves: Vec<(PathBuf, PathBuf)>) -> Result<(), Failure> {
    let fail = broke("the files are moved, but the catalogue does not know it yet (a scan will find them)");
    let db = cellar.db.as_mut();
    let places = Place::all(db).map_err(&fail)?;
    together(db, |db| {
        for (from, to) in moves {
            let (from, to) = (native::text(&from), native::text(&to));
            let Some(row) = at(db, &from)? else { continue };
            let Some(place) = places.iter().find(|place| place.id == row.place) else { continue };
            let Ok(meta) = std::fs::symlink_metadata(native::path(&to)) else {
                // On its way to another name.
                if is_between(&native::path(&to)) {
                    let below = below(place, &to);
                    row.move_to(db, &from, place.id, &below, &row.stamp)?;
                }
                continue;
            };
            row.move_to(db, &from, place.id, &below(place, &to), &stamp(&meta))?;
        }
        Ok(())
    })
    .map_err(&fail)?;
    matching::pending(db, &mut |_| Ok(())).map_err(&fail)?;
    Ok(())
}
