//! What a title of a recipe will be: everything computed but the writing.

use super::ready::Title3ds;
use super::{Recipe, Title, art};
use crate::patch;
use crate::recipe::art::own;
use crate::recipe::language_number;
use crate::toml_text::nearest_or_all;
use crate::{Setting, grouped, locate};
use decanter_core::Format;
use decanter_core::digest::{self, Algorithm};
use decanter_core::rom::{SaveKind, SaveMemory};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::{Error, Notice, Result};
use decanter_formats::cartridge::gba::GAME_BOY_ADVANCE;
use decanter_formats::package::n3ds::gba_mode::{MOST_ROM, SaveType, Settings, derived_title_id};
use decanter_formats::package::n3ds::smdh::{LANGUAGES, LARGE, Names as Texts, REGION_FREE, SMALL, Smdh};
use decanter_formats::package::n3ds::title as ids;
use std::path::PathBuf;
use std::sync::Arc;

/// Buttons, by their bits in the console's key register.
const BUTTONS: [(&str, u16); 10] = [
    ("A", 0x001),
    ("B", 0x002),
    ("Select", 0x004),
    ("Start", 0x008),
    ("Right", 0x010),
    ("Left", 0x020),
    ("Up", 0x040),
    ("Down", 0x080),
    ("R", 0x100),
    ("L", 0x200),
];

/// Everything of one title but the writing.
pub(super) fn prepare(recipe: &Arc<Recipe>, title: &Title, setting: &Setting<'_>) -> Result<Title3ds> {
    let path = recipe.path(&title.rom);
    let item = locate::open(&path, "use", setting).map_err(|f| *f.cause)?;
    let Some(rom) = &item.opened.holds.rom else {
        return Err(Error::Usage(format!(
            "\"{}\" is {}, and no ROM",
            title.rom,
            crate::failure::with_article(&item.opened.identity.kind)
        )));
    };
    let mut notices = Vec::new();
    let body = patched(recipe, title, &rom.body, setting, &mut notices)?;
    let limit = MOST_ROM as u64;
    if body.len() > limit {
        let why = format!("the ROM has {} bytes, the most is {} (32 MiB)", grouped(body.len()), grouped(limit));
        return Err(Error::Unreadable { why });
    }
    let is_gba = GAME_BOY_ADVANCE.is_of(&item.opened);
    if title.base.is_none() && !is_gba {
        return Err(Error::Usage(format!(
            "{} needs a player: name a package of your own that carries one, as base = \"FILE.cia\"",
            crate::failure::with_article(&item.opened.identity.kind)
        )));
    }
    let bytes = read_vec(body.as_ref(), 0, body.len(), "a ROM", limit)?;
    let sum = digest::of_bytes(Algorithm::Sha1, &bytes).bytes;
    let id = match &title.id {
        Some(text) => parse_id(text)?,
        None => derived_title_id(&sum),
    };
    let (save, save_known_by) = match &title.gba.save {
        Some(name) => (save_by_name(name)?, "the recipe says so".to_owned()),
        None => detected_save(&rom.save),
    };
    let game_code = item.opened.identity.id.clone().unwrap_or_default();
    let mut smdh = names(title, &item.stem)?;
    if !title.region_free {
        smdh.set_regions(regions_of(&game_code));
    }
    let short = smdh.names(1).short;
    let own = own(&short, &sum, art::OWN)?;
    let icons = [
        art::icon(recipe, &title.icon, &own, LARGE.1, setting)?,
        art::icon(recipe, &title.icon, &own, SMALL.1, setting)?,
    ];
    smdh.set_icon(LARGE, &icons[0]);
    smdh.set_icon(SMALL, &icons[1]);
    let wide = art::wide(recipe, &title.wide, &own, setting)?;
    if title.base.is_none() && (title.wide.picture.is_some() || title.wide.text.is_some()) {
        let text = "without a base there is no banner, and the wide picture is on the preview only: a banner is a model, of whose \
                    layout only the pictures are known here; base = \"own.cia\" takes that of a package of your own";
        notices.push(Notice::new(text));
    }
    let settings = Settings {
        save,
        sleep: buttons(&title.gba.sleep)?,
        ghosting: title.gba.ghosting,
        gamma: title.gba.gamma,
        level: title.gba.brightness,
    };
    let icons = [smdh.icon(LARGE), smdh.icon(SMALL)];
    let output = title.output.clone().unwrap_or_else(|| format!("{}.cia", item.stem));
    Ok(Title3ds {
        recipe: recipe.clone(),
        title: title.clone(),
        system: item.opened.identity.format,
        rom: bytes,
        game_code,
        id,
        smdh,
        icons,
        wide,
        settings,
        save_known_by,
        output: PathBuf::from(output),
        notices,
    })
}

/// The ROM with the patches of the recipe, each checked before and after where it carries checksums.
fn patched(
    recipe: &Recipe,
    title: &Title,
    body: &SourceRef,
    setting: &Setting<'_>,
    notices: &mut Vec<Notice>,
) -> Result<SourceRef> {
    let mut rom = body.clone();
    for name in &title.patches {
        let (_, patch) = patch::open(&recipe.path(name), "apply", setting).map_err(|f| *f.cause)?;
        let check = |rom: &SourceRef, wanted: Option<u32>, when: &str| -> Result<()> {
            let Some(wanted) = wanted else { return Ok(()) };
            let found = digest::crc32(rom, setting.watch)?;
            match found == wanted {
                true => Ok(()),
                false => Err(Error::Checksum {
                    what: format!("the ROM {when} \"{name}\""),
                    expected: format!("CRC-32 {wanted:08x}"),
                    found: format!("{found:08x}"),
                }),
            }
        };
        check(&rom, patch.source().crc32, "before")?;
        let result = patch.apply(&rom)?;
        check(&result, patch.target().crc32, "after")?;
        if patch.source().crc32.is_none() {
            let text = format!("\"{name}\" carries no checksums: whether it fits this ROM is not known");
            notices.push(Notice::new(text));
        }
        rom = result;
    }
    Ok(rom)
}

