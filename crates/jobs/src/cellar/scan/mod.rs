//! Looking through places: what is new, changed, moved or gone, and what all of it is.

pub(super) mod crew;
pub(super) mod look;
pub(super) mod walk;

use super::places::{Standing, lies_in, resolved};
use super::{broke, open};
use crate::{Failure, Setting};
use crew::Crew;
use decanter_cellar::database::together;
use decanter_cellar::files::{FileRow, Stamp};
use decanter_cellar::{Cellar, Place, dats, matching};
use decanter_core::digest::Algorithm;
use decanter_core::store::Listed;
use decanter_core::{Error, native, os, watch};
use serde::Serialize;
use walk::Walked;

/// The digests that every scan makes: what sets know files by, and what rot is found by.
pub(crate) const DIGESTS: [Algorithm; 2] = [Algorithm::Crc32, Algorithm::Sha1];

/// The folder below a place into which originals are moved that can be made again: no scan looks into it.
pub(in crate::cellar) const RETIRED: &str = ".retired";

/// What came of a scan.
#[derive(Debug, Default, Serialize)]
pub struct ScanReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// The places that were looked through.
    pub places: Vec<PlaceReport>,
    /// Files that were met.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files that were not known.
    pub new: u64,
    /// Files that have other bytes than before.
    pub changed: u64,
    /// Files that have another name or place than before.
    pub moved: u64,
    /// Files that are as they were.
    pub unchanged: u64,
    /// Files that are not there any more.
    pub gone: u64,
    /// Files whose bytes have changed though nothing else has: found by a scan that reads everything.
    pub rotten: Vec<String>,
    /// Bytes that were read.
    pub bytes_read: u64,
    /// Symbolic links, which are not followed.
    pub links: u64,
    /// Files and members that were held against sets.
    pub matched: usize,
    /// What cannot be read, and why.
    pub unread: Vec<Unread>,
}

/// A place of a scan.
#[derive(Debug, Serialize)]
pub struct PlaceReport {
    /// Its folder.
    pub root: String,
    /// Whether it was there.
    pub is_mounted: bool,
    /// Files that are known of it.
    pub files: u64,
}

/// What cannot be read.
#[derive(Debug, Serialize)]
pub struct Unread {
    /// Its path.
    pub path: String,
    /// Why.
    pub why: String,
}

/// A place, or a folder of it, that is to be looked through.
pub(super) struct Area {
    pub(super) place: Place,
    /// The folder below the place; empty for all of it.
    pub(super) below: String,
}

/// How a scan goes about it.
#[derive(Debug, Clone, Copy, Default)]
pub struct How {
    /// Every file is read, also those that seem to be as they were.
    pub is_deep: bool,
    /// The folders are taken as they are, though they lie on another device than before.
    pub is_on_other_disk: bool,
}

