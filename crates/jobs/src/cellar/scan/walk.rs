//! The walk through all folders of an area, on all cores: what is there, and which files have to be read.

use super::{Area, RETIRED, Unread, of_listed, stamp};
use crate::Setting;
use crate::cellar::places::lies_in;
use decanter_cellar::database::number;
use decanter_cellar::files::{FileRow, Stamp, Trouble};
use decanter_cellar::{Cellar, Database, Location};
use decanter_core::store::MetKind;
use decanter_core::{Error, Notice, Result, native, watch};
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, PoisonError};

/// A set of numbers, a bit each: a million files take 125 KiB.
#[derive(Default)]
pub(in crate::cellar) struct Seen(Vec<u64>);

impl Seen {
    pub(in crate::cellar) fn add(&mut self, id: i64) {
        let (word, bit) = (id as usize / 64, id as usize % 64);
        if word >= self.0.len() {
            self.0.resize(word + 1, 0);
        }
        self.0[word] |= 1 << bit;
    }

    pub(in crate::cellar) fn has(&self, id: i64) -> bool {
        self.0.get(id as usize / 64).is_some_and(|word| word >> (id as usize % 64) & 1 == 1)
    }
}

/// A file that has to be read. There may be a million: what its file system says of it is asked once more then.
pub(in crate::cellar) struct Todo {
    /// The number of its area.
    pub(in crate::cellar) area: u32,
    /// Its folder below the place, with a slash at the end unless that is empty.
    pub(in crate::cellar) folder: Arc<str>,
    pub(in crate::cellar) name: Box<str>,
    /// Its length.
    pub(in crate::cellar) size: u64,
    /// Whether it is known, and was the same the last time: it is only read to be sure.
    pub(in crate::cellar) is_known: bool,
}

/// What was met.
#[derive(Default)]
pub(in crate::cellar) struct Walked {
    pub(in crate::cellar) files: u64,
    pub(in crate::cellar) bytes: u64,
    pub(in crate::cellar) links: u64,
    pub(in crate::cellar) todo: Vec<Todo>,
    pub(in crate::cellar) bytes_to_read: u64,
    /// Files that are known and still there.
    pub(in crate::cellar) seen: Seen,
    pub(in crate::cellar) unread: Vec<Unread>,
    /// Folders that could not be looked into: what is in them is not gone.
    pub(in crate::cellar) closed: Vec<String>,
    /// Whether nothing at all was known before.
    pub(in crate::cellar) is_first: bool,
}

impl Walked {
    /// Something that cannot be looked into.
    fn close(&mut self, path: &Path, e: std::io::Error) {
        let path = native::text(path);
        self.closed.push(path.clone());
        self.unread.push(Unread { path, why: Error::io("read", Path::new(""), e).to_string() });
    }
}

/// Folders that are still to be looked into, and how many are being looked into.
struct Folders {
    list: Mutex<(Vec<(u32, String)>, usize)>,
    more: Condvar,
}

impl Folders {
    fn next(&self) -> Option<(u32, String)> {
        let mut list = self.list.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            if let Some(folder) = list.0.pop() {
                list.1 += 1;
                return Some(folder);
            }
            if list.1 == 0 {
                return None;
            }
            list = self.more.wait(list).unwrap_or_else(PoisonError::into_inner);
        }
    }

    fn done(&self, found: Vec<(u32, String)>) {
        let mut list = self.list.lock().unwrap_or_else(PoisonError::into_inner);
        list.0.extend(found);
        list.1 -= 1;
        self.more.notify_all();
    }
}

/// What all walkers know.
struct Walk<'a> {
    areas: &'a [Area],
    folders: Folders,
    /// Folders that are not entered: places of their own, and the cellar itself.
    others: HashSet<PathBuf>,
    is_deep: bool,
    is_first: bool,
    setting: &'a Setting<'a>,
}

