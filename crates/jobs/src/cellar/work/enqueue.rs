//! What a scan or check has to do, put into the queue.

use super::machine;
use super::pieces::{CheckFiles, Folder};
use crate::cellar::check::chosen;
use crate::cellar::places::is_mounted;
use crate::cellar::scan::areas;
use crate::cellar::{How, Which, broke, open};
use crate::{Failure, Setting};
use decanter_cellar::database::together;
use decanter_cellar::files::FileRow;
use decanter_cellar::queue::{self, Kind};
use decanter_cellar::{Place, now};
use serde::Serialize;

/// Files of a piece of a check.
const FILES: usize = 200;

/// What was put into the queue.
#[derive(Debug, Serialize)]
pub struct EnqueueReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// Places that workers will look through, or check.
    pub places: Vec<String>,
    /// Places that are in the queue already.
    pub under_way: Vec<String>,
    /// Places that are not there at the moment.
    pub not_mounted: Vec<String>,
    /// Files that will be checked.
    pub files: u64,
}

impl EnqueueReport {
    fn new(cellar: String) -> Self {
        Self {
            schema: "decanter.cellar-enqueue/1",
            cellar,
            places: Vec::new(),
            under_way: Vec::new(),
            not_mounted: Vec::new(),
            files: 0,
        }
    }
}

/// Puts the places of a scan into the queue.
///
/// # Errors
/// As [`crate::cellar::scan`].
pub fn enqueue_scan(typed: &[String], how: How, setting: &Setting<'_>) -> Result<EnqueueReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot enqueue the scan");
    let (areas, told) = areas(typed, how, &mut cellar, setting)?;
    let mut report = EnqueueReport::new(cellar.location.shown());
    report.not_mounted = told.into_iter().filter(|place| !place.is_mounted).map(|place| place.root).collect();
    let db = cellar.db.as_mut();
    for area in areas {
        let root = if area.below.is_empty() { area.place.root.clone() } else { area.place.path(&area.below) };
        let folder = Folder { is_whole: area.below.is_empty(), below: area.below, is_deep: how.is_deep };
        let what = folder.as_text();
        let added = together(db, |db| {
            queue::forget_given_up(db, area.place.id)?;
            if queue::is_under_way(db, area.place.id, false)? {
                return Ok(false);
            }
            queue::set_machine(db, area.place.id, &machine())?;
            let run = queue::new_run(db)?;
            queue::add(db, run, Kind::Folder, area.place.id, &what)?;
            Ok(true)
        });
        match added.map_err(&fail)? {
            true => report.places.push(root),
            false => report.under_way.push(root),
        }
    }
    Ok(report)
}

/// Puts the files of a check into the queue, those first that were not read for longest.
///
/// # Errors
/// As [`crate::cellar::check`].
pub fn enqueue_check(which: &Which, setting: &Setting<'_>) -> Result<EnqueueReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot enqueue the check");
    let mut report = EnqueueReport::new(cellar.location.shown());
    let db = cellar.db.as_mut();
    let places = Place::all(db).map_err(&fail)?;
    let before = which.older_than.map(|age| now().saturating_sub_unsigned(age.as_secs()));
    for place in chosen(&which.places, &places)? {
        if !is_mounted(place) {
            report.not_mounted.push(place.root.clone());
            continue;
        }
        let mut ids = FileRow::by_age(db, &[place.id], before).map_err(&fail)?;
        if let Some(percent) = which.percent {
            let share = (ids.len() as f64 * percent / 100.0).ceil() as usize;
            ids.truncate(share.min(ids.len()));
        }
        let added = together(db, |db| {
            queue::forget_given_up(db, place.id)?;
            if queue::is_under_way(db, place.id, true)? {
                return Ok(false);
            }
            queue::set_machine(db, place.id, &machine())?;
            let run = queue::new_run(db)?;
            for ids in ids.chunks(FILES) {
                queue::add(db, run, Kind::Check, place.id, &CheckFiles { ids: ids.to_vec() }.as_text())?;
            }
            Ok(true)
        });
        match added.map_err(&fail)? {
            true => {
                report.files += ids.len() as u64;
                report.places.push(place.root.clone());
            }
            false => report.under_way.push(place.root.clone()),
        }
    }
    Ok(report)
}
