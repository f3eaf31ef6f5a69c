//! What a recipe will make: told, and drawn.

use super::{ShowReport, clashes, failed, keys_again, read};
use crate::{Failure, Setting, place, quoted};
use decanter_core::blueprint::Blueprint;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Notice, native};
use std::path::Path;
use std::sync::Arc;

/// Shows what a recipe will make; with `picture` draws its first title, or the one with number `which`, on a sheet.
///
/// # Errors
/// When the recipe or something it names cannot be used, or writing fails.
pub fn show(path: &str, picture: Option<&Path>, which: usize, setting: &Setting<'_>) -> Result<ShowReport, Failure> {
    let (script, maker) = read(path, setting)?;
    let all = maker.prepare(&script, setting)?;
    let mut notices: Vec<Notice> = clashes(&all).into_iter().map(Notice::new).collect();
    let mut titles = Vec::new();
    for ready in &all {
        notices.extend(ready.notices().iter().cloned());
        titles.push(ready.shown(&mut notices, setting).map_err(|e| failed(path, ready.source(), e))?);
    }
    let picture = picture.map(|p| place::file(Some(p), &format!("{}.png", place::stem_of_shown(path))));
    if let Some(target) = &picture {
        let what = format!("cannot draw \"{}\"", native::text(target));
        let Some(ready) = which.checked_sub(1).and_then(|i| all.get(i)) else {
            return Err(Failure::usage(
                what,
                format!("there is no title number {which}: the recipe has {}", all.len()),
            ));
        };
        let png = ready.sheet(setting).map_err(|e| Failure::new(what.clone(), e))?;
        setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(png))), target), &what)?;
    }
    let next = format!("decanter recipe make {}{}", quoted(path), keys_again(maker, setting));
    Ok(ShowReport { schema: "decanter.recipe-show/1", recipe: path.to_owned(), titles, picture, next, notices })
}
