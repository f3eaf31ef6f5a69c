//! What a new recipe says of a disc.

use super::disc::{self, Kind};
use super::media::{BACKGROUND, ICON, OVERLAY, SOUND};
use crate::label::unpacked;
use crate::recipe::{Entry, beginning, toml_quoted as quoted};
use crate::{Item, Setting};
use decanter_core::Result;
use decanter_core::error::Blame;
use decanter_core::keyring::plain;
use decanter_formats::package::ps3::content_id;
use decanter_formats::package::ps3::keys::{self, Role};

/// The entry of a disc, with everything that it shows of itself.
pub(super) fn entry(item: &Item, path: &str, _: &Setting<'_>) -> Result<Option<Entry>> {
    let Some(kind) = Kind::of(item) else { return Ok(None) };
    let known = &item.opened.identity;
    let name = known.title.clone().unwrap_or_else(|| item.stem.clone());
    let id = plain(known.id.as_deref().unwrap_or_default()).to_ascii_uppercase();
    let derived = content_id::derived(&id, &name);
    let mut text = beginning(item, item.source.as_ref().map_or(0, |s| s.len()));
    let mut line = |line: &str| {
        text.push_str(line);
        text.push('\n');
    };
    line(&format!("disc = {}", quoted(path)));
    match &derived {
        Some(content_id) => {
            line(&format!("# id = \"{id}\"               # title id: 9 letters and digits"));
            line(&format!("# content-id = \"{content_id}\""));
        }
        None => line("id = \"\"                        # the disc says none: 9 letters and digits, as DCNT10001"),
    }
    line("# version = \"01.00\"");
    line(&format!("# output = {}", quoted(&format!("{}.pkg", item.stem))));
    let has_key = keys::find(&item.keyring, Role::Package, "").is_ok();
    line(match has_key {
        true => "finalized = true               # encrypted with ps3.pkg.key; false makes a debug package",
        false => {
            "# finalized = false            # true needs ps3.pkg.key, and is what consoles that are not for developers install"
        }
    });
    line(
        "# blank = []                   # files of the disc that are filled with zeros, as in [\"PSP_GAME/SYSDIR/UPDATE/*\"]",
    );
    line("# without = []                 # files that are left out: the image is then built anew");
    line(&file_of(item, "sound", "own.at3", SOUND, "a sound for the menu (ATRAC3)")?);
    line("# animation = \"own.pam\"        # a moving icon (PAM)");
    line("# parameter-file = \"own.sfo\"   # a PARAM.SFO whose values stay where this recipe says nothing");
    match kind {
        Kind::Psp => {
            line("# marker = \"own.edat\"          # what USRDIR/MINIS2.EDAT contains; zeros without it");
        }
        Kind::Ps2 => {
            line("# debug-console = false        # true encrypts the image for consoles of developers");
            line("# config = \"own.config\"        # settings for the console's emulator");
            line("# cards = [\"empty\", \"empty\"]   # memory cards: empty, or a file of your own");
        }
    }
    line(&format!("\n[title.names]\ntitle = {}", quoted(&name)));
    line("# [title.names.in.german]      # another title in one language\n# title = \"\"");
    let mut pictures =
        vec![("icon", &ICON, "without it the title's initials"), ("background", &BACKGROUND, "without it none")];
    if kind == Kind::Psp {
        pictures.push(("overlay", &OVERLAY, "without it none; it lies over the background"));
    }
    for (table, shape, without) in pictures {
        let (width, height) = shape.size;
        line(&format!("\n[title.{table}]\n# PNG or JPEG of any size, fitted to {width} by {height}"));
        line(&file_of(item, "picture", "own.png", shape.file, without)?);
        line("# fit = \"crop\"                 # crop, letterbox, stretch");
        if table == "icon" {
            line("# background = \"#000000\"       # behind what is transparent or does not reach");
            line("# frame = \"#2a4d5c\"            # a frame of this colour; none without it\n# frame-width = 4");
        }
    }
    line("\n# [title.parameters]           # values of the PARAM.SFO: texts and numbers\n# PARENTAL_LEVEL = 1");
    line(
        "# [title.files]                # files of your own, by their paths in the package\n# \"PARAM.HIP\" = \"own.hip\"",
    );
    Ok(Some(Entry::Text(text)))
}

/// The line of a field that names a file of the menu: what the disc has for it, or what stands there without it.
fn file_of(item: &Item, field: &str, example: &str, name: &str, without: &str) -> Result<String> {
    let said = match disc::own_file(item, name) {
        Some((path, source)) => {
            let size = match source.and_then(|source| unpacked(&source)) {
                Ok(picture) => picture.map(|p| format!(", {} by {}", p.width, p.height)),
                // That it cannot be used is told when it is wanted.
                Err(e) if e.blame() == Blame::Source => None,
                Err(e) => return Err(e),
            };
            format!("without it the disc's {path}{}; \"\" for none", size.unwrap_or_default())
        }
        None => without.to_owned(),
    };
    Ok(format!("{:<31}# {said}", format!("# {field} = \"{example}\"")))
}
