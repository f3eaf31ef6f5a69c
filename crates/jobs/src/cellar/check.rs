//! Fixity: files are read again, those first that were not for longest, and held against the digests that they had.

use super::places::is_mounted;
use super::{ROT, Unread, broke, open};
use crate::{Failure, Setting, locate};
use decanter_cellar::database::together;
use decanter_cellar::files::{FileRow, Trouble, agree};
use decanter_cellar::{Cellar, Database, Location, Place, matching, now, status};
use decanter_core::catalogue::Sums;
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Watch, native};
use serde::Serialize;
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Which files are checked.
#[derive(Debug, Clone, Default)]
pub struct Which {
    /// Only those of these places; none for all.
    pub places: Vec<String>,
    /// No longer than this.
    pub most_time: Option<Duration>,
    /// No more than this share of all, in percent.
    pub percent: Option<f64>,
    /// Only those that were last checked longer ago than this.
    pub older_than: Option<Duration>,
}

/// What came of it.
#[derive(Debug, Serialize)]
pub struct CheckReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// Files that were read.
    pub checked: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files that are due and were not read this time.
    pub left: u64,
    /// Those that are not as they were.
    pub mismatches: Vec<Mismatch>,
    /// Those that were not, and are again.
    pub mended: Vec<String>,
    /// What is not there, or cannot be read.
    pub unread: Vec<Unread>,
    /// Places that are not there at the moment.
    pub not_mounted: Vec<String>,
}

/// A file that is not as it was.
#[derive(Debug, Clone, Serialize)]
pub struct Mismatch {
    /// Its path.
    pub path: String,
    /// `rot`: its bytes have changed and its time has not; `edited`: both have.
    pub damage: &'static str,
    /// In words.
    pub why: String,
    /// The digest that it should have.
    pub expected: String,
    /// The digest that it has.
    pub found: String,
    /// Where the same content is known to be good.
    pub good_copy: Option<String>,
}

/// What came of one file.
pub(super) enum Outcome {
    Same,
    Other(Trouble, Sums, String),
    Unread(String),
}

/// The same, as it is told.
pub(super) enum Told {
    Checked { bytes: u64, mismatch: Option<Mismatch>, mended: Option<String> },
    Unread(Unread),
}

impl Outcome {
    /// Keeps it in the catalogue.
    pub(super) fn keep(&self, row: &FileRow, db: &mut dyn Database) -> decanter_core::Result<()> {
        match self {
            Self::Same => row.set_checked(db),
            Self::Other(trouble, _, why) => row.set_trouble(db, *trouble, Some(why)),
            Self::Unread(why) => row.set_trouble(db, Trouble::Unreadable, Some(why)),
        }
    }

    /// Tells it, with a good copy of what is not as it was.
    pub(super) fn told(
        self,
        row: &FileRow,
        path: String,
        db: &mut dyn Database,
        setting: &Setting<'_>,
    ) -> decanter_core::Result<Told> {
        let was_wrong = matches!(row.trouble.0, Trouble::Rot | Trouble::Edited);
        let bytes = row.stamp.size;
        Ok(match self {
            Self::Unread(why) => Told::Unread(Unread { path, why }),
            Self::Same => Told::Checked { bytes, mismatch: None, mended: was_wrong.then_some(path) },
            Self::Other(trouble, sums, why) => {
                let mismatch = Mismatch {
                    path,
                    damage: trouble.word(),
                    why,
                    expected: told(&row.sums),
                    found: told(&sums),
                    good_copy: good_copy(db, row, setting)?,
                };
                Told::Checked { bytes, mismatch: Some(mismatch), mended: None }
            }
        })
    }
}

/// Where it is told: the fields of a report on files that were checked.
pub(super) struct Tally<'a> {
    pub(super) checked: &'a mut u64,
    pub(super) bytes: &'a mut u64,
    pub(super) mismatches: &'a mut Vec<Mismatch>,
    pub(super) mended: &'a mut Vec<String>,
    pub(super) unread: &'a mut Vec<Unread>,
}

