//! What is done with each piece. Its result is written in one transaction with its end: a worker that dies before has written
//! nothing of it.

use super::WorkReport;
use crate::Setting;
use crate::cellar::check::look;
use crate::cellar::scan::crew::{Crew, run_of};
use crate::cellar::scan::look::Looker;
use crate::cellar::scan::walk::{Looked, Todo, Walked, look_into};
use crate::cellar::scan::{Area, DIGESTS, ScanReport};
use decanter_cellar::database::together;
use decanter_cellar::files::FileRow;
use decanter_cellar::queue::{self, Kind, Piece};
use decanter_cellar::{Database, Location, Place, dats, matching};
use decanter_core::{Error, Keyring, Result, watch};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

/// Files of a piece, at most.
const FILES: usize = 200;
/// Their bytes: a piece ends with the file that goes beyond.
const BYTES: u64 = 1 << 30;

/// A folder that is looked into.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Folder {
    /// Below the place; empty for the place itself.
    pub(super) below: String,
    /// Whether every file is read.
    pub(super) is_deep: bool,
    /// Whether all of the place is looked through.
    pub(super) is_whole: bool,
}

/// Files that are read.
#[derive(Debug, Serialize, Deserialize)]
struct ReadFiles {
    /// Below the place; whether it was known and as it is now; its length.
    files: Vec<(String, bool, u64)>,
    is_deep: bool,
    is_whole: bool,
}

/// Files that are checked.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct CheckFiles {
    /// Their numbers.
    pub(super) ids: Vec<i64>,
}

/// The end of a run.
#[derive(Debug, Serialize, Deserialize)]
struct End {
    /// Whether all of a place was looked through.
    is_whole: bool,
}

impl Folder {
    pub(super) fn as_text(&self) -> String {
        text(self)
    }
}

impl CheckFiles {
    pub(super) fn as_text(&self) -> String {
        text(self)
    }
}

fn text(what: &impl Serialize) -> String {
    // Numbers and texts can always be written.
    serde_json::to_string(what).unwrap_or_default()
}

fn parsed<'a, T: Deserialize<'a>>(piece: &'a Piece) -> Result<T> {
    serde_json::from_str(&piece.what).map_err(|e| Error::Unreadable {
        why: format!("piece {} of the queue is none that this program knows: {e}", piece.id),
    })
}

/// Who does the work.
pub(super) struct Worker<'a> {
    pub(super) name: &'a str,
    pub(super) location: &'a Location,
    pub(super) keys: &'a Keyring,
    pub(super) shared: &'a Mutex<WorkReport>,
    pub(super) setting: &'a Setting<'a>,
}

