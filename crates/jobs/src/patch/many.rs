//! Many patches, each with the file that it is for: found by its checksums, or by its name where the format has none.

use super::apply::{named, patched};
use super::{ApplyReport, Options, Side, apply, open, open_file};
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn};
use crate::{Answer, Failure, Setting, locate, place};
use decanter_core::compare::first_difference;
use decanter_core::names::stem_of;
use decanter_core::role::Role;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, store};
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

/// What is to be done with what was given.
pub enum Work {
    /// A file is patched, with one patch after the other.
    One {
        /// The file.
        file: String,
        /// The patches, in their order.
        patches: Vec<String>,
    },
    /// Every patch is applied to the file that it is for.
    Many(Pairs),
}

/// Patches, and files that may be patched.
pub struct Pairs {
    search: Search,
    /// The file of a patch, or why there is none.
    files: HashMap<String, Result<Fit, Failure>>,
}

/// What a patch is for.
#[derive(Debug, Clone)]
struct Fit {
    address: String,
    /// The form of the ROM that it expects, if it is another one than that of the file.
    form: Option<&'static str>,
}

/// A file that may be patched.
struct Candidate {
    address: String,
    stem: String,
    /// Its length and CRC-32.
    side: Side,
    /// The same of the ROM's other forms.
    forms: Vec<(&'static str, Side)>,
}

/// Finds out whether one file is patched or many: a file and patches, or files, folders and archives with both.
///
/// # Errors
/// When there is nothing to do, what is given makes no sense, or the user stops it.
pub fn sort_out(words: &[String], options: &Options, how: How, setting: &Setting<'_>) -> Result<Work, Failure> {
    let fail = |e| Failure::new("cannot patch", e);
    let is_plain = words.iter().all(|word| !setting.is_folder(word)) && !how.is_listed;
    if let [file, patches @ ..] = words
        && is_plain
        && !patches.is_empty()
        && !is_patch(file, setting)
        && (patches.iter().all(|patch| is_patch(patch, setting) || !is_there(patch, setting))
            || !patches.iter().any(|patch| is_patch(patch, setting)))
    {
        return Ok(Work::One { file: file.clone(), patches: patches.to_vec() });
    }
    if let ([file], true) = (words, is_plain) {
        return Err(Failure::usage(format!("cannot patch \"{file}\""), "no patch is given")
            .hint("the file that is patched comes first, then the patches; a folder with both does, too"));
    }
    if options.form.is_some() {
        return Err(Failure::usage("cannot patch several files", "--as says which form of one ROM is patched")
            .hint("leave it out: each patch is held against all forms"));
    }
    let takes = |role: Role| role.is_dump() || matches!(role, Role::Patch | Role::Program);
    let taste = Taste { takes_roms_apart: true, ..Taste::of(takes) };
    let mut search = Search::of(words, &taste, how.is_listed, setting).map_err(fail)?;
    let (patches, others): (Vec<Found>, Vec<Found>) =
        std::mem::take(&mut search.found).into_iter().partition(|found| is_patch(&found.address, setting));
    if patches.is_empty() {
        return Err(Failure::usage("cannot patch", "there is no patch among what was given")
            .hint("IPS, UPS and BPS patches are read"));
    }
    let mut candidates = Vec::new();
    for found in &others {
        decanter_core::watch::check(setting.watch).map_err(fail)?;
        match Candidate::of(&found.address, setting) {
            Ok(candidate) => candidates.push(candidate),
            Err(f) if matches!(*f.cause, Error::Cancelled) => return Err(f),
            Err(failure) => search.failed.push((found.address.clone(), failure)),
        }
    }
    let files =
        patches.iter().map(|p| (p.address.clone(), file_for(&p.address, &candidates, options, setting))).collect();
    search.found = patches;
    Ok(Work::Many(Pairs { search, files }))
}

/// Applies each patch to its file; `tell` is given every row in the order of patches.
///
/// # Errors
/// When no folder is given. What fails is a row.
pub fn apply_each<E>(
    pairs: Pairs,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<ApplyReport>) -> Result<(), E>,
) -> Result<Result<ShelfReport<ApplyReport>, E>, Failure> {
    let Pairs { mut search, files } = pairs;
    let output = shelf::folder(output, "patch", &search)?;
    let mut report = ShelfReport::new("decanter.patch-apply-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, turn: &Turn<'_>| -> Result<Outcome<ApplyReport>, Failure> {
        let patches = std::slice::from_ref(&found.address);
        let fit = match files.get(&found.address) {
            Some(Ok(fit)) => fit,
            Some(Err(why)) => return Err(why.again()),
            None => return Err(Failure::usage("cannot patch", "it has no file")),
        };
        let options = &Options { form: fit.form.map(str::to_owned), ..options.clone() };
        let (item, _) = open_file(&fit.address, "patch", setting)?;
        let target = place::file(Some(&shelf::place(output, found)), &named(&item, patches, options));
        let target = turn.claim(shelf::apart(target, &last_extension(&found.address)))?;
        if !setting.replace && std::fs::symlink_metadata(&target).is_ok() {
            return there(&target, fit, patches, options, setting);
        }
        let report = apply(&fit.address, patches, Some(&target), options, setting)?;
        let after = report.bytes;
        let before = item.source.map_or(0, |s| s.len());
        Ok(Outcome::Done(Done { report, answer: Answer::Yes, before, after }))
    };
    Ok(shelf::run(&search.found, "patching", setting, &one, &mut report, tell).map(|()| report))
}