/// Looks through places; without any, through all that are known.
///
/// # Errors
/// When the cellar cannot be used, a place is no folder, or the user stops.
pub fn scan(typed: &[String], how: How, setting: &Setting<'_>) -> Result<ScanReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot scan");
    let (areas, mut places) = areas(typed, how, &mut cellar, setting)?;
    let mut report =
        ScanReport { schema: "decanter.cellar-scan/1", cellar: cellar.location.shown(), ..ScanReport::default() };
    let mut digests = DIGESTS.to_vec();
    digests.extend(dats::more_digests(cellar.db.as_mut()).map_err(&fail)?);
    setting.watch.begin("looking for files", None);
    let roots: Vec<String> = Place::all(cellar.db.as_mut()).map_err(&fail)?.into_iter().map(|p| p.root).collect();
    let mut walked = walk::walk(&areas, &roots, how.is_deep, &cellar.location, setting).map_err(&fail)?;
    setting.watch.end();
    report.files = walked.files;
    report.bytes = walked.bytes;
    report.links = walked.links;
    report.unchanged = walked.files - walked.todo.len() as u64;
    let phase = format!("scanning {} files", crate::grouped(walked.todo.len() as u64));
    setting.watch.begin(&phase, Some(walked.bytes_to_read));
    let crew = Crew { areas: &areas, location: &cellar.location, digests: &digests, is_deep: how.is_deep, setting };
    let ended = crew.run(&mut walked, &mut report);
    setting.watch.end();
    ended.and_then(|()| watch::check(setting.watch)).map_err(&fail)?;
    let db = cellar.db.as_mut();
    for area in &areas {
        report.gone += leave(db, area, &walked).map_err(&fail)?;
    }
    setting.watch.begin("holding files against the sets", None);
    report.matched = matching::pending(db, &mut |_| watch::check(setting.watch)).map_err(&fail)?;
    setting.watch.end();
    report.unread.extend(walked.unread);
    report.unread.sort_by(|a, b| a.path.cmp(&b.path));
    for place in &mut places {
        let sql = "SELECT count(*) FROM file f JOIN place p ON p.id = f.place WHERE p.root = ?1 AND f.gone IS NULL";
        let root = decanter_cellar::Value::Name(place.root.clone());
        place.files = decanter_cellar::database::number(db, sql, &[root]).map_err(&fail)?.unsigned_abs();
    }
    report.places = places;
    Ok(report)
}

/// What is to be looked through, and what is said of each place.
pub(super) fn areas(
    typed: &[String],
    how: How,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> Result<(Vec<Area>, Vec<PlaceReport>), Failure> {
    let fail = broke("cannot scan");
    let known = Place::all(cellar.db.as_mut()).map_err(&fail)?;
    let (mut areas, mut told) = (Vec::<Area>::new(), Vec::new());
    let mut wanted: Vec<String> = Vec::new();
    for path in typed {
        if path.contains("://") {
            let root = path.trim_end_matches('/').to_owned();
            wanted.extend(known.iter().filter(|p| p.root != root && lies_in(&p.root, &root)).map(|p| p.root.clone()));
            if is_of(&known, &root).is_none() {
                check_far(path, setting)?;
            }
            wanted.push(root);
            continue;
        }
        match resolved(path) {
            Ok(real) => {
                let root = native::text(&real);
                if !real.is_dir() {
                    return Err(Failure::usage(format!("cannot scan \"{path}\""), "it is no folder")
                        .hint("give the folder that it stands in"));
                }
                wanted.push(root.clone());
                // Places in it are looked through with it.
                wanted
                    .extend(known.iter().filter(|p| p.root != root && lies_in(&p.root, &root)).map(|p| p.root.clone()));
            }
            // A place that is not there is told, not lost.
            Err(e) => match known.iter().find(|p| p.root == *path || p.root == native::text(absolute(path))) {
                Some(place) => wanted.push(place.root.clone()),
                None => {
                    let error = Error::io("open", &native::path(path), e);
                    return Err(Failure::new(format!("cannot scan \"{path}\""), error));
                }
            },
        }
    }
    if typed.is_empty() {
        if known.is_empty() {
            return Err(Failure::usage("cannot scan", "this cellar knows no place yet")
                .hint("give the folders of the collection: decanter cellar scan FOLDER..."));
        }
        wanted.extend(known.iter().map(|p| p.root.clone()));
    }
    for root in wanted {
        let own = is_of(&known, &root);
        let is_covered = |area: &Area| {
            let is_same_place = own.is_none_or(|place| place.root == area.place.root);
            is_same_place && lies_in(&root, &area.place.path(&area.below))
                || area.below.is_empty() && area.place.root == root
        };
        if areas.iter().any(is_covered) {
            continue;
        }
        let now = Standing::at(&root);
        let place = match own {
            Some(place) => place.clone(),
            None => {
                let here = now.as_ref();
                let (device, volume) = (here.and_then(|n| n.device), here.and_then(|n| n.volume.clone()));
                let mount = here.and_then(|n| n.mount.clone());
                Place::add(cellar.db.as_mut(), &root, device, volume.as_deref(), mount.as_deref()).map_err(&fail)?
            }
        };
        let standing = Standing::at(&place.root).filter(|now| how.is_on_other_disk || now.is_of(&place));
        let is_told = told.iter().any(|t: &PlaceReport| t.root == place.root);
        if !is_told {
            told.push(PlaceReport { root: place.root.clone(), is_mounted: standing.is_some(), files: 0 });
        }
        let Some(standing) = standing else { continue };
        let (volume, mount) = (standing.volume.as_deref(), standing.mount.as_deref());
        place.begin(cellar.db.as_mut(), standing.device, volume, mount).map_err(&fail)?;
        let below = root.strip_prefix(&place.root).unwrap_or_default().trim_matches('/').to_owned();
        areas.push(Area { place, below });
    }
    Ok((areas, told))
}

/// Fails for an address that lists no files.
fn check_far(path: &str, setting: &Setting<'_>) -> Result<(), Failure> {
    let what = format!("cannot scan \"{path}\"");
    match setting.store(path).is_folder(path) {
        Ok(true) => Ok(()),
        Ok(false) => Err(Failure::usage(what, "it is a file, or a server that lists no files")
            .hint("give a folder with a slash at its end; single files at a server are read by the other commands")),
        Err(e) => Err(Failure::new(what, e)),
    }
}

/// The place that a folder belongs to: the innermost one around it.
fn is_of<'a>(known: &'a [Place], root: &str) -> Option<&'a Place> {
    known.iter().filter(|p| lies_in(root, &p.root)).max_by_key(|p| p.root.len())
}

