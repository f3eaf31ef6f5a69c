//! One entry of a plan, done: by its way, read back from the medium before it counts.

use super::plan::{Make, file_of};
use super::ways::{COPY, DECRYPT, EXTRACT, MERGE, staged};
use crate::convert::{self, Options, Target, outlook, table};
use crate::deliver::{self, Unit};
use crate::label;
use crate::locate::INSIDE;
use crate::merge::{self, Form};
use crate::{Answer, Failure, Item, Setting, decrypt, extract, locate};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::names::stem_of;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Result, native};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Edge of a picture on the sheet, in pixels.
const PICTURE: u32 = 96;

/// What was made.
#[derive(Debug, Clone, Serialize)]
pub struct Prepared {
    /// The source.
    pub source: String,
    /// Where it went, below the card.
    pub path: String,
    /// Its platform.
    pub platform: String,
    /// What it is called.
    pub title: String,
    /// What was done, one after the other.
    pub way: Vec<String>,
    /// What it keeps of its source, in words.
    pub keeps: &'static str,
    /// The files, with their SHA-1, in the order of their paths.
    pub files: Vec<PreparedFile>,
    /// Bytes of the source.
    pub bytes_before: u64,
    /// Bytes of the files.
    pub bytes_after: u64,
    /// What reading back has shown.
    pub proof: String,
    /// True when it stood there already.
    pub was_there: bool,
    /// What is left to do on the machine.
    pub then: String,
    /// What was noticed on the way.
    pub notices: Vec<String>,
    /// Its picture as a PNG, where it has one.
    #[serde(skip)]
    pub picture: Option<Vec<u8>>,
}

/// A file of a result.
#[derive(Debug, Clone, Serialize)]
pub struct PreparedFile {
    /// Its path below the card.
    pub path: String,
    /// Its length in bytes.
    pub bytes: u64,
    /// Its SHA-1, as hexadecimal digits.
    pub sha1: String,
    #[serde(skip)]
    pub(super) digest: [u8; 20],
}

/// What came of a way.
struct Made {
    files: Vec<PathBuf>,
    proof: String,
    answer: Answer,
    was_there: bool,
    notices: Vec<String>,
    picture: Option<Vec<u8>>,
}

impl Made {
    fn new(files: Vec<PathBuf>, proof: impl Into<String>) -> Self {
        Self { files, proof: proof.into(), answer: Answer::Yes, was_there: false, notices: Vec::new(), picture: None }
    }
}

/// Does one entry of a plan.
///
/// # Errors
/// When the source is another than it was, something else stands there, or what is read back is wrong.
pub(super) fn one(
    entry: &Make,
    onto: &Path,
    setting: &Setting<'_>,
) -> std::result::Result<(Prepared, Answer), Failure> {
    check_sources(entry, setting)?;
    let target = deliver::target_of(onto, &entry.path);
    let made = match entry.way.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        [COPY] => copy(entry, onto, &target, setting)?,
        [EXTRACT] => files(entry, &target, setting)?,
        [MERGE, form] => merged(entry, form, &target, setting)?,
        [DECRYPT] => decrypted(entry, &target, setting)?,
        [ref before @ .., last] => converted(entry, before, last, &target, setting)?,
        [] => return Err(Failure::usage("cannot follow the plan", "a way is empty")),
    };
    let files = if setting.dry_run { Vec::new() } else { listed(&made.files, onto, setting)? };
    let prepared = Prepared {
        source: entry.source.clone(),
        path: entry.path.clone(),
        platform: entry.platform.clone(),
        title: entry.title.clone(),
        way: entry.way.clone(),
        keeps: entry.keeps.words(),
        bytes_before: entry.bytes,
        bytes_after: files.iter().map(|file| file.bytes).sum(),
        files,
        proof: made.proof,
        was_there: made.was_there,
        then: entry.then.clone(),
        notices: made.notices,
        picture: made.picture,
    };
    Ok((prepared, made.answer))
}