/// What stands under the name of a result, held against it byte by byte.
fn there<R>(
    target: &Path,
    fit: &Fit,
    patches: &[String],
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Outcome<R>, Failure> {
    setting.guard.check(target).map_err(|e| place::refused(target, e))?;
    let result = patched(&fit.address, patches, options, setting)?;
    let fail = |e| Failure::new(format!("cannot patch \"{}\"", fit.address), e);
    let found: SourceRef = Arc::new(FileSource::own(target).map_err(fail)?);
    let differs = first_difference(result.as_ref(), found.as_ref(), setting.watch).map_err(fail)?;
    match differs.is_none() && result.len() == found.len() {
        true => Ok(Outcome::Present("it is what the patch leads to, byte by byte".into())),
        false => Err(place::refused(target, Error::Exists { path: target.to_owned() })
            .hint("it is not what the patch leads to: --replace makes it anew, -o takes another folder")),
    }
}

/// What an address ends with, after its last point.
fn last_extension(address: &str) -> String {
    address.rsplit_once('.').map_or(String::new(), |(_, extension)| extension.to_owned())
}

impl Candidate {
    fn of(address: &str, setting: &Setting<'_>) -> Result<Self, Failure> {
        let (item, source) = open_file(address, "patch", setting)?;
        let fail = |e| Failure::new(format!("cannot read \"{address}\""), e);
        let side = Side::of_source(&source, setting).map_err(fail)?;
        let stem = stem_of(store::name_of(item.address.rsplit(locate::INSIDE).next().unwrap_or(address)));
        let rom = locate::open(address, "patch", setting).ok().and_then(|item| item.opened.holds.rom);
        let others = rom.iter().flat_map(|rom| rom.forms.iter().filter(|form| form.id != rom.form));
        let forms = others.map(|form| Ok((form.id, Side::of_source(&form.source, setting)?)));
        let forms = forms.collect::<decanter_core::Result<_>>().map_err(fail)?;
        Ok(Self { address: address.to_owned(), stem, side, forms })
    }

    /// How it fits what a patch expects, if it does.
    fn fit(&self, wanted: Side) -> Option<Fit> {
        let form = match wanted.fits(self.side) {
            true => None,
            false => Some(self.forms.iter().find(|(_, side)| wanted.fits(*side))?.0),
        };
        Some(Fit { address: self.address.clone(), form })
    }
}

/// What a patch is for. Copies of the same file are as good as each other; the one with the patch's own name is meant.
fn file_for(patch: &str, all: &[Candidate], options: &Options, setting: &Setting<'_>) -> Result<Fit, Failure> {
    let (_, opened) = open(patch, "apply", setting)?;
    let wanted: Side = if options.undo { opened.target().into() } else { opened.source().into() };
    let what = format!("cannot apply \"{patch}\"");
    let stem = stem_of(store::name_of(patch.rsplit(locate::INSIDE).next().unwrap_or(patch))).to_lowercase();
    let named: Vec<&Candidate> = all.iter().filter(|c| c.stem.to_lowercase() == stem).collect();
    if wanted.crc32.is_some() {
        let fit = named.iter().copied().chain(all).find_map(|candidate| candidate.fit(wanted));
        return fit.ok_or_else(|| {
            let why = format!("no file that was given has {}, which it expects", wanted.words());
            Failure::usage(what, why).hint("give the file that it is for, too")
        });
    }
    let apply = format!("decanter patch apply FILE {}", crate::quoted(patch));
    match named[..] {
        [] => Err(Failure::usage(what, "it has no checksums, and no file that was given has its name")
            .hint(format!("call it as the file that it is for, or name both: {apply}"))),
        [first, ..] if named.iter().all(|c| c.side == first.side) => {
            Ok(Fit { address: first.address.clone(), form: None })
        }
        _ => Err(Failure::usage(what, "it has no checksums, and several files that were given have its name")
            .hint(format!("say which it is for: {apply}"))),
    }
}

fn is_patch(address: &str, setting: &Setting<'_>) -> bool {
    let source = locate::open_lightly(address, "apply", &setting.for_one(setting.watch));
    source.is_ok_and(|item| item.opened.identity.role == Role::Patch)
}

fn is_there(address: &str, setting: &Setting<'_>) -> bool {
    locate::bytes(address, &setting.for_one(setting.watch)).is_ok()
}
