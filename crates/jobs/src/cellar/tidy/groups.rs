//! Repacking as a part of a plan: what is made before the files are moved, and what becomes of it when the plan is taken back.

use super::journal::Done;
use super::step::{below, take};
use crate::cellar::history::at;
use crate::cellar::places::lies_in;
use crate::cellar::scan::look::Looker;
use crate::cellar::scan::{DIGESTS, stamp};
use crate::cellar::{Unread, broke};
use crate::{Failure, Setting};
use decanter_cellar::database::together;
use decanter_cellar::files::{self, FileRow};
use decanter_cellar::{Cellar, Place, dats};
use decanter_core::pour::Journal;
use decanter_core::{Error, native, watch};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// Makes what is to be made, on all cores; what cannot be made is left as it is, and told.
pub(super) fn repack(done: &mut Done, journal: Journal, setting: &Setting<'_>) -> decanter_core::Result<Journal> {
    let open: Vec<usize> = (0..done.groups.len()).filter(|number| !done.ended.contains_key(number)).collect();
    setting.watch.begin(&format!("repacking {} archives", crate::grouped(open.len() as u64)), Some(open.len() as u64));
    let next = AtomicUsize::new(0);
    let shared = Mutex::new((journal, Vec::new()));
    let groups = &done.groups;
    let work = || -> decanter_core::Result<()> {
        while let Some(&number) = open.get(next.fetch_add(1, Ordering::Relaxed)) {
            watch::check(setting.watch)?;
            let ended = match groups[number].build(setting) {
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                ended => ended.map_err(|e| e.to_string()),
            };
            let what = if ended.is_ok() { "built" } else { "left" };
            let mut shared = shared.lock().unwrap_or_else(PoisonError::into_inner);
            let mut lines = vec![serde_json::json!({ "what": what, "number": number }).to_string()];
            if let Err(why) = &ended {
                let path = groups[number].aside.first().map(|(from, _)| from.clone()).unwrap_or_default();
                lines.push(serde_json::json!({ "what": "stays", "path": path, "why": why }).to_string());
                shared.1.push((number, Some(Unread { path, why: why.clone() })));
            } else {
                shared.1.push((number, None));
            }
            shared.0.write(&lines)?;
            setting.watch.advance(1);
        }
        Ok(())
    };
    let ended: Vec<decanter_core::Result<()>> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..setting.jobs.clamp(1, open.len().max(1))).map(|_| scope.spawn(work)).collect();
        let lost = |_| Err(Error::Usage("a packing thread ended early".into()));
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
    });
    setting.watch.end();
    let (journal, outcomes) = shared.into_inner().unwrap_or_else(PoisonError::into_inner);
    ended.into_iter().collect::<decanter_core::Result<()>>()?;
    for (number, stays) in outcomes {
        done.ended.insert(number, stays.is_none());
        done.stays.extend(stays);
    }
    Ok(journal)
}

/// Puts what was put aside back, and takes away what was made.
pub(super) fn take_back(done: &Done, stays: &mut Vec<Unread>, setting: &Setting<'_>) -> decanter_core::Result<()> {
    for (number, group) in done.groups.iter().enumerate().rev() {
        watch::check(setting.watch)?;
        if done.ended.get(&number) == Some(&true) {
            for step in group.steps().iter().rev() {
                match take(&step.to, &step.from, setting) {
                    Ok(()) => {}
                    Err(e @ (Error::Exists { .. } | Error::Io { .. })) => {
                        stays.push(Unread { path: native::text(&step.to), why: e.to_string() });
                        continue;
                    }
                    Err(e) => return Err(e),
                }
            }
        }
        // What is made goes only where all that it was made of is back.
        if group.steps().iter().any(|step| step.from.symlink_metadata().is_err()) {
            continue;
        }
        for build in &group.builds {
            if !build.remove(setting)? {
                let why = "it is not what was made by the plan any more".to_owned();
                stays.push(Unread { path: build.target.clone(), why });
            }
        }
    }
    Ok(())
}

/// The catalogue knows what was made, and what was put aside; or that all of it is as it was.
pub(super) fn note(cellar: &mut Cellar, done: &Done, is_done: bool, setting: &Setting<'_>) -> Result<(), Failure> {
    let fail = broke("the files are repacked, but the catalogue does not know it yet (a scan will find out)");
    let db = cellar.db.as_mut();
    let places = Place::all(db).map_err(&fail)?;
    let keys = setting.all_keys();
    let mut digests = DIGESTS.to_vec();
    digests.extend(dats::more_digests(db).map_err(&fail)?);
    let looker = Looker { digests: &digests, keys: &keys, setting };
    let of = |path: &str| places.iter().filter(|p| lies_in(path, &p.root)).max_by_key(|p| p.root.len());
    for group in done.built() {
        let made: Vec<String> = group.builds.iter().map(|build| build.target.clone()).collect();
        let old: Vec<String> = group.aside.iter().map(|(from, _)| from.clone()).collect();
        let (come, gone) = if is_done { (made, old) } else { (old, made) };
        let mut found = Vec::new();
        for path in &come {
            let Ok(meta) = std::fs::symlink_metadata(native::path(path)) else { continue };
            found.push((path, stamp(&meta), looker.file(path).map_err(&fail)?));
        }
        together(db, |db| {
            // What has stayed, because it is something else by now, is not gone.
            for path in gone.iter().filter(|path| native::path(path).symlink_metadata().is_err()) {
                if let Some(row) = at(db, path)? {
                    FileRow::set_gone(db, row.id)?;
                }
            }
            for (path, stamp, found) in found {
                let Some(place) = of(path) else { continue };
                files::keep(db, place.id, &below(place, path), &stamp, &found)?;
            }
            Ok(())
        })
        .map_err(&fail)?;
    }
    Ok(())
}
