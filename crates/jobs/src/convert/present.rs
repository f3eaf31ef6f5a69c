//! Results that are there already: a run that goes on after an interruption does not make them again.

use super::laid::Laid;
use super::made::{Back, Made};
use super::target::Target;
use super::{Options, packed, prove, shared};
use crate::{Answer, Failure, Item, Setting, grouped, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Opened, tell};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Whether the result is there already, and how that is known; `None` where nothing stands under its name.
///
/// A result has its name only once it is complete. So it is enough that what stands there is of the right kind and has the
/// right length; with `--prove` all of it is compared.
///
/// # Errors
/// When something else has its name.
pub(super) fn is_there(
    item: &Item,
    target: &Target,
    main: &Path,
    options: &Options,
    setting: &Setting<'_>,
) -> Result<Option<(String, Answer)>, Failure> {
    let split = target.splits_into_folder && options.given.split(&shared::SPLIT).is_some() && main.is_dir();
    let first = |path: &Path| std::fs::symlink_metadata(path).is_ok();
    let part = PathBuf::from(format!("{}.0", main.display()));
    if !split && !first(main) && !first(&part) && !first(&main.with_extension("even")) {
        return Ok(None);
    }
    // Damage that is kept is told again; a damaged source that may not be has no result.
    let laid = match options.keep_damage {
        true => Laid::of(item, target, options, setting)?,
        false => Laid::unasked(item, target, options, setting)?,
    };
    let outputs = laid.outputs(main)?;
    if !outputs.iter().any(|(_, path)| first(path)) {
        return Ok(None);
    }
    let other = |why: String| {
        let error = Error::Exists { path: main.to_owned() };
        place::refused(main, error).hint(format!("{why}: --replace makes it anew, -o takes another folder"))
    };
    for (_, path) in &outputs {
        setting.guard.check(path).map_err(|e| place::refused(path, e))?;
        if !path.is_file() {
            return Err(other(format!("\"{}\" belongs to it and is not there", path.display())));
        }
    }
    let mains: Vec<PathBuf> = (outputs.iter().map(|(_, path)| path.clone()))
        .take(outputs.len() - usize::from(laid.made.beside.is_some()))
        .collect();
    if options.prove {
        return match prove::prove(&laid.made.back, &mains, options.given.split(&shared::SPLIT), item, setting) {
            Ok(proof) => Ok(Some((proof.words, laid.answer()))),
            Err(e @ Error::Cancelled) => Err(Failure::new("cannot convert", e)),
            Err(e) => Err(other(format!("it is not the result of this source ({e})"))),
        };
    }
    match fits(&laid.made, &outputs, item, setting) {
        Ok(how) => Ok(Some((how, laid.answer()))),
        Err(Error::Cancelled) => Err(Failure::new("cannot convert", Error::Cancelled)),
        Err(e) => Err(other(format!("it is not the result of this source ({e})"))),
    }
}

/// Whether files have the lengths that the result has; where that is not known before, whether what they hold has.
fn fits(made: &Made, outputs: &[(Blueprint, PathBuf)], item: &Item, setting: &Setting<'_>) -> Result<String, Error> {
    for (blueprint, path) in outputs.iter().filter(|(b, _)| b.packed_part().is_none()) {
        let len = std::fs::metadata(path).map_err(|e| Error::io("read", path, e))?.len();
        same("bytes", blueprint.len(), len)?;
    }
    let Some((_, path)) = outputs.iter().find(|(b, _)| b.packed_part().is_some()) else {
        return Ok("its length is right; --prove compares all of it".into());
    };
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    let names = [item.stem.clone()];
    let opened = setting.opener(&item.keyring).with_names(&names).open(source.clone())?;
    if let Some(damage) = opened.told.notices.iter().find(|n| n.is_damage) {
        return Err(Error::Damaged { what: damage.text.clone() });
    }
    let (wanted, found) = lens(&made.back, &opened, &source);
    same("bytes inside", wanted, found)?;
    Ok(format!("what it holds has the right length, {}; --prove compares all of it", tell::size(wanted)))
}

/// Bytes that a result should hold, and those that it does.
fn lens(back: &Back, opened: &Opened, file: &SourceRef) -> (u64, u64) {
    let tracks = || opened.holds.tracks.iter().map(|t| t.source.len()).sum::<u64>();
    let content = || packed::content(opened).map_or(file.len(), |content| content.len());
    match back {
        Back::Bytes(wanted) | Back::RawSectors(wanted, ..) => (wanted.len(), content()),
        Back::Tracks(wanted) => (wanted.iter().map(|t| t.source.len()).sum(), tracks()),
        Back::Files(wanted) => {
            let sum = |tree: &decanter_core::tree::Tree| tree.files().map(|(_, f)| f.len).sum::<u64>();
            (sum(wanted), opened.holds.tree.as_ref().map_or(0, sum))
        }
        Back::Rom(body) => (body.len(), opened.holds.rom.as_ref().map_or(file.len(), |rom| rom.body.len())),
        Back::Seals => (file.len(), opened.extent.promised_len.unwrap_or(file.len())),
    }
}

fn same(what: &str, wanted: u64, found: u64) -> Result<(), Error> {
    match wanted == found {
        true => Ok(()),
        false => Err(Error::Usage(format!("{} {what}, {} would be right", grouped(found), grouped(wanted)))),
    }
}
