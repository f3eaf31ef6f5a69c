//! What a title of a recipe will be: everything computed but the writing.

use super::disc::{self, Kind};
use super::ready::{EMPTY, MARKER, TitlePs3};
use super::{Recipe, Title, parameters};
use crate::convert::playstation::{classics, package};
use crate::{Setting, locate, notes};
use decanter_core::keyring::plain;
use decanter_core::tell::count;
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::ps3::{content_id, npd};
use std::path::PathBuf;
use std::sync::Arc;

/// Everything of one title but the writing.
pub(super) fn prepare(recipe: &Arc<Recipe>, title: &Title, setting: &Setting<'_>) -> Result<TitlePs3> {
    let item = locate::open(&recipe.path(&title.disc), "use", setting).map_err(|f| *f.cause)?;
    let Some(kind) = Kind::of(&item) else {
        let what = crate::failure::with_article(&item.opened.identity.kind);
        return Err(Error::Usage(format!("\"{}\" is {what}, and neither a PSP nor a PS2 disc", title.disc)));
    };
    suits(title, kind)?;
    classics::whole(&item, false)?;
    let identity = &item.opened.identity;
    let name = title.names.title.clone().or(identity.title.clone()).unwrap_or_else(|| item.stem.clone());
    let id = id_of(title, identity.id.as_deref())?;
    let content_id = content_id_of(title, &id, &name)?;
    let mut notices = notes::notices(&item, setting);
    if content_id::title_id(&content_id) != Some(id.as_str()) {
        notices.push(Notice::new(format!("the content id {content_id} is not of the title id {id}")));
    }
    let parameters = parameters::parameters(recipe, title, kind, &name, [&id, &content_id], setting)?;
    let mut disc = disc::wanted(&item, &title.blank, &title.without, setting)?;
    notices.append(&mut disc.notices);
    if kind == Kind::Psp && title.marker.is_none() && !title.files.contains_key(MARKER) {
        notices.push(Notice::new(
            "what consoles want in the marker (MINIS2.EDAT) is not known: it has zeros; marker = \"FILE\" in the recipe takes one of your own",
        ));
    }
    let closing = match kind {
        Kind::Psp => npd::Making::of(&content_id, kind.place(), &item.keyring).err(),
        Kind::Ps2 => classics::closing(&item, &content_id, title.debug_console).err(),
    };
    let making = package::making(content_id.clone(), &parameters, title.finalized, &item.keyring).err();
    let lacks = closing.into_iter().chain(making).map(|trouble| trouble.need).collect();
    let empty = title.cards().iter().filter(|card| **card == EMPTY).count() as u64;
    if kind == Kind::Ps2 && empty > 0 {
        let (cards, them) =
            (count(empty, "memory card is", "memory cards are"), if empty == 1 { "it" } else { "them" });
        notices.push(Notice::new(format!("{cards} in the clear: whether every console takes {them} so is not known")));
    }
    let output = PathBuf::from(title.output.clone().unwrap_or_else(|| format!("{}.pkg", item.stem)));
    Ok(TitlePs3 {
        recipe: recipe.clone(),
        title: title.clone(),
        item,
        kind,
        name,
        id,
        content_id,
        parameters,
        disc,
        lacks,
        output,
        notices,
    })
}

/// Refuses what has no meaning for this kind of disc.
fn suits(title: &Title, kind: Kind) -> Result<()> {
    let (odd, of): (&[(&str, bool)], _) = match kind {
        Kind::Psp => (
            &[
                ("config", title.config.is_some()),
                ("cards", title.cards.is_some()),
                ("debug-console", title.debug_console),
            ],
            Kind::Ps2,
        ),
        Kind::Ps2 => (&[("marker", title.marker.is_some()), ("overlay", title.overlay.picture.is_some())], Kind::Psp),
    };
    if let Some((field, _)) = odd.iter().find(|(_, is_there)| *is_there) {
        let (of, own) = (of.name(), kind.name());
        return Err(Error::Usage(format!("{field} is for {of} discs, \"{}\" is a {own} disc", title.disc)));
    }
    if let Some(cards) = title.cards.as_ref().filter(|c| c.len() > 2) {
        return Err(Error::Usage(format!("there is room for two memory cards, not for {}", cards.len())));
    }
    Ok(())
}

/// The title id: nine letters and digits.
fn id_of(title: &Title, own: Option<&str>) -> Result<String> {
    let id = match &title.id {
        Some(id) => id.to_ascii_uppercase(),
        None => plain(own.unwrap_or_default()).to_ascii_uppercase(),
    };
    let is_one = id.len() == 9 && id.bytes().all(|b| b.is_ascii_alphanumeric());
    match (is_one, &title.id) {
        (true, _) => Ok(id),
        (false, Some(given)) => {
            Err(Error::Usage(format!("\"{given}\" is no title id: 9 letters and digits, as DCNT10001")))
        }
        (false, None) => {
            Err(Error::Usage("the disc says no id of 9 letters and digits: give one with id = \"DCNT10001\"".into()))
        }
    }
}

fn content_id_of(title: &Title, id: &str, name: &str) -> Result<String> {
    match &title.content_id {
        Some(given) => match content_id::fault(given) {
            Some(fault) => Err(Error::Usage(format!("content-id = \"{given}\": {fault}"))),
            None => Ok(given.clone()),
        },
        None => content_id::derived(id, name).ok_or_else(|| Error::Usage("there is no content id for it".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn title(more: &str) -> Title {
        toml::from_str(&format!("disc = \"x.iso\"\n{more}")).unwrap()
    }

    #[test]
    fn ids() {
        assert_eq!(id_of(&title(""), Some("DCES-00099")).unwrap(), "DCES00099");
        assert_eq!(id_of(&title("id = \"dcnt10001\""), None).unwrap(), "DCNT10001");
        assert!(id_of(&title("id = \"DCNT-1001\""), None).unwrap_err().to_string().contains("DCNT-1001"));
        assert!(id_of(&title(""), Some("DC-042")).unwrap_err().to_string().contains("id ="));
        assert!(content_id_of(&title("content-id = \"UP\""), "DCNT10001", "x").unwrap_err().to_string().contains("36"));
    }

    #[test]
    fn fields_of_the_other_kind_are_refused() {
        let refused = |more: &str, kind| suits(&title(more), kind).unwrap_err().to_string();
        assert!(refused("cards = []", Kind::Psp).contains("cards is for PS2 discs"));
        assert!(refused("marker = \"x\"", Kind::Ps2).contains("marker is for PSP discs"));
        assert!(refused("cards = [\"empty\", \"empty\", \"empty\"]", Kind::Ps2).contains("two memory cards"));
        assert!(suits(&title("cards = [\"empty\"]"), Kind::Ps2).is_ok());
    }
}
