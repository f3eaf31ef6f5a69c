//! Sets: brought in from DAT files, and everything held against them.

use super::{broke, open};
use crate::{Failure, Setting, locate};
use decanter_cellar::database::{all, together};
use decanter_cellar::dats::{self, Imported};
use decanter_cellar::status::{self, Counts, SetRow};
use decanter_cellar::{Cellar, Place, Value, files, matching};
use decanter_core::catalogue::Catalogue;
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::names::stem_of;
use decanter_core::{Error, watch};
use serde::Serialize;
use std::sync::Arc;

/// What came of it.
#[derive(Debug, Serialize)]
pub struct MatchReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// The DAT files that were brought in.
    pub dats: Vec<DatReport>,
    /// Files that were held against the sets.
    pub files: usize,
    /// Files that were read once more, for digests that these sets need.
    pub read_again: usize,
    /// What cannot be read for that.
    pub unread: Vec<super::Unread>,
    /// All sets.
    pub sets: Vec<SetRow>,
    /// What the whole collection has and lacks.
    pub counts: Counts,
}

/// A DAT file.
#[derive(Debug, Serialize)]
pub struct DatReport {
    /// Where it is.
    pub path: String,
    /// What it calls itself.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its games.
    pub games: usize,
    /// Its entries.
    pub entries: usize,
    /// `new`, `known`, or `older` where a newer version is kept.
    pub state: &'static str,
}

/// Brings DAT files in, and holds everything against all sets. With `replaces` older versions are not kept.
///
/// # Errors
/// When the cellar or a DAT file cannot be used, and then no DAT is brought in; when the user stops.
pub fn matches(paths: &[String], replaces: bool, setting: &Setting<'_>) -> Result<MatchReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot match");
    let mut opened = Vec::new();
    for path in paths {
        opened.push((path, dat(path, setting)?));
    }
    let mut told = Vec::new();
    let db = cellar.db.as_mut();
    if opened.iter().any(|(_, dat)| dat.catalogue.entries().len() > MANY) {
        db.widen().map_err(&fail)?;
    }
    setting.watch.begin("bringing sets in", None);
    let is_changed = together(db, |db| {
        let mut is_changed = false;
        for (path, dat) in &opened {
            watch::check(setting.watch)?;
            let state = dats::import(db, &dat.name, path, &dat.digest, &dat.catalogue, replaces)?;
            is_changed |= state != Imported::Known;
            told.push(DatReport {
                path: (*path).clone(),
                name: dat.name.clone(),
                version: dat.catalogue.version.clone(),
                games: dat.catalogue.games().len(),
                entries: dat.catalogue.entries().len(),
                state: match state {
                    Imported::New => "new",
                    Imported::Known => "known",
                    Imported::Older => "older",
                },
            });
        }
        if is_changed {
            matching::forget(db)?;
        }
        Ok(is_changed)
    })
    .map_err(&fail)?;
    setting.watch.end();
    let (read_again, unread) = if is_changed { complete(&mut cellar, setting)? } else { (0, Vec::new()) };
    let db = cellar.db.as_mut();
    setting.watch.begin("holding files against the sets", None);
    let files = matching::pending(db, &mut |_| watch::check(setting.watch)).map_err(&fail)?;
    setting.watch.end();
    Ok(MatchReport {
        schema: "decanter.cellar-match/1",
        cellar: cellar.location.shown(),
        dats: told,
        files,
        read_again,
        unread,
        sets: status::sets(db).map_err(&fail)?,
        counts: status::counts(db).map_err(&fail)?,
    })
}

/// Entries of one set that are worth more memory.
const MANY: usize = 100_000;

struct Dat {
    name: String,
    digest: Vec<u8>,
    catalogue: Arc<Catalogue>,
}

/// Opens a DAT file, and refuses one in which values are none: what is wrong there is not what the collection is held
/// against.
fn dat(path: &str, setting: &Setting<'_>) -> Result<Dat, Failure> {
    let what = || format!("cannot bring \"{path}\" in");
    let item = locate::open(path, "bring in", setting)?;
    let source = item.source.clone();
    let (Some(catalogue), Some(source)) = (item.opened.holds.catalogue.clone(), source) else {
        let why = format!("it is {}, and lists no files", crate::failure::with_article(&item.opened.identity.kind));
        return Err(Failure::usage(what(), why).hint("give a DAT file: XML, or the older text with parentheses"));
    };
    if let Some(odd) = &catalogue.first_odd {
        return Err(Failure::new(what(), Error::Unreadable { why: odd.clone() })
            .hint("correct the line, or fetch the DAT file again; the catalogue is as it was"));
    }
    let digests = of_source(&source, &[Algorithm::Sha256], setting.watch).map_err(|e| Failure::new(what(), e))?;
    let digest = digests.into_iter().next().map(|d| d.bytes).unwrap_or_default();
    let name = match catalogue.name.is_empty() {
        true => stem_of(decanter_core::catalogue::last_name(path)).to_owned(),
        false => catalogue.name.clone(),
    };
    Ok(Dat { name, digest, catalogue })
}

/// Reads files once more for digests that these sets know them by, where their length may be that of an entry.
fn complete(cellar: &mut Cellar, setting: &Setting<'_>) -> Result<(usize, Vec<super::Unread>), Failure> {
    let fail = broke("cannot match");
    let db = cellar.db.as_mut();
    let mut unread = Vec::new();
    let mut count = 0;
    let places = Place::all(db).map_err(&fail)?;
    let path_of = |place: i64, below: &str| places.iter().find(|p| p.id == place).map(|p| p.path(below));
    for algorithm in dats::more_digests(db).map_err(&fail)? {
        let name = algorithm.id();
        let fits =
            "size IN (SELECT size FROM entry UNION ALL SELECT -1) OR EXISTS (SELECT 1 FROM entry WHERE size IS NULL)";
        let files = format!(
            "SELECT id, place, path, NULL, 0 FROM file WHERE gone IS NULL AND {name} IS NULL AND sha1 IS NOT NULL AND ({fits})"
        );
        let members = format!(
            "SELECT m.id, f.place, f.path, m.path, 1 FROM member m JOIN file f ON f.id = m.file
             WHERE f.gone IS NULL AND m.{name} IS NULL AND m.sha1 IS NOT NULL AND m.role = 0 AND (m.{fits})"
        );
        let read = |row: &[Value]| (row[0].int(), row[1].int(), row[2].text(), row[3].maybe_text(), row[4].int() == 1);
        let mut wanted = all(db, &files, &[], read).map_err(&fail)?;
        wanted.extend(all(db, &members, &[], read).map_err(&fail)?);
        setting.watch.begin(&format!("reading for {}", algorithm.name()), None);
        for (id, place, below, member, is_member) in wanted {
            let Some(path) = path_of(place, &below) else { continue };
            let shown = member.map_or_else(|| path.clone(), |inner| format!("{path}::{inner}"));
            let digests =
                locate::bytes(&shown, setting).and_then(|source| of_source(&source, &[algorithm], setting.watch));
            match digests {
                Ok(digests) => {
                    let table = if is_member { "member" } else { "file" };
                    files::add_sums(db, table, id, &digests).map_err(&fail)?;
                    count += 1;
                }
                Err(Error::Cancelled) => return Err(fail(Error::Cancelled)),
                Err(e) => unread.push(super::Unread { path: shown, why: e.to_string() }),
            }
        }
        setting.watch.end();
    }
    Ok((count, unread))
}
