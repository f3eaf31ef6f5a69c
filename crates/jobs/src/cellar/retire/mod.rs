//! Originals are put away once it is proven that what is kept makes them again, byte for byte; and brought back.

mod back;
mod ways;

pub use back::{RestoreReport, restore};

use super::history::at;
use super::scan::{RETIRED, stamp};
use super::{broke, open};
use crate::below::Below;
use crate::{Failure, Setting};
use decanter_cellar::database::{all, together};
use decanter_cellar::files::{FileRow, agree};
use decanter_cellar::{Cellar, Place, Receipt, Value, now};
use decanter_core::blueprint::Blueprint;
use decanter_core::catalogue::{Sums, last_name};
use decanter_core::digest::{Algorithm, hex, of_source};
use decanter_core::names::stem_of;
use decanter_core::pour::{self, Output};
use decanter_core::source::{Bytes, FileSource, SourceRef};
use decanter_core::{Error, native, os};
use decanter_formats::time;
use serde::Serialize;
use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use ways::{Wanted, Way};

/// What came of it.
#[derive(Debug, Serialize)]
pub struct RetireReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The cellar.
    pub cellar: String,
    /// Originals that are put away.
    pub retired: Vec<Retired>,
    /// Originals that are kept, and why.
    pub kept: Vec<super::Unread>,
    /// Bytes that are free now, or will be.
    pub bytes: u64,
    /// Whether the originals are removed, and not moved aside.
    pub is_removed: bool,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// An original that was put away.
#[derive(Debug, Serialize)]
pub struct Retired {
    /// The path that it had.
    pub original: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// What makes it again.
    pub kept: String,
    /// How.
    pub how: String,
    /// Where it is; none if it was removed.
    pub aside: Option<String>,
    /// The receipt, as text.
    pub receipt: Option<String>,
}

/// Puts originals away, each once a way back is proven.
///
/// # Errors
/// When the cellar cannot be used, or the user stops. What cannot be made again is told and kept.
pub fn retire(sources: &[String], removes: bool, setting: &Setting<'_>) -> Result<RetireReport, Failure> {
    let mut cellar = open("use", setting)?;
    let fail = broke("cannot retire");
    let mut report = RetireReport {
        schema: "decanter.cellar-retire/1",
        cellar: cellar.location.shown(),
        retired: Vec::new(),
        kept: Vec::new(),
        bytes: 0,
        is_removed: removes,
        dry_run: setting.dry_run,
    };
    let originals = originals(sources, &mut report, setting)?;
    // What is to go makes nothing again.
    let leaving: HashSet<PathBuf> = originals.iter().cloned().collect();
    for original in &originals {
        setting.watch.begin(&format!("proving that {} can be made again", native::text(original)), None);
        let proven = prove(original, &leaving, &mut cellar, setting);
        setting.watch.end();
        let shown = native::text(original);
        match proven.map_err(&fail)? {
            Ok((receipt, way)) => match put_away(original, receipt, &way, removes, &mut cellar, setting) {
                Ok(retired) => {
                    report.bytes += retired.bytes;
                    report.retired.push(retired);
                }
                Err(e @ Error::Cancelled) => return Err(fail(e)),
                Err(e) => report.kept.push(super::Unread { path: shown, why: e.to_string() }),
            },
            Err(why) => report.kept.push(super::Unread { path: shown, why }),
        }
    }
    Ok(report)
}

/// The files that were named, and those in folders that were.
fn originals(sources: &[String], report: &mut RetireReport, setting: &Setting<'_>) -> Result<Vec<PathBuf>, Failure> {
    let mut originals = Vec::new();
    for source in sources {
        let paths = match setting.is_folder(source) {
            true => Below::with_parts(source, setting).files,
            false => vec![source.clone()],
        };
        for path in paths {
            match os::resolved(&native::path(&path)) {
                Ok(real) if real.is_file() => originals.push(real),
                Ok(_) => report.kept.push(super::Unread { path, why: "it is no file".into() }),
                Err(e) => {
                    let error = Error::io("open", &native::path(&path), e);
                    report.kept.push(super::Unread { path, why: error.to_string() });
                }
            }
        }
    }
    originals.dedup();
    Ok(originals)
}

