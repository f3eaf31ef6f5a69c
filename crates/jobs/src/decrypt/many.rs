//! Many images, each decrypted into one of its own.

use super::{Check, DecryptReport, clear_image, name, write};
use crate::failure::with_article;
use crate::shelf::{self, Done, Found, How, Outcome, Row, Search, ShelfReport, Taste, Turn, Work, compared, is_same};
use crate::{Answer, Failure, Item, Setting, locate, place};
use decanter_core::Error;
use decanter_core::digest::Algorithm;
use decanter_core::protection::State;
use decanter_core::source::{FileSource, Source};
use std::path::Path;

/// Finds out whether one source is meant or many.
///
/// # Errors
/// When there is nothing to do, or the user stops it.
pub fn sort_out(sources: &[String], how: How, setting: &Setting<'_>) -> Result<Work, Failure> {
    let takes = |role: decanter_core::role::Role| role.is_large_dump();
    let taste = Taste::of(takes);
    let search = Search::of(sources, &taste, how.is_listed, setting).map_err(|e| Failure::new("cannot decrypt", e))?;
    match &search.found[..] {
        [one] if search.is_one => Ok(Work::One(one.address.clone())),
        [] if search.failed.is_empty() => Err(shelf::nothing_found(sources, "could be encrypted", &search)),
        _ => Ok(Work::Many(search)),
    }
}

/// Decrypts each source into a file of its own below `output`; `tell` is given every row in the order of sources.
///
/// # Errors
/// When no folder is given. What fails is a row.
pub fn decrypt_each<E>(
    mut search: Search,
    output: Option<&Path>,
    digests: &[Algorithm],
    check: Option<&Check<'_>>,
    keep_damage: bool,
    setting: &Setting<'_>,
    tell: &mut dyn FnMut(&Row<DecryptReport>) -> Result<(), E>,
) -> Result<Result<ShelfReport<DecryptReport>, E>, Failure> {
    let output = shelf::folder(output, "decrypt", &search)?;
    let mut report = ShelfReport::new("decanter.decrypt-each/1", &mut search);
    let one = |found: &Found, setting: &Setting<'_>, turn: &Turn<'_>| -> Result<Outcome<DecryptReport>, Failure> {
        let item = match locate::open(&found.address, "decrypt", setting) {
            Ok(item) => item,
            Err(failure) => return shelf::unopened(found, failure),
        };
        if let Some(why) = nothing_to_decrypt(&item).filter(|_| !found.is_named) {
            return Ok(Outcome::PassedOver(why));
        }
        let target = place::file(Some(&shelf::place(output, found)), &name(&item));
        let target = turn.claim(shelf::names(target, &item))?;
        if !setting.replace
            && let Some(how) = is_there(&item, &target, setting)?
        {
            return Ok(Outcome::Present(how));
        }
        let (report, answer) = write(&item, &target, digests, check, keep_damage, setting)?;
        let is_kept = check.is_none() || answer == Answer::Yes;
        let after = if is_kept { report.bytes } else { 0 };
        Ok(Outcome::Done(Done { before: after, after, report, answer }))
    };
    Ok(shelf::run(&search.found, "decrypting", setting, &one, &mut report, tell).map(|()| report))
}

/// Why there is nothing to do with a source, if so.
fn nothing_to_decrypt(item: &Item) -> Option<String> {
    match &item.opened.protection {
        None => Some(format!("{} has nothing encrypted in it", with_article(&item.opened.identity.kind))),
        Some(p) if p.state == State::Decrypted => Some(format!("it is decrypted already: {}", p.evidence)),
        Some(p) if !p.has_clear_form => {
            Some(format!("{} has no form without encryption", with_article(&item.opened.identity.kind)))
        }
        Some(_) => None,
    }
}

/// Whether the decrypted image is there already, as long as it should be. An image has its name only once it is complete.
fn is_there(item: &Item, target: &Path, setting: &Setting<'_>) -> Result<Option<String>, Failure> {
    let Ok(meta) = std::fs::symlink_metadata(target) else { return Ok(None) };
    setting.guard.check(target).map_err(|e| place::refused(target, e))?;
    let clear = clear_image(item).map_err(|(e, _)| Failure::new(format!("cannot decrypt \"{}\"", item.shown), e))?;
    let fail = |e| Failure::new(format!("cannot decrypt \"{}\"", item.shown), e);
    let is_its = || -> decanter_core::Result<bool> {
        let found = FileSource::own(target)?;
        match clear.as_source() {
            Ok(wanted) => is_same(wanted.as_ref(), &found, setting.watch),
            // What has parts that are computed in the end is not computed for this.
            Err(_) => Ok(found.len() == clear.len()),
        }
    };
    let how = match clear.as_source().is_ok() {
        true => compared(clear.len()),
        false => "it is as long as the result of this source; --replace makes it anew",
    };
    match meta.is_file() && is_its().map_err(fail)? {
        true => Ok(Some(how.into())),
        false => Err(place::refused(target, Error::Exists { path: target.to_owned() })
            .hint("it is not the result of this source: --replace makes it anew, -o takes another folder")),
    }
}