/// Walks through all areas. Places that lie in others are passed by: they are areas of their own.
pub(in crate::cellar) fn walk(
    areas: &[Area],
    roots: &[String],
    is_deep: bool,
    location: &Location,
    setting: &Setting<'_>,
) -> Result<Walked> {
    let mut first = Cellar::open(location.clone())?;
    let is_first = number(first.db.as_mut(), "SELECT count(*) FROM (SELECT 1 FROM file LIMIT 1) AS one", &[])? == 0;
    let own = location.folder().and_then(|folder| decanter_core::os::resolved(folder).ok());
    let numbered = || (0..).zip(areas);
    let starts = numbered().filter(|(_, area)| !area.place.is_far());
    let starts = starts.map(|(number, area)| (number, area.below.clone())).collect();
    let walk = Walk {
        areas,
        folders: Folders { list: Mutex::new((starts, 0)), more: Condvar::new() },
        others: roots.iter().map(|root| native::path(root)).chain(own).collect(),
        is_deep,
        is_first,
        setting,
    };
    let mut walked = Walked { is_first, ..Walked::default() };
    for (number, area) in numbered().filter(|(_, area)| area.place.is_far()) {
        let mut ids = Vec::new();
        walk.far(number, area, roots, first.db.as_mut(), &mut walked, &mut ids)?;
        ids.into_iter().for_each(|id| walked.seen.add(id));
    }
    let workers = setting.jobs.max(1);
    let found: Vec<Result<(Walked, Vec<i64>)>> = std::thread::scope(|scope| {
        let start = |_| {
            scope.spawn(|| {
                let mut cellar = Cellar::open(location.clone())?;
                let mut found = (Walked::default(), Vec::new());
                let mut failed = None;
                while let Some((area, folder)) = walk.folders.next() {
                    let mut inner = Vec::new();
                    if failed.is_none()
                        && let Err(e) = walk.folder(area, &folder, cellar.db.as_mut(), &mut found, &mut inner)
                    {
                        failed = Some(e);
                        inner.clear();
                    }
                    walk.folders.done(inner);
                }
                failed.map_or(Ok(found), Err)
            })
        };
        let threads: Vec<_> = (0..workers).map(start).collect();
        let lost = |_| Err(Error::Usage("a walking thread ended early".into()));
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
    });
    for part in found {
        let (part, ids) = part?;
        walked.files += part.files;
        walked.bytes += part.bytes;
        walked.links += part.links;
        walked.bytes_to_read += part.bytes_to_read;
        walked.todo.extend(part.todo);
        walked.unread.extend(part.unread);
        walked.closed.extend(part.closed);
        ids.into_iter().for_each(|id| walked.seen.add(id));
    }
    // The order of names is mostly that of the disk, and the same for every run.
    walked.todo.sort_unstable_by(|a, b| (a.area, &a.folder, &a.name).cmp(&(b.area, &b.folder, &b.name)));
    Ok(walked)
}

/// What was met in one folder.
pub(in crate::cellar) struct Looked {
    pub(in crate::cellar) walked: Walked,
    /// Files that are known and still there.
    pub(in crate::cellar) ids: Vec<i64>,
    /// Folders in it, below the place.
    pub(in crate::cellar) folders: Vec<String>,
}

/// Looks into one folder of an area; behind an address, at everything below it.
pub(in crate::cellar) fn look_into(
    area: &Area,
    roots: &[String],
    is_deep: bool,
    db: &mut dyn Database,
    setting: &Setting<'_>,
) -> Result<Looked> {
    let walk = Walk {
        areas: std::slice::from_ref(area),
        folders: Folders { list: Mutex::default(), more: Condvar::new() },
        others: roots.iter().map(|root| native::path(root)).collect(),
        is_deep,
        is_first: false,
        setting,
    };
    let mut found = (Walked::default(), Vec::new());
    let mut folders = Vec::new();
    match area.place.is_far() {
        true => walk.far(0, area, roots, db, &mut found.0, &mut found.1)?,
        false => walk.folder(0, &area.below, db, &mut found, &mut folders)?,
    }
    let (walked, ids) = found;
    Ok(Looked { walked, ids, folders: folders.into_iter().map(|(_, folder)| folder).collect() })
}