/// Looks for something that makes an original again, and proves it by doing so; or says why it stays.
fn prove(
    original: &Path,
    leaving: &HashSet<PathBuf>,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> decanter_core::Result<Result<(Receipt, Way), String>> {
    let shown = native::text(original);
    let meta = std::fs::symlink_metadata(original).map_err(|e| Error::io("read", original, e))?;
    let before = stamp(&meta);
    let source: SourceRef = Arc::new(FileSource::own(original)?);
    let digests = of_source(&source, &[Algorithm::Sha1, Algorithm::Sha256], setting.watch)?;
    let [sha1, sha256] = &digests[..] else { return Ok(Err("it has no digests".into())) };
    let row = at(cellar.db.as_mut(), &shown)?;
    if let Some(row) = &row {
        let mut sums = Sums::default();
        sums.set(Algorithm::Sha1, &sha1.bytes);
        if row.sums.get(Algorithm::Sha1).is_some() && !agree(&row.sums, &sums) {
            return Ok(Err("it has changed since it was scanned".into()));
        }
    }
    let wanted = Wanted { size: source.len(), sha256: sha256.bytes.clone() };
    let mut tried = 0;
    for (kept, hint) in candidates(&shown, &sha1.bytes, row.as_ref(), cellar, setting)? {
        let Ok(real) = os::resolved(&native::path(&kept)) else { continue };
        // Another name of the same file is no copy.
        let is_same = std::fs::metadata(&real).is_ok_and(|m| {
            let id = os::device_and_number(&m);
            id.is_some() && id == os::device_and_number(&meta)
        });
        if leaving.contains(&real) || is_same {
            continue;
        }
        tried += 1;
        let Some(way) = ways::find(&kept, hint.as_deref(), &wanted, setting)? else { continue };
        let kept_source: SourceRef = Arc::new(FileSource::own(&real)?);
        let kept_digest = of_source(&kept_source, &[Algorithm::Sha256], setting.watch)?;
        if stamp(&std::fs::symlink_metadata(original).map_err(|e| Error::io("read", original, e))?) != before {
            return Ok(Err("it changes while it is looked at".into()));
        }
        let receipt = Receipt {
            id: 0,
            original: shown,
            size: wanted.size,
            sha256: wanted.sha256,
            modified: before.modified,
            mode: os::mode(&meta).map(i64::from),
            kept,
            kept_sha256: kept_digest.into_iter().next().map(|d| d.bytes).unwrap_or_default(),
            way: serde_json::to_string(&way).unwrap_or_default(),
            aside: None,
            made: now(),
        };
        return Ok(Ok((receipt, way)));
    }
    Ok(Err(match tried {
        0 => "nothing that is known makes it again".into(),
        _ => "what is kept of it does not make the same bytes".into(),
    }))
}

/// What may make an original again: files with its bytes, files that hold it, what jobs made of it, files that are called
/// like it.
fn candidates(
    original: &str,
    sha1: &[u8],
    row: Option<&FileRow>,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> decanter_core::Result<Vec<(String, Option<String>)>> {
    let db = cellar.db.as_mut();
    let places = Place::all(db)?;
    let path = |place: i64, below: &str| places.iter().find(|p| p.id == place).map(|p| p.path(below));
    let own = row.map_or(0, |row| row.id);
    let mut found: Vec<(String, Option<String>)> = Vec::new();
    let sql = "SELECT place, path FROM file WHERE sha1 = ?1 AND id <> ?2 AND gone IS NULL";
    let blob = || Value::Blob(sha1.to_vec());
    for (place, below) in all(db, sql, &[blob(), own.into()], |row| (row[0].int(), row[1].text()))? {
        found.extend(path(place, &below).map(|path| (path, None)));
    }
    let sql = "SELECT f.place, f.path, m.path FROM member m JOIN file f ON f.id = m.file
        WHERE m.sha1 = ?1 AND f.id <> ?2 AND f.gone IS NULL AND m.role = 0";
    let read = |row: &[Value]| (row[0].int(), row[1].text(), row[2].text());
    for (place, below, member) in all(db, sql, &[blob(), own.into()], read)? {
        if let Some(path) = path(place, &below) {
            let address = format!("{path}::{member}");
            found.push((path, Some(address)));
        }
    }
    let sql = "SELECT DISTINCT o.path FROM job_file i JOIN job_file o ON o.job = i.job
        WHERE i.is_output = 0 AND o.is_output = 1 AND (i.path = ?1 OR i.sha1 = ?2)";
    for path in all(db, sql, &[Value::Name(original.to_owned()), blob()], |row| row[0].text())? {
        found.push((path, None));
    }
    let stem = stem_of(last_name(original)).to_lowercase();
    for place in &places {
        decanter_core::watch::check(setting.watch)?;
        FileRow::each_here(db, place.id, &mut |id, below| {
            if id != own && stem_of(last_name(&below)).to_lowercase() == stem {
                found.push((place.path(&below), None));
            }
            Ok(())
        })?;
    }
    let mut seen = HashSet::new();
    found.retain(|one| one.0 != original && seen.insert(one.clone()));
    Ok(found)
}

/// Puts an original away; the receipt is kept before.
fn put_away(
    original: &Path,
    mut receipt: Receipt,
    way: &Way,
    removes: bool,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> decanter_core::Result<Retired> {
    let aside = if removes { None } else { Some(aside(original, cellar)?) };
    receipt.aside = aside.as_ref().map(native::text);
    let how = way.words(&receipt.kept);
    let mut retired = Retired {
        original: receipt.original.clone(),
        bytes: receipt.size,
        kept: receipt.kept.clone(),
        how: how.clone(),
        aside: receipt.aside.clone(),
        receipt: None,
    };
    if setting.dry_run {
        return Ok(retired);
    }
    let id = together(cellar.db.as_mut(), |db| receipt.keep(db))?;
    retired.receipt = Some(native::text(written(id, &receipt, &how, cellar, setting)?));
    match &aside {
        Some(aside) => pour::relocate(original, aside, setting.watch)?,
        None => pour::remove(original)?,
    }
    if let Some(row) = at(cellar.db.as_mut(), &receipt.original)? {
        together(cellar.db.as_mut(), |db| FileRow::set_gone(db, row.id))?;
    }
    Ok(retired)
}

/// The place of an original, and its path below that; its own folder, if it is in none.
fn place_of(original: &Path, cellar: &mut Cellar) -> decanter_core::Result<(PathBuf, PathBuf)> {
    let shown = native::text(original);
    let places = Place::all(cellar.db.as_mut())?;
    let place = places.iter().filter(|p| super::places::lies_in(&shown, &p.root)).max_by_key(|p| p.root.len());
    Ok(match place {
        Some(place) => {
            let root = native::path(&place.root);
            let below = original.strip_prefix(&root).unwrap_or(original).to_owned();
            (root, below)
        }
        None => {
            let folder = original.parent().unwrap_or(Path::new("/")).to_owned();
            (folder, original.file_name().map(PathBuf::from).unwrap_or_default())
        }
    })
}

/// Where an original is moved to: below its place, in a folder that no scan looks into.
fn aside(original: &Path, cellar: &mut Cellar) -> decanter_core::Result<PathBuf> {
    let (root, below) = place_of(original, cellar)?;
    let first = root.join(RETIRED).join(&below);
    let free = |path: &PathBuf| path.symlink_metadata().is_err();
    let numbered = (2..).map(|number| root.join(RETIRED).join(format!("{number}")).join(&below));
    Ok(std::iter::once(first.clone()).chain(numbered.take(10_000)).find(free).unwrap_or(first))
}

/// The receipt as text that names both files: in the folder of the cellar, or beside what was moved, if the cellar has none.
fn written(
    id: i64,
    receipt: &Receipt,
    how: &str,
    cellar: &mut Cellar,
    setting: &Setting<'_>,
) -> decanter_core::Result<PathBuf> {
    let folder = match cellar.location.folder() {
        Some(folder) => folder.to_owned(),
        None => place_of(&native::path(&receipt.original), cellar)?.0.join(RETIRED),
    };
    let aside = receipt.aside.as_deref().unwrap_or("removed");
    let text = format!(
        "original  {}\nbytes     {}\nSHA-256   {}\nkept      {}\nSHA-256   {}\nhow       {how}\naside     {aside}\n\
         retired   {} UTC\nback      decanter cellar restore --cellar {} {}\n",
        one_line(&receipt.original),
        receipt.size,
        hex(&receipt.sha256),
        one_line(&receipt.kept),
        hex(&receipt.kept_sha256),
        time::text(receipt.made),
        crate::quoted(&cellar.location.shown()),
        crate::quoted(&receipt.original),
    );
    let name = format!("{id:05} {}.txt", stem_of(last_name(&receipt.original)));
    let target = folder.join("receipts").join(native::path(&decanter_core::names::file_name(&name)));
    let blueprint = Blueprint::of(Arc::new(Bytes(text.into_bytes())));
    pour::pour(Output::new(&blueprint, &target), setting.door(), setting.watch)?;
    Ok(target)
}

/// A path in a text of lines: as it is, or spelled where it would not stay on its line.
fn one_line(path: &str) -> String {
    if path.chars().any(|c| c.is_control() || native::byte(c).is_some()) {
        crate::quoted(path)
    } else {
        path.to_owned()
    }
}