impl Worker<'_> {
    /// Changes what is told at the end.
    pub(super) fn shared(&self, change: impl FnOnce(&mut WorkReport)) {
        change(&mut self.shared.lock().unwrap_or_else(PoisonError::into_inner));
    }

    /// Does a piece.
    pub(super) fn piece(&self, piece: &Piece, db: &mut dyn Database) -> Result<()> {
        let places = Place::all(db)?;
        let Some(place) = places.iter().find(|place| place.id == piece.place) else {
            return self.once(piece, db, &text(&End { is_whole: false }), |_| Ok(()), |_, ()| {});
        };
        match piece.kind {
            Kind::Folder => self.folder(piece, place, &places, db),
            Kind::Read => self.read(piece, place, db),
            Kind::Check => self.check(piece, place, db),
            Kind::End => self.end(piece, place, db),
        }
    }

    /// Writes what came of a piece, unless another worker has it by now; and tells it.
    fn once<T>(
        &self,
        piece: &Piece,
        db: &mut dyn Database,
        end: &str,
        write: impl FnOnce(&mut dyn Database) -> Result<T>,
        tell: impl FnOnce(&mut WorkReport, T),
    ) -> Result<()> {
        let done = queue::once(db, piece, self.name, end, write)?;
        self.shared(|report| match done {
            Some(done) => {
                report.pieces += 1;
                tell(report, done);
            }
            None => report.lost += 1,
        });
        Ok(())
    }

    /// A folder: what is in it becomes pieces, and what is not in it any more is gone.
    fn folder(&self, piece: &Piece, place: &Place, places: &[Place], db: &mut dyn Database) -> Result<()> {
        let folder: Folder = parsed(piece)?;
        let area = Area { place: place.clone(), below: folder.below.clone() };
        let roots: Vec<String> = places.iter().map(|place| place.root.clone()).collect();
        let looked = look_into(&area, &roots, folder.is_deep, db, self.setting)?;
        let gone = if looked.walked.closed.is_empty() { self.gone(&area, &looked, db)? } else { Vec::new() };
        let Looked { walked, folders, .. } = looked;
        let parts: Vec<String> = in_pieces(walked.todo)
            .map(|files| text(&ReadFiles { files, is_deep: folder.is_deep, is_whole: folder.is_whole }))
            .collect();
        let write = |db: &mut dyn Database| {
            for below in folders {
                let inner = Folder { below, ..folder };
                queue::add(db, piece.run, Kind::Folder, place.id, &inner.as_text())?;
            }
            parts.iter().try_for_each(|what| queue::add(db, piece.run, Kind::Read, place.id, what))?;
            gone.iter().try_for_each(|id| FileRow::set_gone(db, *id))
        };
        let end = text(&End { is_whole: folder.is_whole });
        self.once(piece, db, &end, write, |report, ()| {
            report.folders += 1;
            report.gone += gone.len() as u64;
            report.unread.extend(walked.unread);
        })
    }

    /// Files that were in a folder, or in a folder of it that is not there any more.
    fn gone(&self, area: &Area, looked: &Looked, db: &mut dyn Database) -> Result<Vec<i64>> {
        let seen: HashSet<i64> = looked.ids.iter().copied().collect();
        let folders: HashSet<&str> = looked.folders.iter().map(String::as_str).collect();
        let mut gone = Vec::new();
        FileRow::each_below(db, area.place.id, &area.below, &mut |id, path| {
            let from = if area.below.is_empty() { 0 } else { area.below.len() + 1 };
            // What lies deeper is the business of the piece for that folder.
            let inner = path[from..].find('/').map(|at| &path[..from + at]).filter(|_| !area.place.is_far());
            let is_there = match inner {
                Some(folder) => folders.contains(folder),
                None => seen.contains(&id),
            };
            if !is_there {
                gone.push(id);
            }
            Ok(())
        })?;
        Ok(gone)
    }

    /// Files: what they are, and what is in them.
    fn read(&self, piece: &Piece, place: &Place, db: &mut dyn Database) -> Result<()> {
        let files: ReadFiles = parsed(piece)?;
        let areas = [Area { place: place.clone(), below: String::new() }];
        let mut digests = DIGESTS.to_vec();
        digests.extend(dats::more_digests(db)?);
        let crew = Crew {
            areas: &areas,
            location: self.location,
            digests: &digests,
            is_deep: files.is_deep,
            setting: self.setting,
        };
        let looker = Looker { digests: &digests, keys: self.keys, setting: self.setting };
        let todo = |(name, is_known, size): (String, bool, u64)| Todo {
            area: 0,
            folder: "".into(),
            name: name.into(),
            size,
            is_known,
        };
        let todos: Vec<Todo> = files.files.into_iter().map(todo).collect();
        let (count, bytes) = (todos.len() as u64, todos.iter().map(|todo| todo.size).sum::<u64>());
        let (mut met, mut rest) = (Vec::new(), &todos[..]);
        while !rest.is_empty() {
            watch::check(self.setting.watch)?;
            let (some, after) = rest.split_at(run_of(rest));
            met.extend(crew.several(some, false, &looker, db)?);
            rest = after;
        }
        let write = |db: &mut dyn Database| {
            let (mut walked, mut told) = (Walked::default(), ScanReport::default());
            met.into_iter().try_for_each(|met| crew.keep(db, met, &mut walked, &mut told))?;
            Ok(told)
        };
        self.once(piece, db, &text(&End { is_whole: files.is_whole }), write, |report, told| {
            report.files += count;
            report.bytes += bytes;
            report.new += told.new;
            report.changed += told.changed;
            report.moved += told.moved;
            report.rotten.extend(told.rotten);
            report.unread.extend(told.unread);
        })
    }

    /// Files that are read again.
    fn check(&self, piece: &Piece, place: &Place, db: &mut dyn Database) -> Result<()> {
        let files: CheckFiles = parsed(piece)?;
        let mut outcomes = Vec::new();
        for id in files.ids {
            watch::check(self.setting.watch)?;
            let Some(row) = FileRow::get(db, id)?.filter(|row| row.gone.is_none() && row.place == place.id) else {
                continue;
            };
            let path = place.path(&row.path);
            self.setting.watch.item(&path);
            let outcome = look(&row, &path, self.setting)?;
            outcomes.push((row, path, outcome));
        }
        let mut is_kept = false;
        let write = |db: &mut dyn Database| outcomes.iter().try_for_each(|(row, _, outcome)| outcome.keep(row, db));
        self.once(piece, db, &text(&End { is_whole: false }), write, |_, ()| is_kept = true)?;
        // Looking for good copies reads: nobody waits for that.
        for (row, path, outcome) in outcomes.into_iter().filter(|_| is_kept) {
            let told = outcome.told(&row, path, db, self.setting)?;
            self.shared(|report| report.tally().take(told));
        }
        Ok(())
    }

    /// Everything is read: what is new is held against the sets.
    fn end(&self, piece: &Piece, place: &Place, db: &mut dyn Database) -> Result<()> {
        let end: End = parsed(piece)?;
        let matched = matching::pending(db, &mut |_| watch::check(self.setting.watch))?;
        together(db, matching::recount)?;
        let write = |db: &mut dyn Database| if end.is_whole { place.end(db) } else { Ok(()) };
        self.once(piece, db, "", write, |report, ()| report.matched += matched)
    }
}

/// Files by the piece.
fn in_pieces(todo: Vec<Todo>) -> impl Iterator<Item = Vec<(String, bool, u64)>> {
    let mut todo = todo.into_iter().peekable();
    std::iter::from_fn(move || {
        todo.peek()?;
        let (mut files, mut bytes) = (Vec::new(), 0);
        while files.len() < FILES && bytes < BYTES {
            let Some(one) = todo.next() else { break };
            bytes += one.size;
            files.push((format!("{}{}", one.folder, one.name), one.is_known, one.size));
        }
        Some(files)
    })
}
