//! What a title of a recipe will be: everything computed but the writing.

use super::disc::{self, Kind};
use super::ready::TitlePs3;
use super::{Recipe, Title, parameters};
use crate::convert::playstation::classics;
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
    let version = version_of(title)?;
    let mut notices = notes::notices(&item, setting);
    if content_id::title_id(&content_id) != Some(id.as_str()) {
        notices.push(Notice::new(format!("the content id {content_id} is not of the title id {id}")));
    }
    let parameters = parameters::parameters(recipe, title, kind, &name, &id, setting)?;
    let (disc, pressed, left_out) = disc::bytes(&item, &title.blank, &title.without, setting)?;
    if kind == Kind::Psp && title.marker.is_none() && !title.files.contains_key(super::ready::MARKER) {
        notices.push(Notice::new(
            "what consoles want in the marker (MINIS2.EDAT) is not known: it has zeros; marker = \"FILE\" in the recipe takes one of your own",
        ));
    }
    let lacks = match kind {
        Kind::Psp => npd::Making::of(&content_id, "ISO.BIN.EDAT", &item.keyring).err().map(|trouble| trouble.need),
        Kind::Ps2 => classics::closing(&item, &content_id, title.debug_console).err().map(|t| t.need),
    };
    if kind == Kind::Ps2 && !title.cards.as_ref().is_some_and(Vec::is_empty) {
        let cards = title.cards.as_ref().map_or(2, Vec::len);
        let empty = title.cards.as_ref().is_none_or(|all| all.iter().any(|c| c == super::ready::EMPTY));
        if empty {
            notices.push(Notice::new(format!(
                "{} in the clear: whether every console takes {} so is not known",
                count(cards as u64, "memory card is", "memory cards are"),
                if cards == 1 { "it" } else { "them" }
            )));
        }
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
        version,
        parameters,
        disc,
        pressed,
        left_out,
        lacks,
        output,
        notices,
    })
}

/// Refuses what has no meaning for this kind of disc.
fn suits(title: &Title, kind: Kind) -> Result<()> {
    let odd = match kind {
        Kind::Psp => [
            ("config", title.config.is_some()),
            ("cards", title.cards.is_some()),
            ("debug-console", title.debug_console),
        ],
        Kind::Ps2 => [("marker", title.marker.is_some()), ("overlay", title.overlay.picture.is_some()), ("", false)],
    };
    if let Some((field, _)) = odd.iter().find(|(_, is_there)| *is_there) {
        let (of, this) = if kind == Kind::Psp { ("PS2", "PSP") } else { ("PSP", "PS2") };
        return Err(Error::Usage(format!("{field} is for {of} discs, \"{}\" is a {this} disc", title.disc)));
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

/// `01.00` as 0x0100.
fn version_of(title: &Title) -> Result<u16> {
    let text = title.version.as_deref().unwrap_or("01.00");
    let digits = |part: &str| part.len() == 2 && part.bytes().all(|b| b.is_ascii_digit());
    let number = text.split_once('.').filter(|(a, b)| digits(a) && digits(b));
    let number = number.and_then(|(a, b)| u16::from_str_radix(&format!("{a}{b}"), 16).ok());
    number.ok_or_else(|| Error::Usage(format!("\"{text}\" is no version: two digits, a point, two digits, as 01.00")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn title(more: &str) -> Title {
        toml::from_str(&format!("disc = \"x.iso\"\n{more}")).unwrap()
    }

    #[test]
    fn ids_and_versions() {
        assert_eq!(id_of(&title(""), Some("DCES-00099")).unwrap(), "DCES00099");
        assert_eq!(id_of(&title("id = \"dcnt10001\""), None).unwrap(), "DCNT10001");
        assert!(id_of(&title("id = \"DCNT-1001\""), None).unwrap_err().to_string().contains("DCNT-1001"));
        assert!(id_of(&title(""), Some("DC-042")).unwrap_err().to_string().contains("id ="));
        assert_eq!(
            (version_of(&title("")).unwrap(), version_of(&title("version = \"02.10\"")).unwrap()),
            (0x100, 0x210)
        );
        assert!(version_of(&title("version = \"1.0\"")).is_err());
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