/// Fails if a source is not the one that was planned.
fn check_sources(entry: &Make, setting: &Setting<'_>) -> std::result::Result<(), Failure> {
    for (source, bytes, modified) in entry.sources() {
        let what = || format!("cannot prepare \"{source}\"");
        let Some(found) = file_of(source, setting).map_err(|e| Failure::new(what(), e))? else {
            let host = source.split(INSIDE).next().unwrap_or(source);
            let error = Error::io("open", &native::path(host), std::io::ErrorKind::NotFound.into());
            return Err(
                Failure::new(what(), error).hint("it is not where it was when the plan was made: make the plan again")
            );
        };
        if found != (bytes, modified) && modified != 0 {
            let which = if source == entry.source { "it".into() } else { format!("its part \"{source}\"") };
            let why = format!("{which} was changed after the plan was made");
            return Err(Failure::usage(what(), why).hint("make the plan again"));
        }
    }
    Ok(())
}

/// Files on the card, each with its digest.
///
/// # Errors
/// What reading them fails with.
pub(super) fn listed(
    paths: &[PathBuf],
    onto: &Path,
    setting: &Setting<'_>,
) -> std::result::Result<Vec<PreparedFile>, Failure> {
    let mut files = Vec::new();
    for path in paths {
        let fail = |e| Failure::new(format!("cannot read \"{}\" back", native::text(path)), e);
        let source: SourceRef = Arc::new(FileSource::own(path).map_err(fail)?);
        let digest = deliver::sha1(&source, setting).map_err(fail)?;
        let below = path.strip_prefix(onto).unwrap_or(path);
        let sha1 = decanter_core::digest::hex(&digest);
        files.push(PreparedFile {
            path: decanter_core::os::with_slashes(native::text(below)),
            bytes: source.len(),
            sha1,
            digest,
        });
    }
    Ok(files)
}

/// The picture that a source carries, for the sheet.
fn picture(item: &Item) -> Option<Vec<u8>> {
    label::icon(item, PICTURE)
}

/// The same of a source that is not open; one that cannot be opened has none: what is made of it is proven by itself.
fn picture_of(entry: &Make, setting: &Setting<'_>) -> Option<Vec<u8>> {
    locate::open(&entry.source, "prepare", setting).ok().and_then(|item| picture(&item))
}

/// The source as it is.
fn copy(entry: &Make, onto: &Path, target: &Path, setting: &Setting<'_>) -> std::result::Result<Made, Failure> {
    let fail = |e| Failure::new(format!("cannot prepare \"{}\"", entry.source), e);
    let source = locate::bytes(&entry.source, setting).map_err(fail)?;
    let mut unit = Unit { shown: entry.source.clone(), path: entry.path.clone(), source, was_there: false };
    unit.was_there = deliver::is_there(&unit, onto, setting)?;
    if !unit.was_there {
        setting.owes(&unit.source);
        deliver::put(&unit, target, setting)?;
    }
    let proof = if unit.was_there { "compared with the source: identical" } else { "read back: identical" };
    let picture = picture_of(entry, setting);
    Ok(Made { was_there: unit.was_there, picture, ..Made::new(vec![target.to_owned()], proof) })
}

/// Its files.
fn files(entry: &Make, target: &Path, setting: &Setting<'_>) -> std::result::Result<Made, Failure> {
    let fail = |e| Failure::new(format!("cannot prepare \"{}\"", entry.source), e);
    let mut item = locate::open(&entry.source, "prepare", setting)?;
    item.opened.look_inside().map_err(fail)?;
    let (report, answer, was_there) = extract::extract_into(&item, target.to_owned(), setting)?;
    let mut made = Made::new(Vec::new(), "");
    (made.answer, made.was_there, made.picture) = (answer, was_there, picture(&item));
    made.notices = report.left_out.iter().map(|left| format!("{} was left out: {}", left.path, left.why)).collect();
    if setting.dry_run {
        return Ok(made);
    }
    let written = locate::open(&native::text(target), "read back", setting)?;
    let found = written.opened.holds.tree.unwrap_or_default();
    made.files = found.files().map(|(node, _)| deliver::target_of(target, &node.path)).collect();
    for file in &made.files {
        FileSource::own(file).and_then(|written| written.to_medium()).map_err(fail)?;
    }
    made.proof = match (&item.opened.holds.tree, report.renamed.is_empty() && report.left_out.is_empty()) {
        (Some(wanted), true) => {
            let count = convert::same_files(wanted, &found, setting).map_err(fail)?;
            format!("read back: all {count} files are identical")
        }
        // What has another name is not looked for under it; each was checked while it was written.
        _ => format!("{} files were written, some under other names", made.files.len()),
    };
    Ok(made)
}

