//! Results that are there already: a run that goes on after an interruption does not make them again.

use super::laid::Laid;
use super::made::{Back, Made};
use super::target::Target;
use super::{Options, packed, prove, shared};
use crate::shelf::{compared, is_same};
use crate::{Answer, Failure, Item, Setting, grouped, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::source::{FileSource, SourceRef};
use decanter_core::{Error, Opened};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Whether the result is there already, and how that is known; `None` where nothing stands under its name.
///
/// A result has its name only once it is complete. So it is asked whether what stands there is this one: short ones are compared
/// byte by byte, long ones at many places; with `--prove` all of it is.
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
    let part = native::path(&format!("{}.0", native::text(main)));
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
            return Err(other(format!("\"{}\" belongs to it and is not there", native::text(path))));
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

/// Holds what stands there against the result: its bytes where those are known before, else what it holds.
fn fits(made: &Made, outputs: &[(Blueprint, PathBuf)], item: &Item, setting: &Setting<'_>) -> Result<String, Error> {
    let differs = || Err(Error::Usage("it has other bytes".into()));
    let mut longest = 0;
    for (blueprint, path) in outputs.iter().filter(|(b, _)| b.packed_part().is_none()) {
        let found: SourceRef = Arc::new(FileSource::own(path)?);
        same("bytes", blueprint.len(), found.len())?;
        longest = longest.max(found.len());
        // What has parts that are computed in the end is not computed for this; what it holds is looked at below.
        if let Ok(wanted) = blueprint.as_source()
            && !is_same(wanted.as_ref(), found.as_ref(), setting.watch)?
        {
            return differs();
        }
    }
    let whole =
        |(blueprint, _): &&(Blueprint, PathBuf)| blueprint.packed_part().is_some() || blueprint.as_source().is_err();
    let Some((_, path)) = outputs.iter().find(whole) else { return Ok(compared(longest).into()) };
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    let names = [item.stem.clone()];
    let opened = setting.opener(&item.keyring).with_names(&names).open(source.clone())?;
    if let Some(damage) = opened.told.notices.iter().find(|n| n.is_damage) {
        return Err(Error::Damaged { what: damage.text.clone() });
    }
    let pairs = pairs(&made.back, &opened, &source)?;
    for (wanted, found) in &pairs {
        same("bytes inside", wanted.len(), found.len())?;
        if !is_same(wanted.as_ref(), found.as_ref(), setting.watch)? {
            return differs();
        }
    }
    match pairs.iter().map(|(wanted, _)| wanted.len()).max() {
        Some(len) => Ok(compared(len).into()),
        None => Ok("it is as long as the result of this source; --prove checks every digest in it".into()),
    }
}

/// What should be in a result, with what is.
fn pairs(back: &Back, opened: &Opened, file: &SourceRef) -> Result<Vec<(SourceRef, SourceRef)>, Error> {
    let content = || packed::content(opened).unwrap_or_else(|| file.clone());
    Ok(match back {
        Back::Bytes(wanted) => vec![(wanted.clone(), content())],
        Back::Rom(body) => {
            vec![(body.clone(), opened.holds.rom.as_ref().map_or_else(|| file.clone(), |rom| rom.body.clone()))]
        }
        Back::Tracks(wanted) => {
            same("tracks", wanted.len() as u64, opened.holds.tracks.len() as u64)?;
            wanted.iter().zip(&opened.holds.tracks).map(|(a, b)| (a.source.clone(), b.source.clone())).collect()
        }
        Back::Files(wanted) => {
            let missing = |path: &str| Error::Usage(format!("{path} is not in it"));
            let file = |path: &str| -> Result<SourceRef, Error> {
                let node = opened.holds.tree.as_ref().and_then(|tree| tree.find(path)).ok_or_else(|| missing(path))?;
                node.file().ok_or_else(|| missing(path))?.source().cloned()
            };
            let pair = |(node, own): (&decanter_core::Node, &decanter_core::tree::File)| {
                Ok((own.source()?.clone(), file(&node.path)?))
            };
            wanted.files().map(pair).collect::<Result<_, Error>>()?
        }
        Back::RawSectors(..) | Back::Seals | Back::Disc(_) => Vec::new(),
    })
}

fn same(what: &str, wanted: u64, found: u64) -> Result<(), Error> {
    match wanted == found {
        true => Ok(()),
        false => Err(Error::Usage(format!("{} {what}, {} would be right", grouped(found), grouped(wanted)))),
    }
}
