//! Results onto a card or stick: what it cannot hold is told before the first byte, what was put there is read back.

mod card;
mod check;
mod layout;
mod manifest;

pub use card::Card;
pub use check::{CheckReport, Checked, CheckedState, check};
pub use layout::{LAYOUTS, Layout};
pub(crate) use manifest::Manifest;
pub use manifest::NAME as MANIFEST;

use crate::below::Below;
use crate::convert::table;
use crate::locate::INSIDE;
use crate::{Answer, Failure, Item, Setting, grouped, locate, place, quoted};
use decanter_core::blueprint::Blueprint;
use decanter_core::compare::first_difference;
use decanter_core::digest::{Algorithm, Digest, of_source};
use decanter_core::error::Blame;
use decanter_core::guard::Door;
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, FileSource, Source, SourceRef};
use decanter_core::{Error, Result, native, store, tell};
use serde::Serialize;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Misfits that are named.
const MOST_NAMED: usize = 10;

/// What is asked of a delivery.
pub struct Options {
    /// Where files go by what they are.
    pub layout: &'static Layout,
    /// An image of a card, whose limits are taken instead of those of the folder.
    pub like: Option<String>,
}

/// What was put on a card.
#[derive(Debug, Serialize)]
pub struct DeliverReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The folder.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub onto: PathBuf,
    /// What it can hold.
    pub card: Card,
    /// The files, in the order in which they were put there.
    pub files: Vec<Delivered>,
    /// Bytes of those that were not there already.
    pub bytes: u64,
    /// The list of what is there now.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub manifest: PathBuf,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// A file on a card.
#[derive(Debug, Serialize)]
pub struct Delivered {
    /// The source.
    pub source: String,
    /// Its path below the folder.
    pub path: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Whether it was there before, with the same bytes.
    pub was_there: bool,
}

/// A file that is to be put on a card.
pub(crate) struct Unit {
    /// The source, as it was typed.
    pub(crate) shown: String,
    /// Where it goes, below the card.
    pub(crate) path: String,
    pub(crate) source: SourceRef,
    /// Whether the same bytes stand there already.
    pub(crate) was_there: bool,
}