/// The same without its encryption.
fn decrypted(entry: &Make, target: &Path, setting: &Setting<'_>) -> std::result::Result<Made, Failure> {
    let item = locate::open(&entry.source, "prepare", setting)?;
    let Some(clear) = item.opened.protection.as_ref().and_then(|p| p.clear.clone()) else {
        return Err(no_longer(entry));
    };
    let picture = picture(&item);
    let fail = |e| Failure::new(format!("cannot prepare \"{}\"", entry.source), e);
    if std::fs::symlink_metadata(target).is_ok() && !setting.replace {
        return match clear_holds(&clear, target, false, setting).map_err(fail)? {
            Some(proof) => Ok(Made { was_there: true, picture, ..Made::new(vec![target.to_owned()], proof) }),
            None => Err(other_there(target)),
        };
    }
    let (report, answer) = decrypt::write(&item, target, &[], None, false, setting)?;
    let mut made = Made { answer, picture, ..Made::new(vec![target.to_owned()], "") };
    made.notices = report.notices.into_iter().map(|n| n.text).collect();
    if !setting.dry_run {
        let proof = clear_holds(&clear, target, true, setting).map_err(fail)?;
        made.proof = proof.ok_or_else(|| not_as_written(target))?;
    }
    Ok(made)
}

/// What shows that a file is a decrypted source; `None` if it is not. What is computed in the end is held against the digests that
/// the file carries of itself.
fn clear_holds(clear: &Blueprint, target: &Path, is_new: bool, setting: &Setting<'_>) -> Result<Option<String>> {
    if let Ok(wanted) = clear.as_source() {
        let words = "read back: identical to the decrypted source";
        return Ok(deliver::same(&wanted, target, is_new, setting)?.then(|| words.to_owned()));
    }
    let there = FileSource::own(target)?;
    if is_new {
        there.to_medium()?;
    }
    if decanter_core::Source::len(&there) != clear.len() {
        return Ok(None);
    }
    let item = locate::open_bytes(&native::text(target), Arc::new(there), setting)?;
    let count = crate::verify::prove(&item.opened, setting)?;
    Ok(Some(format!("read back: all {count} digests in it hold")))
}

fn other_there(target: &Path) -> Failure {
    crate::place::refused(target, Error::Exists { path: target.to_owned() })
        .hint("it is another file than the one of the plan: --replace puts the new one in its place")
}

fn not_as_written(target: &Path) -> Failure {
    let what = format!("\"{}\", read back,", native::text(target));
    let (expected, found) =
        ("the bytes that were written".into(), "other ones: the card or its reader is failing".into());
    Failure::new("cannot keep what was written", Error::Checksum { what, expected, found })
}

fn no_longer(entry: &Make) -> Failure {
    let what = format!("cannot prepare \"{}\"", entry.source);
    Failure::usage(what, format!("it does not become that any more: {}", entry.way.join(", then ")))
        .hint("make the plan again; keys are given with --keys, as they were for the plan")
}

