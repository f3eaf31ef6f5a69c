//! What a plan says is done, step by step. A journal beside the plan says what was done, so that a run that was killed is
//! completed by the next, and all of it can be taken back.

use super::steps::{Step, lay, read};
use crate::cellar::history::at;
use crate::cellar::scan::stamp;
use crate::cellar::{Unread, broke, open};
use crate::{Failure, Setting};
use decanter_cellar::database::together;
use decanter_cellar::{Cellar, Place, matching};
use decanter_core::pour::{self, Journal};
use decanter_core::{Error, native, os, watch};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
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
    /// Files that stay as they are, and why.
    pub stays: Vec<Unread>,
    /// Folders that nothing was left in.
    pub folders_removed: usize,
    /// Whether a run that was stopped before was completed.
    pub is_completed: bool,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// What the journal says.
#[derive(Default)]
struct Done {
    /// The steps, in their order.
    steps: Vec<Step>,
    /// Folders as they were before.
    folders: BTreeMap<PathBuf, (i64, Option<u32>)>,
    /// Folders that were made.
    made: BTreeSet<PathBuf>,
    stays: Vec<Unread>,
    is_begun: bool,
    is_over: bool,
    is_undoing: bool,
}

fn journal_of(plan: &Path) -> PathBuf {
    let mut name = plan.as_os_str().to_owned();
    name.push(".journal");
    name.into()
}

impl Done {
    /// Reads the lines of a journal: JSON, one object a line.
    fn of(lines: &[String]) -> decanter_core::Result<Self> {
        let mut done = Self::default();
        for (number, line) in (1..).zip(lines) {
            let wrong = || Error::Unreadable { why: format!("line {number} of the journal makes no sense") };
            let value: serde_json::Value = serde_json::from_str(line).map_err(|_| wrong())?;
            let text = |name: &str| value.get(name).and_then(|v| v.as_str()).map(str::to_owned).ok_or_else(wrong);
            match value.get("what").and_then(|v| v.as_str()) {
                Some("step") => {
                    done.steps.push(Step { from: native::path(&text("from")?), to: native::path(&text("to")?) });
                }
                Some("folder") => {
                    let modified = value.get("modified").and_then(serde_json::Value::as_i64).ok_or_else(wrong)?;
                    let mode = value.get("mode").and_then(serde_json::Value::as_u64).and_then(|m| m.try_into().ok());
                    done.folders.insert(native::path(&text("path")?), (modified, mode));
                }
                Some("make") => {
                    done.made.insert(native::path(&text("path")?));
                }
                Some("stays") => done.stays.push(Unread { path: text("path")?, why: text("why")? }),
                Some("begin") => done.is_begun = true,
                Some("applied") => done.is_over = true,
                Some("undo") => done.is_undoing = true,
                _ => return Err(wrong()),
            }
        }
        Ok(done)
    }