/// Puts sources onto a card.
///
/// # Errors
/// What the card cannot hold, all of it before the first byte; what reading or writing fails with.
pub fn deliver(
    sources: &[String],
    onto: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<(DeliverReport, Answer), Failure> {
    let what = format!("cannot deliver onto \"{}\"", native::text(onto));
    let fail = |e: Error| Failure::new(what.clone(), e);
    let card = Card::open(&what, onto, options.like.as_deref(), setting)?;
    let mut units = Vec::new();
    for source in sources {
        units.extend(units_of(source, options.layout, setting)?);
    }
    check_fit(&units, &card, onto, setting).map_err(|(why, hint)| Failure::usage(what.clone(), why).hint(hint))?;
    for unit in &mut units {
        unit.was_there = is_there(unit, onto, setting)?;
    }
    check_room(&units, &card, onto).map_err(|(why, hint)| Failure::usage(what.clone(), why).hint(hint))?;
    let list = Manifest::read(onto).map_err(|e| fail(e).hint("remove or mend that list, and deliver again"))?;
    let mut report = DeliverReport {
        schema: "decanter.deliver/1",
        onto: onto.to_owned(),
        card,
        files: Vec::new(),
        bytes: 0,
        manifest: onto.join(MANIFEST),
        dry_run: setting.dry_run,
    };
    let mut list = list.unwrap_or_default();
    let put = put_all(&units, onto, &mut list, &mut report, setting);
    // What is there is on the list, even if the rest could not be written.
    if !setting.dry_run && !report.files.is_empty() {
        let text = Blueprint::of(Arc::new(Bytes(list.text().into_bytes())));
        let door = Door { guard: &setting.guard, replace: true };
        setting.write_by(door, Output::new(&text, &report.manifest), &what)?;
    }
    put?;
    Ok((report, Answer::Yes))
}

/// The files of a source, each with its place.
fn units_of(shown: &str, layout: &Layout, setting: &Setting<'_>) -> std::result::Result<Vec<Unit>, Failure> {
    let fail = |e| Failure::new(format!("cannot deliver \"{shown}\""), e);
    let unit = |shown: String, path: String, source| Unit { shown, path, source, was_there: false };
    if setting.is_folder(shown) {
        let below = Below::with_parts(shown, setting);
        if let Some((path, error)) = below.failed.into_iter().next() {
            return Err(Failure::new(format!("cannot deliver \"{path}\""), error));
        }
        let top = shown.trim_end_matches('/');
        let name = store::name_of(top).to_owned();
        let mut units = Vec::new();
        for path in below.files {
            let rest = path.strip_prefix(top).unwrap_or(&path).trim_start_matches('/').to_owned();
            let source = setting.store(&path).open_later(&path).map_err(&fail)?;
            let place = if name.is_empty() || name == "." || name == ".." { rest } else { store::join(&name, &rest) };
            units.push(unit(path, place, source));
        }
        return Ok(units);
    }
    // A part of a split file is a file of its own here.
    let source = match shown.contains(INSIDE) {
        true => locate::bytes(shown, setting),
        false => setting.store(shown).open(shown),
    };
    let source = source.map_err(&fail)?;
    let name = decanter_core::catalogue::last_name(shown.rsplit(INSIDE).next().unwrap_or(shown)).to_owned();
    let folder = match layout.has_folders().then(|| locate::open(shown, "look at", setting)) {
        Some(Ok(item)) => layout.folder(&item),
        None => "",
        // Whatever is not understood goes to the top.
        Some(Err(failure)) if matches!(failure.blame(), Blame::Source | Blame::Key) => "",
        Some(Err(failure)) => return Err(failure),
    };
    Ok(vec![unit(shown.to_owned(), store::join(folder, &name), source)])
}

/// Why something does not fit, and what to do.
type Misfit = (String, String);

/// Whether the card can hold each of the files by itself: names and lengths.
fn check_fit(units: &[Unit], card: &Card, onto: &Path, setting: &Setting<'_>) -> std::result::Result<(), Misfit> {
    let (mut wrong, mut hint) = (Vec::new(), None);
    let mut names: HashMap<String, &str> = HashMap::new();
    for unit in units {
        if let Some(fault) = card.misnamed(&unit.path) {
            wrong.push(format!("\"{}\": {fault}", unit.path));
            hint.get_or_insert("rename what cannot be held there, and deliver again".to_owned());
        }
        let key = if card.folds_case() { unit.path.to_lowercase() } else { unit.path.clone() };
        if let Some(other) = names.insert(key, &unit.shown).filter(|other| *other != unit.shown) {
            wrong.push(format!("\"{other}\" and \"{}\" would both be {}", unit.shown, unit.path));
            hint.get_or_insert("rename one of them, and deliver again".to_owned());
        }
        if let Some(most) = card.largest_file.filter(|most| unit.source.len() > *most) {
            let (len, most) = (tell::size(unit.source.len()), tell::size(most));
            wrong.push(format!("\"{}\" has {len}, a file on {} has {most} at most", unit.path, card.file_system));
            hint.get_or_insert_with(|| how_to_split(&unit.shown, onto, setting));
        }
    }
    let Some(hint) = hint else { return Ok(()) };
    let more = wrong.len().saturating_sub(MOST_NAMED);
    wrong.truncate(MOST_NAMED);
    if more > 0 {
        wrong.push(format!("and {more} more"));
    }
    Err((wrong.join("\n  "), hint))
}

/// The command that makes parts of a file which the card can hold.
fn how_to_split(shown: &str, onto: &Path, setting: &Setting<'_>) -> String {
    let splits = |item: &Item| {
        let fits = |t: &&crate::convert::Target| t.has("split") && t.accepts(item).is_some();
        let own = table::target(item.opened.identity.format).filter(fits);
        own.or_else(|| table::target("iso").filter(fits)).map(|t| t.id)
    };
    let target = locate::open(shown, "look at", setting).ok().and_then(|item| splits(&item));
    let onto = quoted(&format!("{}/", native::text(onto).trim_end_matches('/')));
    match target {
        Some(id) => format!("decanter convert {} --to {id} --split 4GiB-1 -o {onto}", quoted(shown)),
        None => "take a card with exFAT or NTFS: nothing splits that file into parts that load".into(),
    }
}

/// Whether the same bytes stand there already.
///
/// # Errors
/// When other bytes do.
pub(crate) fn is_there(unit: &Unit, onto: &Path, setting: &Setting<'_>) -> std::result::Result<bool, Failure> {
    let target = target_of(onto, &unit.path);
    if std::fs::symlink_metadata(&target).is_err() {
        return Ok(false);
    }
    match same(&unit.source, &target, false, setting)
        .map_err(|e| Failure::new(format!("cannot compare \"{}\"", native::text(&target)), e))?
    {
        true => Ok(true),
        false if setting.replace => Ok(false),
        false => Err(place::refused(&target, Error::Exists { path: target.clone() })
            .hint("it is another file than the one to deliver: --replace puts the new one in its place")),
    }
}

/// Whether a file has the bytes of a source; read from the medium if it was just written.
///
/// # Errors
/// What reading fails with.
pub(crate) fn same(wanted: &SourceRef, path: &Path, is_new: bool, setting: &Setting<'_>) -> Result<bool> {
    let there = FileSource::own(path)?;
    if is_new {
        there.to_medium()?;
    }
    if there.len() != wanted.len() {
        return Ok(false);
    }
    setting.watch.begin(&format!("comparing {}", native::text(path)), Some(wanted.len()));
    let differs = first_difference(wanted.as_ref(), &there, setting.watch)?;
    setting.watch.end();
    Ok(differs.is_none())
}

/// The SHA-1 of a source, for a list.
///
/// # Errors
/// What reading fails with.
pub(crate) fn sha1(source: &SourceRef, setting: &Setting<'_>) -> Result<[u8; 20]> {
    as_sha1(&of_source(source, &[Algorithm::Sha1], setting.watch)?)
}

/// The one digest that was asked for: a SHA-1.
fn as_sha1(found: &[Digest]) -> Result<[u8; 20]> {
    let bytes = found.first().map(|digest| digest.bytes.as_slice());
    let sha1 = bytes.and_then(|bytes| bytes.try_into().ok());
    sha1.ok_or_else(|| Error::Unreadable { why: "its SHA-1 was not made".into() })
}

/// Where a path of the list stands on the card.
pub(crate) fn target_of(onto: &Path, path: &str) -> PathBuf {
    path.split('/').fold(onto.to_owned(), |at, name| at.join(native::os(name)))
}

/// Whether the card has room for what is not there yet.
fn check_room(units: &[Unit], card: &Card, onto: &Path) -> std::result::Result<(), Misfit> {
    let missing = || units.iter().filter(|u| !u.was_there).map(|u| u.source.len());
    let needed = Card::room_for(missing());
    match card.free_bytes.filter(|free| needed > *free) {
        None => Ok(()),
        Some(free) => Err((
            format!(
                "{} {} ({} bytes), {} are free",
                tell::count(missing().count() as u64, "file needs", "files need"),
                tell::size(needed),
                grouped(needed),
                tell::size(free)
            ),
            format!("make room in {}, take a larger card, or deliver fewer at once", quoted(&native::text(onto))),
        )),
    }
}

/// Writes what is not there yet, file by file.
fn put_all(
    units: &[Unit],
    onto: &Path,
    list: &mut Manifest,
    report: &mut DeliverReport,
    setting: &Setting<'_>,
) -> std::result::Result<(), Failure> {
    for unit in units {
        let target = target_of(onto, &unit.path);
        if !unit.was_there || !list.0.contains_key(&unit.path) {
            let digest = put(unit, &target, setting)?;
            if let Some(digest) = digest {
                list.0.insert(unit.path.clone(), digest);
            }
        }
        report.bytes += if unit.was_there { 0 } else { unit.source.len() };
        report.files.push(Delivered {
            source: unit.shown.clone(),
            path: unit.path.clone(),
            bytes: unit.source.len(),
            was_there: unit.was_there,
        });
    }
    Ok(())
}

/// Writes one file, reads it back, and says its SHA-1; of one that is there already only that.
///
/// # Errors
/// What reading or writing fails with; when what is read back has other bytes.
pub(crate) fn put(unit: &Unit, target: &Path, setting: &Setting<'_>) -> std::result::Result<Option<[u8; 20]>, Failure> {
    let fail = |e: Error| match e.blame() {
        Blame::Request => place::refused(target, e),
        _ => Failure::new(format!("cannot deliver \"{}\"", unit.shown), e),
    };
    if unit.was_there {
        return sha1(&unit.source, setting).map(Some).map_err(fail);
    }
    let blueprint = Blueprint::of(unit.source.clone());
    setting.watch.begin(&format!("writing {}", unit.path), Some(blueprint.len()));
    let output = Output::new(&blueprint, target).with_digests(&[Algorithm::Sha1]);
    let poured = setting.pour_one(output, setting.door(), &mut |path| {
        setting.watch.end();
        read_back(unit, path, setting)
    });
    setting.watch.end();
    let poured = poured.map_err(fail)?;
    poured.map(|p| as_sha1(&p.digests)).transpose().map_err(fail)
}

/// Fails unless what was written is what the source has, once it is on the medium.
fn read_back(unit: &Unit, path: &Path, setting: &Setting<'_>) -> Result<()> {
    let written = FileSource::own(path)?;
    written.to_medium()?;
    setting.watch.begin(&format!("reading {} back", unit.path), Some(unit.source.len()));
    let differs = first_difference(unit.source.as_ref(), &written, setting.watch)?;
    setting.watch.end();
    match differs {
        None => Ok(()),
        Some(at) => Err(Error::Checksum {
            what: format!("{}, read back from the card,", unit.path),
            expected: "the bytes of the source".into(),
            found: format!("other bytes from offset {at:#x} on: the card or its reader is failing; nothing was kept"),
        }),
    }
}
