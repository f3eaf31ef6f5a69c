//! A new recipe, with everything in it that the ROMs show.

use super::prepare::detected_save;
use crate::below::Below;
use crate::{Failure, Item, Setting, grouped, locate, place};
use decanter_core::Format;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::error::Blame;
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::{Error, Notice, Result};
use decanter_formats::cartridge::gba::GAME_BOY_ADVANCE;
use decanter_formats::package::n3ds::gba_mode::{MOST_ROM, SaveType, derived_title_id};
use decanter_formats::package::n3ds::smdh::SHORT;
use decanter_formats::package::n3ds::title as ids;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A recipe that was written.
#[derive(Debug, Serialize)]
pub struct NewReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// Where the ROMs came from.
    pub source: String,
    /// The recipe.
    #[serde(serialize_with = "decanter_core::native::one")]
    pub recipe: PathBuf,
    /// The ROMs in it, each with its system.
    pub titles: Vec<(String, &'static str)>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

const HEAD: &str = "# A recipe: which ROM becomes which title, and how it looks. What is left out has the value shown.
# decanter recipe show THIS --picture sheet.png   shows what it will make
# decanter recipe make THIS                       makes it
# Paths are relative to this file.
";

/// Writes a recipe for a ROM, or for all ROMs in a folder or archive.
///
/// # Errors
/// When there is no ROM, or writing fails.
pub fn new(shown: &str, output: &Path, setting: &Setting<'_>) -> std::result::Result<NewReport, Failure> {
    let what = format!("cannot write a recipe for \"{shown}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let output = &place::file(Some(output), &format!("{}.toml", place::stem_of_shown(shown)));
    let mut notices = Vec::new();
    let mut text = HEAD.to_owned();
    let mut titles = Vec::new();
    let folder = output.parent().unwrap_or(Path::new(""));
    let mut add = |item: &Item, notices: &mut Vec<Notice>| -> Result<()> {
        let body = item.opened.holds.rom.as_ref().map(|r| r.body.len()).unwrap_or_default();
        if body > MOST_ROM as u64 {
            notices.push(Notice::new(format!(
                "\"{}\" is left out: {} bytes are more than 32 MiB",
                item.address,
                grouped(body)
            )));
            return Ok(());
        }
        text.push_str(&entry(item, &relative(folder, &item.shown), setting)?);
        titles.push((item.address.clone(), item.opened.identity.format));
        Ok(())
    };
    if setting.is_folder(shown) {
        // Archives with one ROM are looked through like the ROM itself.
        for path in Below::of(shown, setting).files {
            match locate::open(&path, "use", setting) {
                Ok(item) if item.opened.holds.rom.is_some() => add(&item, &mut notices).map_err(&fail)?,
                // No ROM, or no image at all: a folder has other files too.
                Ok(_) => {}
                Err(failure) if failure.cause.blame() == Blame::Source => {}
                Err(failure) if matches!(*failure.cause, Error::Cancelled) => return Err(failure),
                Err(failure) => notices.push(Notice::damage(failure.to_string())),
            }
        }
    } else {
        let item = locate::open(shown, "use", setting)?;
        if item.opened.holds.rom.is_some() {
            add(&item, &mut notices).map_err(&fail)?;
        }
    }
    if titles.is_empty() {
        return Err(Failure::usage(what, "there is no ROM of at most 32 MiB").hint("give a ROM, or a folder with ROMs"));
    }
    setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(text.into_bytes()))), output), &what)?;
    Ok(NewReport {
        schema: "decanter.recipe-new/1",
        source: shown.to_owned(),
        recipe: output.to_owned(),
        titles,
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

/// A text as TOML writes it.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

fn entry(item: &Item, path: &str, setting: &Setting<'_>) -> Result<String> {
    let Some(rom) = &item.opened.holds.rom else { return Ok(String::new()) };
    let sum = of_source(&rom.body, &[Algorithm::Sha1], setting.watch)?;
    let id = ids::shown(derived_title_id(&sum[0].bytes));
    let known = &item.opened.identity;
    let is_gba = GAME_BOY_ADVANCE.is_of(&item.opened);
    let short: String = item.stem.chars().take(SHORT).collect();
    let (save, known_by) = detected_save(&rom.save);
    let choices: Vec<&str> = SaveType::ALL.iter().map(|(n, _)| *n).collect();
    let mut text = format!(
        "\n[[title]]\n# {}{}, {} bytes\nrom = {}\n",
        item.opened.identity.kind,
        [&known.title, &known.id].into_iter().flatten().map(|f| format!(", {f}")).collect::<String>(),
        grouped(rom.body.len()),
        quoted(path),
    );
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
    Ok(text)
}
