//! What a new recipe says of a ROM.

use super::prepare::detected_save;
use crate::recipe::{Entry, beginning, toml_quoted as quoted};
use crate::{Item, Setting, grouped};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::{Format, Notice, Result};
use decanter_formats::cartridge::gba::GAME_BOY_ADVANCE;
use decanter_formats::package::n3ds::gba_mode::{MOST_ROM, SaveType, derived_title_id};
use decanter_formats::package::n3ds::smdh::SHORT;
use decanter_formats::package::n3ds::title as ids;

/// The entry of a ROM, with everything that it shows of itself.
pub(super) fn entry(item: &Item, path: &str, setting: &Setting<'_>) -> Result<Option<Entry>> {
    let Some(rom) = &item.opened.holds.rom else { return Ok(None) };
    if rom.body.len() > MOST_ROM as u64 {
        let (name, bytes) = (&item.address, grouped(rom.body.len()));
        let told = format!("\"{name}\" is left out: {bytes} bytes are more than 32 MiB");
        return Ok(Some(Entry::LeftOut(Notice::new(told))));
    }
    let sum = of_source(&rom.body, &[Algorithm::Sha1], setting.watch)?;
    let id = ids::shown(derived_title_id(&sum[0].bytes));
    let is_gba = GAME_BOY_ADVANCE.is_of(&item.opened);
    let short: String = item.stem.chars().take(SHORT).collect();
    let (save, known_by) = detected_save(&rom.save);
    let choices: Vec<&str> = SaveType::ALL.iter().map(|(n, _)| *n).collect();
    let mut text = beginning(item, rom.body.len());
    text.push_str(&format!("rom = {}\n", quoted(path)));
    text.push_str(if is_gba {
        "# base = \"own.cia\"        # a package of your own whose banner and player are used; the GBA mode needs none\n"
    } else {
        "base = \"own.cia\"          # a package of your own that carries a player for this system: name it here\n# replace = \"romfs/rom/x\"   # where its ROM is, if that is not found by its content\n"
    });
    text.push_str(&format!(
        "# id = \"{id}\"  # derived from the ROM: the same wherever it is made\n\
         # patches = []             # IPS, UPS, BPS, in this order\n\
         # output = {}\n\
         # region-free = true\n\
         # certificates = \"own.cia\" # take them from a package of your own\n\
         # logo = \"logo.bin\"        # the logo region of a content of your own\n\n\
         [title.names]\n\
         short = {}      # 64 characters at most\n\
         long = {}       # 128; \\n breaks the line\n\
         publisher = \"\"            # 64\n\
         # [title.names.in.german]  # other names in one language\n\
         # short = \"\"\n\n\
         [title.icon]\n\
         # picture = \"icon.png\"     # PNG or JPEG of any size; its initials without one\n\
         # fit = \"crop\"             # crop, letterbox, stretch\n\
         # background = \"#000000\"\n\
         # frame = \"#2a4d5c\"        # a frame of this colour; none without it\n\
         # frame-width = 2          # in pixels of the large icon\n\n\
         [title.wide]               # the wide picture of the banner, {} by {}\n\
         # picture = \"wide.png\"\n\
         # fit = \"crop\"\n\
         # frame = \"#2a4d5c\"\n\
         # frame-width = 4\n\
         # text = \"\"\n\
         # text-colour = \"#ffffff\"\n\
         # text-size = 24\n\
         # font = \"own.ttf\"         # TTF or OTF; DejaVu Sans without it\n",
        quoted(&format!("{}.cia", item.stem)),
        quoted(&short),
        quoted(&short),
        super::art::WIDE.0,
        super::art::WIDE.1,
    ));
    if is_gba {
        text.push_str(&format!(
            "\n[title.gba]\n\
             # save = \"{}\"           # {known_by}; one of {}\n\
             # ghosting = 255           # motion ghosting: 1 strongest, 255 off\n\
             # gamma = 1.0              # above 1 darkens middle tones\n\
             # brightness = 1.0         # of white\n\
             # sleep = [\"L\", \"R\", \"Select\"]\n",
            save.name(),
            choices.join(", "),
        ));
    }
    Ok(Some(Entry::Text(text)))
}