/// Names in all languages.
fn names(title: &Title, stem: &str) -> Result<Smdh> {
    let mut smdh = Smdh::new();
    let short = title.names.short.clone().unwrap_or_else(|| stem.to_owned());
    let usual = Texts {
        long: title.names.long.clone().unwrap_or_else(|| short.clone()),
        publisher: title.names.publisher.clone().unwrap_or_default(),
        short,
    };
    for number in 0..LANGUAGES.len() {
        smdh.set_names(number, &usual)?;
    }
    for (language, own) in &title.names.languages {
        let number = language_number(language, &LANGUAGES)?;
        let pick = |own: &Option<String>, usual: &String| own.clone().unwrap_or_else(|| usual.clone());
        let texts = Texts {
            short: pick(&own.short, &usual.short),
            long: pick(&own.long, own.short.as_ref().unwrap_or(&usual.long)),
            publisher: pick(&own.publisher, &usual.publisher),
        };
        smdh.set_names(number, &texts)?;
    }
    Ok(smdh)
}

/// Bits of the regions that the last letter of a game's code stands for; all for others.
fn regions_of(code: &str) -> u32 {
    match code.chars().nth(3) {
        Some('J') => 0x01,
        Some('E') => 0x02,
        Some('P' | 'D' | 'F' | 'S' | 'I' | 'X' | 'Y') => 0x04 | 0x08,
        Some('C') => 0x10,
        Some('K') => 0x20,
        _ => REGION_FREE,
    }
}

fn parse_id(text: &str) -> Result<u64> {
    let id = u64::from_str_radix(text.trim_start_matches("0x"), 16)
        .ok()
        .filter(|_| text.trim_start_matches("0x").len() == 16);
    let id = id.ok_or_else(|| Error::Usage(format!("\"{text}\" is no title id: sixteen hexadecimal digits")))?;
    match ids::Kind::of(id) {
        ids::Kind::Program => Ok(id),
        kind => Err(Error::Usage(format!(
            "{text} is the id of {}; programs begin with 00040000",
            crate::failure::with_article(kind.name())
        ))),
    }
}

fn save_by_name(name: &str) -> Result<SaveType> {
    let known: Vec<&str> = SaveType::ALL.iter().map(|(n, _)| *n).collect();
    let found = SaveType::ALL.iter().find(|(n, _)| *n == name).map(|(_, t)| *t);
    found.ok_or_else(|| Error::Usage(format!("there is no save type \"{name}\"; {}", nearest_or_all(name, &known))))
}

/// The save type that a ROM shows, and how that is known.
pub(super) fn detected_save(memory: &SaveMemory) -> (SaveType, String) {
    let size = memory.sizes.last().copied();
    let kind = match (memory.kind, size, memory.clock) {
        (SaveKind::Eeprom, Some(512), _) => SaveType::Eeprom512,
        (SaveKind::Eeprom, ..) => SaveType::Eeprom8k,
        (SaveKind::Flash, Some(size), clock) if size > 64 << 10 => {
            if clock {
                SaveType::Flash128kClock
            } else {
                SaveType::Flash128k
            }
        }
        (SaveKind::Flash, _, true) => SaveType::Flash64kClock,
        (SaveKind::Flash, ..) => SaveType::Flash64k,
        (SaveKind::Sram, ..) => SaveType::Sram,
        (SaveKind::None | SaveKind::Unknown, ..) => SaveType::None,
    };
    let sure = if memory.sizes.len() > 1 { "; not sure of the size, the larger one is taken" } else { "" };
    (kind, format!("{}{sure}", memory.known_by))
}

/// Bits of the buttons with these names.
pub(super) fn buttons(names: &[String]) -> Result<u16> {
    let known: Vec<&str> = BUTTONS.iter().map(|(n, _)| *n).collect();
    let mut bits = 0;
    for name in names {
        let found = BUTTONS.iter().find(|(n, _)| n.eq_ignore_ascii_case(name));
        let (_, bit) = found
            .ok_or_else(|| Error::Usage(format!("there is no button \"{name}\"; {}", nearest_or_all(name, &known))))?;
        bits |= bit;
    }
    Ok(bits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_ids_of_programs_are_taken() {
        assert!(parse_id("0004000E0C000000").is_err() && parse_id("40000").is_err());
        assert_eq!(parse_id("000400000c123400").unwrap(), 0x0004_0000_0c12_3400);
    }

    #[test]
    fn regions_by_the_code_of_a_game() {
        assert_eq!(["DMHE", "DMHP", "DMHJ", "DM"].map(regions_of), [0x02, 0x0c, 0x01, REGION_FREE]);
    }

    #[test]
    fn buttons_by_name() {
        let of = |names: &[&str]| buttons(&names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>());
        assert_eq!(of(&["L", "R", "select"]).unwrap(), 0x0304);
        assert!(of(&["Selct"]).unwrap_err().to_string().contains("\"Select\""));
    }
}
