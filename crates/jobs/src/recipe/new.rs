//! A new recipe, with everything in it that its sources show.

use super::{Entry, MAKERS, Maker, NewReport, keys_again};
use crate::below::Below;
use crate::{Failure, Item, Setting, locate, notes, place, quoted};
use decanter_core::blueprint::Blueprint;
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::tell::count;
use decanter_core::{Error, Notice, Result};
use std::path::{Path, PathBuf};
use std::sync::Arc;

const HEAD: &str = "# A recipe: what becomes which title, and how it looks. What is left out has the value shown.
# decanter recipe show THIS --picture sheet.png   shows what it will make
# decanter recipe make THIS                       makes it
# Paths are relative to this file.
";

/// Writes a recipe for a ROM or disc, or for all of a folder. A recipe is of one platform: that of the first source in it.
///
/// # Errors
/// When there is nothing that titles are made of, or writing fails.
pub fn new(shown: &str, output: &Path, setting: &Setting<'_>) -> std::result::Result<NewReport, Failure> {
    let what = format!("cannot write a recipe for \"{shown}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let output = &place::file(Some(output), &format!("{}.toml", place::stem_of_shown(shown)));
    let mut notices = Vec::new();
    let mut text = HEAD.to_owned();
    let mut titles = Vec::new();
    let folder = output.parent().unwrap_or(Path::new(""));
    let mut of_others: Vec<(String, &'static str)> = Vec::new();
    let mut chosen: Option<&'static dyn Maker> = None;
    let mut add = |item: &Item, notices: &mut Vec<Notice>| -> Result<()> {
        let path = relative(folder, &item.shown);
        for maker in MAKERS {
            match maker.entry(item, &path, setting)? {
                None => continue,
                Some(Entry::LeftOut(notice)) => notices.push(notice),
                Some(Entry::Text(_)) if chosen.is_some_and(|c| c.platform() != maker.platform()) => {
                    of_others.push((item.address.clone(), maker.platform()));
                }
                Some(Entry::Text(entry)) => {
                    if chosen.is_none() {
                        text.push_str(&format!("platform = \"{}\"\n", maker.platform()));
                    }
                    chosen = Some(maker);
                    text.push_str(&entry);
                    titles.push((item.address.clone(), item.opened.identity.format));
                    notices.extend(notes::notices(item, setting));
                }
            }
            break;
        }
        Ok(())
    };
    if setting.is_folder(shown) {
        // Archives with one ROM are looked through like the ROM itself.
        for path in Below::of(shown, setting).files {
            match locate::open(&path, "use", setting) {
                Ok(item) => add(&item, &mut notices).map_err(&fail)?,
                // A folder has other files too.
                Err(failure) if failure.cause.blame() == Blame::Source => {}
                Err(failure) if matches!(*failure.cause, Error::Cancelled) => return Err(failure),
                Err(failure) => notices.push(Notice::damage(failure.to_string())),
            }
        }
    } else {
        let item = locate::open(shown, "use", setting)?;
        add(&item, &mut notices).map_err(&fail)?;
    }
    if let Some((name, platform)) = of_others.first() {
        let (count, first) = (count(of_others.len() as u64, "source is", "sources are"), quoted(name));
        notices.push(Notice::new(format!(
            "{count} left out, {first} first: for the platform {platform}; recipes are of one platform, make another one"
        )));
    }
    let Some(maker) = chosen else {
        return Err(Failure::usage(what, "there is neither a ROM of at most 32 MiB nor a PSP or PS2 disc")
            .hint("give a ROM or a disc, or a folder with some"));
    };
    setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(text.into_bytes()))), output), &what)?;
    Ok(NewReport {
        schema: "decanter.recipe-new/1",
        source: shown.to_owned(),
        recipe: output.to_owned(),
        titles,
        next: format!("decanter recipe show {}{}", quoted(&native::text(output)), keys_again(maker, setting)),
        dry_run: setting.dry_run,
        notices,
    })
}

/// A path as the recipe in `folder` names it: relative where it lies below.
fn relative(folder: &Path, address: &str) -> String {
    let here = |p: &Path| if p.as_os_str().is_empty() { PathBuf::from(".") } else { p.to_owned() };
    let absolute = |p: &Path| std::path::absolute(here(p)).unwrap_or_else(|_| p.to_owned());
    let (folder, path) = (absolute(folder), absolute(&native::path(address)));
    native::text(path.strip_prefix(&folder).unwrap_or(&path))
}
