//! Which archives would become files, and which files an archive: what a plan says of it.

use super::Archives;
use super::names::{Known, by_set};
use crate::cellar::RETIRED;
use decanter_cellar::database::all;
use decanter_cellar::{Database, Place};
use decanter_core::digest::hex;
use decanter_core::role::Role;
use decanter_formats::REGISTRY;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};

/// An archive whose files are taken out.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Unpack {
    /// The folder that all names are below.
    pub(super) place: String,
    /// The archive; it goes into the folder `.retired` of its place.
    pub(super) from: String,
    /// Its length when the plan was made.
    pub(super) bytes: u64,
    /// Its time then, in nanoseconds since 1970.
    pub(super) modified: i64,
    /// What is taken out.
    #[serde(rename = "file")]
    pub(super) files: Vec<TakeOut>,
}

/// A file that is taken out.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct TakeOut {
    /// Its name in the archive.
    pub(super) name: String,
    /// The name that it gets.
    pub(super) to: String,
    /// Its SHA-1.
    pub(super) sha1: String,
}

/// An archive that is made.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Pack {
    /// The folder that all names are below.
    pub(super) place: String,
    /// The name that the archive gets.
    pub(super) to: String,
    /// What goes into it; they go into the folder `.retired` of their place.
    #[serde(rename = "file")]
    pub(super) files: Vec<PutIn>,
}

/// A file that goes into an archive.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PutIn {
    /// The name that it has.
    pub(super) from: String,
    /// Its name in the archive.
    pub(super) name: String,
    /// Its length when the plan was made.
    pub(super) bytes: u64,
    /// Its time then, in nanoseconds since 1970.
    pub(super) modified: i64,
    /// Its SHA-1.
    pub(super) sha1: String,
}

/// What is to be repacked in one place.
#[derive(Debug, Default)]
pub(super) struct Repacks {
    pub(super) unpack: Vec<Unpack>,
    pub(super) pack: Vec<Pack>,
    /// Files that are not moved, because they are put aside.
    pub(super) used: HashSet<String>,
    /// Names that are given to what is made.
    pub(super) given: HashSet<String>,
    /// Archives that stay, because no set knows all that is in them, or something has a name that one would get.
    pub(super) stay: Vec<String>,
}

/// Where something of a place is put aside.
pub(super) fn aside(path: &str) -> String {
    format!("{RETIRED}/{path}")
}

/// Looks for what is to be repacked. `here` are the names that are there, in small letters.
pub(super) fn of_place(
    db: &mut dyn Database,
    place: &Place,
    how: Archives,
    here: &HashSet<String>,
) -> decanter_core::Result<Repacks> {
    match how {
        Archives::Loose => loose(db, place, here),
        Archives::Zip => packed(db, place, here),
    }
}

fn is_archive(format: Option<&str>) -> bool {
    format.and_then(|id| REGISTRY.get(id)).is_some_and(|format| format.role() == Role::Archive)
}

fn loose(db: &mut dyn Database, place: &Place, here: &HashSet<String>) -> decanter_core::Result<Repacks> {
    let mut repacks = Repacks::default();
    let sql = "SELECT id, path, size, modified, format FROM file
        WHERE place = ?1 AND gone IS NULL AND trouble = 0 AND holds = 1 AND verdict = 6 ORDER BY path";
    let archives = all(db, sql, &[place.id.into()], |row| {
        (row[0].int(), row[1].text(), row[2].unsigned(), row[3].int(), row[4].maybe_text())
    })?;
    for (id, path, bytes, modified, format) in archives {
        if !is_archive(format.as_deref()) {
            continue;
        }
        let sql = "SELECT path, sha1, verdict, entry, through FROM member WHERE file = ?1 ORDER BY id";
        let members = all(db, sql, &[id.into()], |row| {
            let is_known = matches!(row[2].int(), 1 | 2) && row[4].maybe_text().is_none();
            (row[0].text(), row[1].blob().map(hex), row[3].maybe_int().filter(|_| is_known))
        })?;
        let mut files = Vec::new();
        for (inner, sha1, entry) in members {
            // What is in an archive in an archive is left to another time.
            let (Some(sha1), Some(entry), false) = (sha1, entry, inner.contains("::")) else { break };
            let mut known = Known { path: inner.clone(), ..Known::default() };
            known.take_entry(db, entry)?;
            let Some(to) = by_set(&known) else { break };
            let key = to.to_lowercase();
            if here.contains(&key) || repacks.given.contains(&key) || files.iter().any(|f: &TakeOut| f.to == to) {
                break;
            }
            files.push(TakeOut { name: inner, to, sha1 });
        }
        let count = all(db, "SELECT count(*) FROM member WHERE file = ?1", &[id.into()], |row| row[0].int())?;
        if files.is_empty() || count.first().copied() != Some(files.len() as i64) {
            repacks.stay.push(place.path(&path));
            continue;
        }
        repacks.given.extend(files.iter().map(|file| file.to.to_lowercase()));
        repacks.used.insert(path.clone());
        repacks.unpack.push(Unpack { place: place.root.clone(), from: path, bytes, modified, files });
    }
    Ok(repacks)
}

fn packed(db: &mut dyn Database, place: &Place, here: &HashSet<String>) -> decanter_core::Result<Repacks> {
    let mut repacks = Repacks::default();
    let sql = "SELECT f.path, f.size, f.modified, f.sha1, f.entry, e.game FROM file f JOIN entry e ON e.id = f.entry
        WHERE f.place = ?1 AND f.gone IS NULL AND f.trouble = 0 AND f.verdict IN (1, 2) AND f.through IS NULL
            AND f.sha1 IS NOT NULL AND f.holds = 0 ORDER BY e.id, f.path";
    let files = all(db, sql, &[place.id.into()], |row| {
        let file = PutIn {
            from: row[0].text(),
            name: String::new(),
            bytes: row[1].unsigned(),
            modified: row[2].int(),
            sha1: row[3].blob().map(hex).unwrap_or_default(),
        };
        (file, row[4].int(), row[5].int())
    })?;
    let mut games: BTreeMap<i64, Pack> = BTreeMap::new();
    for (mut file, entry, game) in files {
        let mut known = Known { path: "x.zip".to_owned(), is_around: true, ..Known::default() };
        known.take_entry(db, entry)?;
        known.is_around = true;
        let (Some(to), Some(entry)) = (by_set(&known), known.entry) else { continue };
        file.name = entry.replace('\\', "/");
        let pack = games.entry(game).or_insert_with(|| Pack { place: place.root.clone(), to, files: Vec::new() });
        // Of doubles, the first goes in.
        if !pack.files.iter().any(|other| other.name == file.name) {
            pack.files.push(file);
        }
    }
    for pack in games.into_values() {
        let key = pack.to.to_lowercase();
        let whole = |file: &PutIn| place.path(&file.from);
        if here.contains(&key) || !repacks.given.insert(key) {
            repacks.stay.extend(pack.files.iter().map(whole));
            continue;
        }
        repacks.used.extend(pack.files.iter().map(|file| file.from.clone()));
        repacks.pack.push(pack);
    }
    Ok(repacks)
}