impl Tally<'_> {
    pub(super) fn take(self, told: Told) {
        match told {
            Told::Unread(unread) => self.unread.push(unread),
            Told::Checked { bytes, mismatch, mended } => {
                *self.checked += 1;
                *self.bytes += bytes;
                self.mismatches.extend(mismatch);
                self.mended.extend(mended);
            }
        }
    }
}

impl CheckReport {
    fn tally(&mut self) -> Tally<'_> {
        let Self { checked, bytes, mismatches, mended, unread, .. } = self;
        Tally { checked, bytes, mismatches, mended, unread }
    }
}

/// Checks files, the oldest checks first.
///
/// # Errors
/// When the cellar cannot be used, a place is not known, or the user stops: then what was checked is kept.
pub fn check(which: &Which, setting: &Setting<'_>) -> Result<CheckReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot check");
    let places = Place::all(cellar.db.as_mut()).map_err(&fail)?;
    let chosen = chosen(&which.places, &places)?;
    let (there, away): (Vec<&Place>, Vec<&Place>) = chosen.into_iter().partition(|place| is_mounted(place));
    let numbers: Vec<i64> = there.iter().map(|place| place.id).collect();
    let before = which.older_than.map(|age| now().saturating_sub_unsigned(age.as_secs()));
    let mut ids = match numbers.is_empty() {
        true => Vec::new(),
        false => FileRow::by_age(cellar.db.as_mut(), &numbers, before).map_err(&fail)?,
    };
    let due = ids.len() as u64;
    if let Some(percent) = which.percent {
        let share = (ids.len() as f64 * percent / 100.0).ceil() as usize;
        ids.truncate(share.min(ids.len()));
    }
    let roots: HashMap<i64, &Place> = there.iter().map(|place| (place.id, *place)).collect();
    let mut report = CheckReport {
        schema: "decanter.cellar-check/1",
        cellar: cellar.location.shown(),
        checked: 0,
        bytes: 0,
        left: 0,
        mismatches: Vec::new(),
        mended: Vec::new(),
        unread: Vec::new(),
        not_mounted: away.iter().map(|place| place.root.clone()).collect(),
    };
    let stopped = run(&ids, &roots, which.most_time, &cellar.location, &mut report, setting);
    let db = cellar.db.as_mut();
    together(db, matching::recount).map_err(&fail)?;
    stopped.map_err(&fail)?;
    report.left = due - report.checked - report.unread.len() as u64;
    report.mismatches.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(report)
}

/// The places that were named; all, if none was.
pub(super) fn chosen<'a>(typed: &[String], places: &'a [Place]) -> Result<Vec<&'a Place>, Failure> {
    if typed.is_empty() {
        return Ok(places.iter().collect());
    }
    let find = |path: &String| {
        let as_typed = |_| path.trim_end_matches('/').to_owned();
        let whole = super::places::resolved(path).map_or_else(as_typed, native::text);
        places.iter().find(|place| place.root == whole || place.root == *path).ok_or_else(|| {
            Failure::usage(format!("cannot check \"{path}\""), "the cellar knows no such place")
                .hint("\"decanter cellar status -v\" lists the places")
        })
    };
    typed.iter().map(find).collect()
}