impl Walk<'_> {
    /// Goes through an area behind an address, as its store lists it.
    fn far(
        &self,
        number: u32,
        area: &Area,
        roots: &[String],
        db: &mut dyn Database,
        found: &mut Walked,
        ids: &mut Vec<i64>,
    ) -> Result<()> {
        let root = if area.below.is_empty() { area.place.root.clone() } else { area.place.path(&area.below) };
        let is_other = |path: &str| roots.iter().any(|other| *other != area.place.root && lies_in(path, other));
        let listed = self.setting.store(&root).walk(&root, &mut |met| {
            watch::check(self.setting.watch)?;
            let listed = match (met.kind, met.listed) {
                (MetKind::File, Some(listed)) => listed,
                (MetKind::Closed(e), _) => {
                    // What a store does not list is not gone.
                    found.closed.push(met.path.clone());
                    found.unread.push(Unread { path: met.path, why: e.to_string() });
                    return Ok(());
                }
                _ => return Ok(()),
            };
            let below = met.path[area.place.root.len()..].trim_start_matches('/');
            if is_other(&met.path) || below.split('/').any(|name| name == RETIRED) {
                return Ok(());
            }
            let (folder, name) = below.rsplit_once('/').unwrap_or(("", below));
            let prefix: Arc<str> = if folder.is_empty() { "".into() } else { format!("{folder}/").into() };
            self.meet((number, &prefix, name), &of_listed(listed), db, found, ids)
        });
        match listed {
            Err(e @ (Error::Io { .. } | Error::Refused { .. } | Error::Unreadable { .. })) => {
                found.closed.push(root.clone());
                found.unread.push(Unread { path: root, why: e.to_string() });
                Ok(())
            }
            listed => listed,
        }
    }

    /// A file, by the number of its area, its folder and its name: whether it is known, and has to be read.
    fn meet(
        &self,
        (area, folder, name): (u32, &Arc<str>, &str),
        stamp: &Stamp,
        db: &mut dyn Database,
        found: &mut Walked,
        ids: &mut Vec<i64>,
    ) -> Result<()> {
        found.files += 1;
        found.bytes += stamp.size;
        let place = self.areas[area as usize].place.id;
        let row = if self.is_first { None } else { FileRow::at(db, place, &format!("{folder}{name}"))? };
        let is_known = row.as_ref().is_some_and(|row| is_same(row, stamp));
        ids.extend(row.map(|row| row.id));
        if !is_known || self.is_deep {
            found.bytes_to_read += stamp.size;
            found.todo.push(Todo { area, folder: folder.clone(), name: name.into(), size: stamp.size, is_known });
        }
        Ok(())
    }

    fn folder(
        &self,
        number: u32,
        below: &str,
        db: &mut dyn Database,
        (found, ids): &mut (Walked, Vec<i64>),
        inner: &mut Vec<(u32, String)>,
    ) -> Result<()> {
        watch::check(self.setting.watch)?;
        let area = &self.areas[number as usize];
        let path = native::path(&if below.is_empty() { area.place.root.clone() } else { area.place.path(below) });
        let prefix: Arc<str> = if below.is_empty() { "".into() } else { format!("{below}/").into() };
        let entries = match std::fs::read_dir(&path) {
            Ok(entries) => entries,
            Err(e) => {
                found.close(&path, e);
                return Ok(());
            }
        };
        for entry in entries {
            let entry = match entry {
                Ok(entry) => entry,
                Err(e) => {
                    found.close(&path, e);
                    continue;
                }
            };
            let own = entry.path();
            let meta = match entry.metadata() {
                Ok(meta) => meta,
                // Gone in between.
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
                Err(e) => {
                    found.close(&own, e);
                    continue;
                }
            };
            let name = native::text(entry.file_name());
            if meta.is_dir() {
                if name != RETIRED && !self.others.contains(&own) {
                    inner.push((number, format!("{prefix}{name}")));
                }
                continue;
            }
            found.links += u64::from(meta.is_symlink());
            if !meta.is_file() {
                if let Some(odd) = decanter_core::os::odd_kind(meta.file_type()) {
                    let text = format!("{} is passed over: it is {odd}", native::text(&own));
                    self.setting.watch.notice(&Notice::new(text));
                }
                continue;
            }
            self.meet((number, &prefix, &name), &stamp(&meta), db, found, ids)?;
        }
        Ok(())
    }
}

/// Whether a file is the one that was read: nothing that its file system says of it has changed.
fn is_same(row: &FileRow, now: &Stamp) -> bool {
    let was = &row.stamp;
    // The number of a device may be another one after every start.
    row.gone.is_none()
        && row.trouble.0 != Trouble::Unreadable
        && row.sums.strongest().is_some()
        && (was.size, was.modified, was.inode, &was.tag) == (now.size, now.modified, now.inode, &now.tag)
}