    fn lines(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let text = |path: &Path| native::text(path);
        for (path, (modified, mode)) in &self.folders {
            let row = serde_json::json!({ "what": "folder", "path": text(path), "modified": modified, "mode": mode });
            lines.push(row.to_string());
        }
        lines.extend(self.made.iter().map(|p| serde_json::json!({ "what": "make", "path": text(p) }).to_string()));
        for step in &self.steps {
            let row = serde_json::json!({ "what": "step", "from": text(&step.from), "to": text(&step.to) });
            lines.push(row.to_string());
        }
        let row = |s: &Unread| serde_json::json!({ "what": "stays", "path": s.path, "why": s.why }).to_string();
        lines.extend(self.stays.iter().map(row));
        // Without this line nothing was begun: the steps may not all be here.
        lines.push(serde_json::json!({ "what": "begin" }).to_string());
        lines
    }
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
    let moves = read(plan, setting)?;
    if setting.dry_run {
        let (steps, stays) = lay(plan, &moves, &roots(&mut cellar)?)?;
        let stays = stays.into_iter().map(|s| Unread { path: s.path, why: s.why }).collect();
        return Ok(report(plan, steps.len(), stays, 0, was_begun, true));
    }
    // What is wrong with a plan is told before there is a journal.
    if !was_begun {
        lay(plan, &moves, &roots(&mut cellar)?)?;
    }
    let (mut journal, lines) = Journal::open(&path).map_err(fail)?;
    let mut done =
        Done::of(&lines).map_err(|e| fail(e).hint("the journal stands beside the plan; look into it by hand"))?;
    if done.is_undoing || done.is_over {
        let why = if done.is_over { "it was applied already" } else { "it is being taken back" };
        return Err(Failure::usage(what, why).hint("take it back with --undo, or make a new plan"));
    }
    if !done.is_begun {
        let (steps, stays) = lay(plan, &moves, &roots(&mut cellar)?)?;
        let stays = stays.into_iter().map(|s| Unread { path: s.path, why: s.why }).collect();
        done = Done { steps, stays, is_begun: true, ..Done::default() };
        surroundings(&mut done, &moves.iter().map(|(_, m)| native::path(&m.place)).collect());
        // Lines of a run that was killed before it began are none.
        journal.end().map_err(fail)?;
        (journal, _) = Journal::open(&path).map_err(fail)?;
        journal.write(&done.lines()).map_err(fail)?;
    }
    setting.watch.begin(&format!("moving {} files", crate::grouped(done.steps.len() as u64)), None);
    let hint = "the same command goes on from here; --undo takes back what was done";
    for step in &done.steps {
        watch::check(setting.watch).map_err(|e| fail(e).hint(hint))?;
        take(&step.from, &step.to, setting).map_err(|e| fail(e).hint(hint))?;
    }
    let mut removed = 0;
    for folder in done.folders.keys().rev() {
        let is_root = moves.iter().any(|(_, m)| native::path(&m.place) == *folder);
        let left_by_us = done.steps.iter().any(|step| step.from.starts_with(folder));
        if !is_root && left_by_us && folder.is_dir() && is_empty(folder) {
            removed += usize::from(pour::remove_empty_folder(folder).map_err(fail)?);
        }
    }
    setting.watch.end();
    note(&mut cellar, done.steps.iter().map(|s| (s.from.clone(), s.to.clone())).collect())?;
    journal.write(&[serde_json::json!({ "what": "applied" }).to_string()]).map_err(fail)?;
    let files = done.steps.iter().filter(|s| !is_between(&s.to)).count();
    Ok(report(plan, files, done.stays, removed, was_begun, false))
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
        return Ok(report(plan, done.steps.len(), Vec::new(), 0, done.is_undoing, true));
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
    for folder in done.made.iter().rev() {
        if folder.is_dir() && is_empty(folder) {
            pour::remove_empty_folder(folder).map_err(fail)?;
        }
    }
    for (folder, (modified, mode)) in done.folders.iter().rev() {
        pour::set_folder(folder, *modified, *mode).map_err(fail)?;
    }
    setting.watch.end();
    note(&mut cellar, back.clone())?;
    let files = back.iter().filter(|(_, to)| !is_between(to)).count();
    if stays.is_empty() {
        journal.end().map_err(fail)?;
    }
    Ok(report(plan, files, stays, 0, was_begun, false))
}

fn report(
    plan: &Path,
    moved: usize,
    stays: Vec<Unread>,
    folders_removed: usize,
    is_completed: bool,
    dry_run: bool,
) -> ApplyReport {
    let plan = native::text(plan);
    ApplyReport { schema: "decanter.cellar-tidy/1", plan, moved, stays, folders_removed, is_completed, dry_run }
}

fn roots(cellar: &mut Cellar) -> Result<Vec<String>, Failure> {
    let places = Place::all(cellar.db.as_mut()).map_err(broke("cannot apply the plan"))?;
    Ok(places.into_iter().map(|place| place.root).collect())
}

fn is_between(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b".tidy-"))
}

fn is_empty(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_none())
}

/// Takes a step, unless it was taken.
fn take(from: &Path, to: &Path, setting: &Setting<'_>) -> decanter_core::Result<()> {
    let is_there = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    match (is_there(from), is_there(to)) {
        (false, true) => Ok(()),
        // A copy onto another file system that was stopped before the original was removed.
        (true, true) if is_copy(from, to)? => pour::remove(from),
        _ => {
            pour::relocate(from, to, setting.watch)?;
            setting.watch.item(&native::text(to));
            Ok(())
        }
    }
}

/// Whether both have the same bytes, and are two files on two file systems.
fn is_copy(one: &Path, other: &Path) -> decanter_core::Result<bool> {
    let ids = |path: &Path| std::fs::symlink_metadata(path).ok().map(|meta| (stamp(&meta).device, meta.len()));
    let (Some(a), Some(b)) = (ids(one), ids(other)) else { return Ok(false) };
    if a.0 == b.0 || a.1 != b.1 {
        return Ok(false);
    }
    let digest = |path: &Path| {
        let source: decanter_core::SourceRef = std::sync::Arc::new(decanter_core::source::FileSource::own(path)?);
        decanter_core::digest::of_source(&source, &[decanter_core::Algorithm::Sha256], &())
    };
    Ok(digest(one)? == digest(other)?)
}

/// Notes how the folders are that the steps touch, and which will be made.
fn surroundings(done: &mut Done, roots: &BTreeSet<PathBuf>) {
    let folders = done.steps.iter().flat_map(|step| [&step.from, &step.to]).flat_map(|path| {
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

fn below(place: &Place, path: &str) -> String {
    path.strip_prefix(place.root.as_str()).unwrap_or(path).trim_start_matches('/').to_owned()
}