fn run(
    ids: &[i64],
    roots: &HashMap<i64, &Place>,
    most_time: Option<Duration>,
    location: &Location,
    report: &mut CheckReport,
    setting: &Setting<'_>,
) -> decanter_core::Result<()> {
    let began = Instant::now();
    let next = AtomicUsize::new(0);
    let shared = Mutex::new(report);
    setting.watch.begin(&format!("checking {} files", crate::grouped(ids.len() as u64)), None);
    let work = || -> decanter_core::Result<()> {
        let mut cellar = Cellar::open(location.clone())?;
        let db = cellar.db.as_mut();
        while let Some(id) = ids.get(next.fetch_add(1, Ordering::Relaxed)) {
            decanter_core::watch::check(setting.watch)?;
            if most_time.is_some_and(|most| began.elapsed() >= most) {
                break;
            }
            let Some(row) = FileRow::get(db, *id)?.filter(|row| row.gone.is_none()) else { continue };
            let Some(place) = roots.get(&row.place) else { continue };
            let path = place.path(&row.path);
            setting.watch.item(&path);
            let outcome = look(&row, &path, setting)?;
            setting.watch.advance(row.stamp.size);
            together(db, |db| outcome.keep(&row, db))?;
            let found = outcome.told(&row, path, db, setting)?;
            shared.lock().unwrap_or_else(PoisonError::into_inner).tally().take(found);
        }
        Ok(())
    };
    let ended: Vec<decanter_core::Result<()>> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..setting.jobs.clamp(1, ids.len().max(1))).map(|_| scope.spawn(work)).collect();
        let lost = |_| Err(Error::Usage("a checking thread ended early".into()));
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
    });
    setting.watch.end();
    ended.into_iter().collect()
}

/// Reads a file again.
pub(super) fn look(row: &FileRow, path: &str, setting: &Setting<'_>) -> decanter_core::Result<Outcome> {
    let algorithms: Vec<Algorithm> = Algorithm::ALL.into_iter().filter(|a| row.sums.get(*a).is_some()).collect();
    let read = || -> decanter_core::Result<(u64, Sums)> {
        let source: SourceRef = match path.contains("://") {
            true => setting.store(path).open(path)?,
            false => Arc::new(FileSource::own(&native::path(path))?),
        };
        let mut sums = Sums::default();
        for digest in of_source(&source, &algorithms, &Still(setting.watch))? {
            sums.set(digest.algorithm, &digest.bytes);
        }
        Ok((source.len(), sums))
    };
    let (size, sums) = match read() {
        Ok(read) => read,
        Err(Error::Cancelled) => return Err(Error::Cancelled),
        Err(e) => return Ok(Outcome::Unread(e.to_string())),
    };
    if size == row.stamp.size && agree(&row.sums, &sums) {
        return Ok(Outcome::Same);
    }
    let now = match super::scan::stamp_at(path, setting) {
        Ok(Some(stamp)) => stamp,
        Ok(None) => return Ok(Outcome::Unread("it has just gone".to_owned())),
        Err(Error::Cancelled) => return Err(Error::Cancelled),
        Err(e) => return Ok(Outcome::Unread(e.to_string())),
    };
    Ok(match (now.modified, &now.tag) == (row.stamp.modified, &row.stamp.tag) {
        true => Outcome::Other(Trouble::Rot, sums, ROT.to_owned()),
        false => {
            let why = "its bytes have changed, and its time has, too: somebody has written to it".to_owned();
            Outcome::Other(Trouble::Edited, sums, why)
        }
    })
}

/// Another copy of what a file was, read to be sure that it is one.
fn good_copy(db: &mut dyn Database, row: &FileRow, setting: &Setting<'_>) -> decanter_core::Result<Option<String>> {
    let Some(sha1) = row.sums.get(Algorithm::Sha1) else { return Ok(None) };
    for address in status::copies(db, sha1, row.id)? {
        let read = locate::bytes(&address, setting)
            .and_then(|source| of_source(&source, &[Algorithm::Sha1], &Still(setting.watch)));
        match read {
            Ok(found) if found.first().is_some_and(|digest| digest.bytes == sha1) => return Ok(Some(address)),
            Err(Error::Cancelled) => return Err(Error::Cancelled),
            // It has changed, too, or is not there: the next one may be good.
            Ok(_) | Err(_) => {}
        }
    }
    Ok(None)
}

fn told(sums: &Sums) -> String {
    sums.strongest().map(|d| format!("{}:{}", d.algorithm.id(), d.hex())).unwrap_or_default()
}

/// Progress counts whole files.
struct Still<'a>(&'a dyn Watch);

impl Watch for Still<'_> {
    fn cancelled(&self) -> bool {
        self.0.cancelled()
    }
}