fn absolute(path: &str) -> std::path::PathBuf {
    let path = native::path(path);
    std::path::absolute(&path).unwrap_or(path)
}

/// Notes what of an area was not met any more; how many files that are.
fn leave(db: &mut dyn decanter_cellar::Database, area: &Area, walked: &Walked) -> decanter_core::Result<u64> {
    let mut gone = Vec::new();
    FileRow::each_here(db, area.place.id, &mut |id, path| {
        let is_asked = area.below.is_empty() || lies_in(&path, &area.below);
        let is_closed = || {
            let whole = area.place.path(&path);
            walked.closed.iter().any(|folder| lies_in(&whole, folder))
        };
        if is_asked && !walked.seen.has(id) && !is_closed() {
            gone.push(id);
        }
        Ok(())
    })?;
    together(db, |db| {
        gone.iter().try_for_each(|id| FileRow::set_gone(db, *id))?;
        if area.below.is_empty() { area.place.end(db) } else { Ok(()) }
    })?;
    Ok(gone.len() as u64)
}

/// What is said of a file now; `None` if it is not there.
pub(super) fn stamp_at(path: &str, setting: &Setting<'_>) -> decanter_core::Result<Option<Stamp>> {
    if path.contains("://") {
        return Ok(setting.store(path).listed(path)?.map(of_listed));
    }
    match std::fs::symlink_metadata(native::path(path)) {
        Ok(meta) => Ok(Some(stamp(&meta))),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(Error::io("read", &native::path(path), e)),
    }
}

/// What a listing says, as the catalogue keeps it.
fn of_listed(listed: Listed) -> Stamp {
    Stamp { size: listed.len, modified: listed.modified, tag: listed.tag, ..Stamp::default() }
}

/// What the system says of a file that is looked at.
pub(super) fn stamp(meta: &std::fs::Metadata) -> Stamp {
    let ids = os::device_and_number(meta);
    let modified = meta.modified().ok().and_then(|time| {
        let nanos = |d: std::time::Duration| i64::try_from(d.as_nanos()).ok();
        match time.duration_since(std::time::UNIX_EPOCH) {
            Ok(after) => nanos(after),
            Err(before) => nanos(before.duration()).map(|n| -n),
        }
    });
    Stamp {
        size: meta.len(),
        modified: modified.unwrap_or(0),
        device: ids.map(|(device, _)| device.cast_signed()),
        inode: ids.map(|(_, inode)| inode.cast_signed()),
        tag: None,
    }
}
