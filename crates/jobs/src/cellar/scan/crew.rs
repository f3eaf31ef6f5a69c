//! Files are read on all cores; one thread writes what was found into the catalogue, many files in a transaction, so that a
//! scan that is stopped or killed has lost no more than the last moment.

use super::look::{Looker, SHORT};
use super::walk::{Todo, Walked};
use super::{Area, ScanReport, Unread, stamp_at};
use crate::Setting;
use crossbeam_channel::{Receiver, RecvTimeoutError, bounded};
use decanter_cellar::files::{self, Content, FileRow, Found, Kept, Stamp, Trouble};
use decanter_cellar::{Cellar, Database, Location};
use decanter_core::digest::Algorithm;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result, watch};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// What is written in one transaction, at most.
const MOST_TOGETHER: usize = 4000;
/// How long others wait for the catalogue, at most.
const TRANSACTION: Duration = Duration::from_millis(400);

/// What came of a file.
pub(in crate::cellar) enum Met {
    /// It was read.
    Read { area: u32, path: String, stamp: Stamp, found: Box<Found> },
    /// It is the file of a row under another name. The name that it had is gone, or not.
    Renamed { area: u32, path: String, stamp: Stamp, row: Box<FileRow>, is_gone: bool },
    /// It was read to be sure, and is as it was, or not.
    Again { row: Box<FileRow>, is_same: bool },
    /// It was removed while the scan ran.
    Gone,
}

/// A file before it is read.
enum Ready {
    /// It need not be.
    Met(Box<Met>),
    ToRead {
        area: u32,
        path: String,
        below: String,
        stamp: Stamp,
    },
}

/// Files that are read together, at most.
const MOST_SHORT: usize = 64;

/// How many of the next files are read together: short ones, or one.
pub(in crate::cellar) fn run_of(todo: &[Todo]) -> usize {
    let is_short = |one: &&Todo| !one.is_known && one.size <= SHORT;
    let short = todo.iter().take(MOST_SHORT).take_while(is_short).count();
    short.max(todo.len().min(1))
}

/// All that read.
pub(in crate::cellar) struct Crew<'a> {
    pub(in crate::cellar) areas: &'a [Area],
    pub(in crate::cellar) location: &'a Location,
    pub(in crate::cellar) digests: &'a [Algorithm],
    pub(in crate::cellar) is_deep: bool,
    pub(in crate::cellar) setting: &'a Setting<'a>,
}

