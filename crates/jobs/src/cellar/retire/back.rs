//! Originals that were put away come back: from where they were moved to, or made again.

use super::ways::{Wanted, Way, is_it};
use crate::cellar::{broke, open};
use crate::{Failure, Setting};
use decanter_cellar::Receipt;
use decanter_cellar::database::together;
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::{self, Output};
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, native, os};
use serde::Serialize;
use std::path::Path;
use std::sync::Arc;

/// What came of it.
#[derive(Debug, Serialize)]
pub struct RestoreReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The original, which is there again.
    pub original: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Whether it was moved back, and not made again.
    pub was_aside: bool,
    /// What it was made of, and how; where it was.
    pub from: String,
    /// Whether it was only tried.
    pub dry_run: bool,
}

/// Brings the original that had this path back to it.
///
/// # Errors
/// When something is there, no receipt names it, or what is kept does not make it any more.
pub fn restore(original: &str, setting: &Setting<'_>) -> Result<RestoreReport, Failure> {
    let what = format!("cannot restore \"{original}\"");
    let fail = |e| Failure::new(what.clone(), e);
    let mut cellar = open("use", setting)?;
    let path = whole(original);
    let shown = native::text(&path);
    if path.symlink_metadata().is_ok() {
        return Err(fail(Error::Exists { path }).hint("move what stands there to another place first"));
    }
    let receipts = Receipt::of(cellar.db.as_mut(), &shown).map_err(broke(&what))?;
    let Some(receipt) = receipts.into_iter().next() else {
        return Err(
            Failure::usage(what, "no receipt names it").hint("give the path that it had, as its receipt has it")
        );
    };
    let wanted = Wanted { size: receipt.size, sha256: receipt.sha256.clone() };
    let mut report = RestoreReport {
        schema: "decanter.cellar-restore/1",
        original: shown,
        bytes: receipt.size,
        was_aside: false,
        from: String::new(),
        dry_run: setting.dry_run,
    };
    if let Some(aside) = receipt.aside.as_deref().map(native::path)
        && is_whole(&aside, &wanted, setting).map_err(fail)?
    {
        report.was_aside = true;
        report.from = native::text(&aside);
        if !setting.dry_run {
            pour::relocate(&aside, &path, setting.watch).map_err(fail)?;
        }
    } else {
        let way: Way = serde_json::from_str(&receipt.way)
            .map_err(|_| fail(Error::Unreadable { why: "its receipt says no way that is known".into() }))?;
        report.from = way.words(&receipt.kept);
        make(&receipt, &way, &wanted, &path, setting).map_err(|e| {
            fail(e).hint(format!("it was to be made of {}: has that changed?", crate::quoted(&receipt.kept)))
        })?;
    }
    if !setting.dry_run {
        pour::set_file(&path, receipt.modified, receipt.mode.and_then(|m| u32::try_from(m).ok())).map_err(fail)?;
        together(cellar.db.as_mut(), |db| receipt.set_restored(db)).map_err(broke(&what))?;
    }
    Ok(report)
}

/// The path as a receipt has it: whole, and without links on the way to it.
fn whole(original: &str) -> std::path::PathBuf {
    let path = native::path(original);
    let path = std::path::absolute(&path).unwrap_or(path);
    let there = path.ancestors().skip(1).find_map(|a| Some((a, os::resolved(a).ok()?)));
    match there {
        Some((there, real)) => real.join(path.strip_prefix(there).unwrap_or(&path)),
        None => path,
    }
}

/// Whether what was moved aside is still what it was.
fn is_whole(aside: &Path, wanted: &Wanted, setting: &Setting<'_>) -> decanter_core::Result<bool> {
    if !aside.is_file() {
        return Ok(false);
    }
    let source: SourceRef = Arc::new(FileSource::own(aside)?);
    is_it(&source, wanted, setting)
}

/// Makes an original again: it gets its name once its bytes are proven.
fn make(
    receipt: &Receipt,
    way: &Way,
    wanted: &Wanted,
    target: &Path,
    setting: &Setting<'_>,
) -> decanter_core::Result<()> {
    let scratch = tempfile::tempdir_in(&setting.scratch).map_err(|e| Error::io("write", &setting.scratch, e))?;
    let source = way.source(&receipt.kept, scratch.path(), setting)?;
    let wrong = || Error::Damaged { what: "what is kept does not make the same bytes any more".into() };
    if source.len() != wanted.size {
        return Err(wrong());
    }
    if setting.dry_run {
        return if is_it(&source, wanted, setting)? { Ok(()) } else { Err(wrong()) };
    }
    let blueprint = Blueprint::of(source);
    setting.watch.begin("making the original again", Some(wanted.size));
    let poured = pour::pour_all(&[Output::new(&blueprint, target)], setting.door(), setting.watch, &mut |paths| {
        let made: SourceRef = Arc::new(FileSource::own(&paths[0])?);
        if is_it(&made, wanted, setting)? { Ok(()) } else { Err(wrong()) }
    });
    setting.watch.end();
    poured.map(|_| ())
}