/// A file on the card, opened with the keys of what it is made of: they lie beside that, not on the card.
fn with_keys_of(entry: &Make, target: &Path, setting: &Setting<'_>) -> std::result::Result<Item, Failure> {
    let like = locate::open(&entry.source, "compare", setting)?;
    let fail = |e| Failure::new(format!("cannot compare \"{}\"", native::text(target)), e);
    let source: SourceRef = Arc::new(FileSource::own(target).map_err(fail)?);
    let names = [stem_of(&target.file_name().map(native::text).unwrap_or_default())];
    let opened = setting.opener(&like.keyring).with_names(&names).open(source.clone());
    let opened = opened.map_err(|e| match e.blame() {
        // What cannot be read is not what was made.
        Blame::Source => other_there(target),
        _ => fail(e),
    })?;
    Ok(like.with_source(source, opened))
}

/// The parts of a title in one file.
fn merged(entry: &Make, form: &str, target: &Path, setting: &Setting<'_>) -> std::result::Result<Made, Failure> {
    let form = [Form::Nsp, Form::Xci].into_iter().find(|f| f.id() == form).ok_or_else(|| no_longer(entry))?;
    let sources: Vec<String> = entry.sources().map(|(source, ..)| source.to_owned()).collect();
    if std::fs::symlink_metadata(target).is_ok() && !setting.replace {
        let item = with_keys_of(entry, target, setting)?;
        if !merge::is_made_of(&item.opened, &sources, setting)? {
            return Err(other_there(target));
        }
        let count = crate::verify::prove(&item.opened, setting)
            .map_err(|e| Failure::new(format!("cannot keep \"{}\"", native::text(target)), e))?;
        let proof = format!("it holds the titles of these sources, and all {count} digests in it hold");
        return Ok(Made { was_there: true, picture: picture(&item), ..Made::new(vec![target.to_owned()], proof) });
    }
    let options = merge::Options { prove: true, ..merge::Options::default() };
    let (report, answer) = merge::merge(&sources, form, Some(target), &options, setting)?;
    let result = report.results.first();
    let notices = result.map(|r| r.notices.iter().map(|n| n.text.clone()).collect()).unwrap_or_default();
    let proof = result
        .and_then(|r| r.proven.as_ref())
        .map(|p| format!("read back: all {} digests in it hold", p.digests))
        .unwrap_or_default();
    let picture = picture_of(entry, setting);
    Ok(Made { answer, notices, picture, ..Made::new(vec![target.to_owned()], proof) })
}

/// Another form, perhaps of what stages before it make.
fn converted(
    entry: &Make,
    before: &[&str],
    last: &str,
    target: &Path,
    setting: &Setting<'_>,
) -> std::result::Result<Made, Failure> {
    let form: &'static Target = table::target(last).ok_or_else(|| no_longer(entry))?;
    let words: Vec<(&str, &str)> = entry.with.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
    let given = table::chosen(&words).map_err(|why| Failure::usage("cannot follow the plan", why))?;
    let options = Options { given, prove: true, ..Options::default() };
    let mut item = match before {
        [] => convert::open_for(form, &entry.source, &options, setting)?,
        _ => locate::open(&entry.source, "prepare", setting)?,
    };
    let picture = picture(&item);
    for word in before {
        let fail = |e| Failure::new(format!("cannot prepare \"{}\"", entry.source), e);
        item = staged(&item, word, setting).map_err(fail)?.ok_or_else(|| no_longer(entry))?;
    }
    if form.accepts(&item).is_none() {
        return Err(match item.opened.closed_by() {
            Some(trouble) => Failure::new(format!("cannot prepare \"{}\"", entry.source), trouble.clone().into()),
            None => no_longer(entry),
        });
    }
    if !setting.replace
        && let Some((how, answer)) = outlook::is_there(&item, form, target, &options, setting)?
    {
        let files = outlook::files(&item, form, target, &options, setting)?;
        return Ok(Made { answer, was_there: true, picture, ..Made::new(files, how) });
    }
    let (report, answer) = convert::make(&item, form, target, &options, setting)?;
    let proof = report.proven.map(|proof| proof.words).unwrap_or_default();
    let notices = report.notices.into_iter().map(|n| n.text).collect();
    let files = report.files.into_iter().map(|file| file.path).collect();
    Ok(Made { answer, picture, notices, ..Made::new(files, proof) })
}