impl Crew<'_> {
    /// Reads everything that has to be read. Stopped in between, what was read is kept.
    pub(super) fn run(&self, walked: &mut Walked, report: &mut ScanReport) -> Result<()> {
        let todo = std::mem::take(&mut walked.todo);
        let next = Mutex::new(0);
        let (give, take) = bounded::<Met>(4096);
        let is_first = walked.is_first;
        let ring = self.setting.all_keys();
        std::thread::scope(|scope| {
            let work = |_| {
                let give = give.clone();
                let (todo, next, ring) = (&todo, &next, &ring);
                scope.spawn(move || -> Result<()> {
                    let mut reader = Cellar::open(self.location.clone())?;
                    let looker = Looker { digests: self.digests, keys: ring, setting: self.setting };
                    loop {
                        watch::check(self.setting.watch)?;
                        let some = {
                            let mut next = next.lock().unwrap_or_else(PoisonError::into_inner);
                            let rest: &[Todo] = &todo[*next..];
                            let some = &rest[..run_of(rest)];
                            *next += some.len();
                            some
                        };
                        if some.is_empty() {
                            return Ok(());
                        }
                        let met = self.several(some, is_first, &looker, reader.db.as_mut())?;
                        self.setting.watch.advance(some.iter().map(|one| one.size).sum());
                        if met.into_iter().any(|met| give.send(met).is_err()) {
                            return Ok(());
                        }
                    }
                })
            };
            let threads: Vec<_> = (0..self.setting.jobs.clamp(1, todo.len().max(1))).map(work).collect();
            drop(give);
            let written = self.write(&take, walked, report);
            // Whoever still reads has nobody to tell it to.
            drop(take);
            let lost = |_| Err(Error::Usage("a reading thread ended early".into()));
            let read: Result<Vec<()>> = threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect();
            written.and(read.map(|_| ()))
        })
    }

    /// What came of files that follow each other, as many as [`run_of`] says: the digests of short ones are worked out side
    /// by side.
    pub(in crate::cellar) fn several(
        &self,
        todos: &[Todo],
        is_first: bool,
        looker: &Looker<'_>,
        db: &mut dyn Database,
    ) -> Result<Vec<Met>> {
        let ready = todos.iter().map(|todo| self.before(todo, is_first, looker, db)).collect::<Result<Vec<_>>>()?;
        let short = ready.iter().map(|ready| match ready {
            Ready::ToRead { path, stamp, .. } if todos.len() > 1 => looker.short(path, stamp.size),
            _ => None,
        });
        let read = looker.side_by_side(short.collect());
        let met = ready.into_iter().zip(read).map(|(ready, read)| match ready {
            Ready::Met(met) => Ok(*met),
            Ready::ToRead { area, path, below, stamp } => self.read(area, &path, below, stamp, read, looker),
        });
        met.collect()
    }

    /// What is known of a file before it is read.
    fn before(&self, todo: &Todo, is_first: bool, looker: &Looker<'_>, db: &mut dyn Database) -> Result<Ready> {
        let met = |met| Ok(Ready::Met(Box::new(met)));
        let area = &self.areas[todo.area as usize];
        let below = format!("{}{}", todo.folder, todo.name);
        let path = area.place.path(&below);
        self.setting.watch.item(&path);
        if todo.is_known
            && let Some(row) = FileRow::at(db, area.place.id, &below)?
        {
            return met(self.again(row, &path, looker)?);
        }
        let stamp = match stamp_at(&path, self.setting) {
            Ok(Some(stamp)) => stamp,
            Ok(None) => return met(Met::Gone),
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // Reading it says why.
            Err(_) => Stamp::default(),
        };
        if !is_first && !self.is_deep {
            // The same file may be known under another name.
            let is_whole = |row: &FileRow| row.trouble.0 == Trouble::None && row.sums.strongest().is_some();
            let is_other = |row: &FileRow| (row.place, row.path.as_str()) != (area.place.id, &below);
            let rows = FileRow::with_stamp(db, &stamp)?;
            for row in rows.into_iter().filter(|row| is_whole(row) && is_other(row)) {
                let was = self.whole_path(db, &row)?;
                let is_gone = match stamp_at(&was, self.setting) {
                    Ok(Some(now)) if now == stamp => false,
                    Ok(None) => true,
                    // What is another one, or cannot be told, is not this one.
                    Ok(Some(_)) | Err(_) => continue,
                };
                return met(Met::Renamed { area: todo.area, path: below, stamp, row: Box::new(row), is_gone });
            }
        }
        Ok(Ready::ToRead { area: todo.area, path, below, stamp })
    }

    /// Looks at a file that may have been read already.
    fn read(
        &self,
        area: u32,
        path: &str,
        below: String,
        mut before: Stamp,
        mut read: Option<(SourceRef, Content)>,
        looker: &Looker<'_>,
    ) -> Result<Met> {
        for _ in 0..2 {
            let looked = match read.take() {
                Some(read) => looker.seen(path, read),
                None => looker.file(path),
            };
            let found = match looked {
                Ok(found) => found,
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) if is_gone(&e) => return Ok(Met::Gone),
                Err(e) => Found { trouble: Some((Trouble::Unreadable, e.to_string())), ..Found::default() },
            };
            let is_unread = matches!(found.trouble, Some((Trouble::Unreadable, _)));
            // A store of objects says by itself when one changes under the reader.
            let is_far = self.areas[area as usize].place.is_far();
            let after = match is_far {
                true => before.clone(),
                // What cannot be looked at any more is not what it was: reading it once more says why.
                false => stamp_at(path, self.setting).unwrap_or_default().unwrap_or_default(),
            };
            if is_unread || after == before {
                return Ok(Met::Read { area, path: below, stamp: before, found: Box::new(found) });
            }
            before = after;
        }
        let why = "it changes while it is read".to_owned();
        let found = Found { trouble: Some((Trouble::Unreadable, why)), ..Found::default() };
        Ok(Met::Read { area, path: below, stamp: before, found: Box::new(found) })
    }

    /// A file that should be as it was is read again.
    fn again(&self, row: FileRow, path: &str, looker: &Looker<'_>) -> Result<Met> {
        match looker.sums(path) {
            Ok(content) => {
                let is_same = content.size == row.stamp.size && files::agree(&row.sums, &content.sums);
                Ok(Met::Again { row: Box::new(row), is_same })
            }
            Err(Error::Cancelled) => Err(Error::Cancelled),
            Err(e) if is_gone(&e) => Ok(Met::Gone),
            Err(e) => {
                let area = self.areas.iter().position(|a| a.place.id == row.place).unwrap_or(0) as u32;
                let found = Found { trouble: Some((Trouble::Unreadable, e.to_string())), ..Found::default() };
                Ok(Met::Read { area, path: row.path, stamp: row.stamp, found: Box::new(found) })
            }
        }
    }

    fn whole_path(&self, db: &mut dyn Database, row: &FileRow) -> Result<String> {
        let own = self.areas.iter().find(|a| a.place.id == row.place).map(|a| a.place.path(&row.path));
        match own {
            Some(path) => Ok(path),
            None => {
                let places = decanter_cellar::Place::all(db)?;
                Ok(places.iter().find(|p| p.id == row.place).map_or_else(|| row.path.clone(), |p| p.path(&row.path)))
            }
        }
    }

    /// Writes what was met, until nobody reads any more.
    fn write(&self, take: &Receiver<Met>, walked: &mut Walked, report: &mut ScanReport) -> Result<()> {
        let mut cellar = Cellar::open(self.location.clone())?;
        let db = cellar.db.as_mut();
        let mut is_over = false;
        while !is_over {
            let Ok(first) = take.recv() else { break };
            db.begin()?;
            let began = Instant::now();
            let write = || -> Result<bool> {
                self.keep(db, first, walked, report)?;
                for _ in 1..MOST_TOGETHER {
                    let Some(left) = TRANSACTION.checked_sub(began.elapsed()) else { break };
                    match take.recv_timeout(left) {
                        Ok(met) => self.keep(db, met, walked, report)?,
                        Err(RecvTimeoutError::Timeout) => break,
                        Err(RecvTimeoutError::Disconnected) => return Ok(true),
                    }
                }
                Ok(false)
            };
            match write() {
                Ok(over) => {
                    is_over = over;
                    db.commit()?;
                }
                Err(e) => {
                    // The first error says why.
                    let _ = db.undo();
                    return Err(e);
                }
            }
        }
        Ok(())
    }

    /// Keeps what came of a file.
    pub(in crate::cellar) fn keep(
        &self,
        db: &mut dyn Database,
        met: Met,
        walked: &mut Walked,
        report: &mut ScanReport,
    ) -> Result<()> {
        let place = |area: u32| &self.areas[area as usize].place;
        match met {
            Met::Read { area, path, stamp, mut found } => {
                let place = place(area);
                for part in &mut found.parts {
                    let below = part.strip_prefix(&place.root).map(|rest| rest.trim_start_matches('/').to_owned());
                    *part = below.unwrap_or_else(|| part.clone());
                }
                report.bytes_read += found.content.size;
                if let Some((Trouble::Unreadable, why)) = &found.trouble {
                    report.unread.push(Unread { path: place.path(&path), why: why.clone() });
                    // What was known of its bytes may still be true.
                    if let Some(row) = FileRow::at(db, place.id, &path)?.filter(|row| row.sums.strongest().is_some()) {
                        walked.seen.add(row.id);
                        return row.set_trouble(db, Trouble::Unreadable, Some(why));
                    }
                }
                let (id, kept) = files::keep(db, place.id, &path, &stamp, &found)?;
                walked.seen.add(id);
                *match kept {
                    Kept::New => &mut report.new,
                    Kept::Changed => &mut report.changed,
                    Kept::Same => &mut report.unchanged,
                } += 1;
            }
            Met::Renamed { area, path, stamp, row, is_gone } => {
                let place = place(area);
                let now = FileRow::get(db, row.id)?;
                // Another name may have taken it in between.
                let is_there = now.is_some_and(|now| (now.place, &now.path) == (row.place, &row.path));
                if is_gone && is_there {
                    let was = self.whole_path(db, &row)?;
                    row.move_to(db, &was, place.id, &path, &stamp)?;
                    walked.seen.add(row.id);
                    report.moved += 1;
                } else {
                    let id = files::keep_link(db, &row, place.id, &path, &stamp)?;
                    walked.seen.add(id);
                    report.new += 1;
                }
            }
            Met::Again { row, is_same } => {
                walked.seen.add(row.id);
                report.bytes_read += row.stamp.size;
                if is_same {
                    report.unchanged += 1;
                    return row.set_checked(db);
                }
                report.rotten.push(place_path(self.areas, &row));
                row.set_trouble(db, Trouble::Rot, Some(super::super::ROT))?;
            }
            Met::Gone => {}
        }
        Ok(())
    }
}

fn place_path(areas: &[Area], row: &FileRow) -> String {
    let area = areas.iter().find(|a| a.place.id == row.place);
    area.map_or_else(|| row.path.clone(), |area| area.place.path(&row.path))
}

fn is_gone(error: &Error) -> bool {
    matches!(error, Error::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound)
}
