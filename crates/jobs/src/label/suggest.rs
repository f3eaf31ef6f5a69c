//! Pictures that a source has in it, for whoever looks for one: icons and wide pictures of discs, packages, banners, programs; of ROMs a
//! sheet of the graphics that they plainly hold. Nothing is fetched from anywhere.

use super::tiles::{self, Found, Layout};
use super::{Filter, Options, pictures, png, unpacked};
use crate::picture::canvas::Canvas;
use crate::{Failure, Item, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::label::Picture;
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, read_vec};
use decanter_core::{Error, Result, names, native};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Names that consoles give to pictures of a title, and what each is.
const KNOWN: [(&str, &str); 8] = [
    ("icon0.png", "icon"),
    ("icon1.png", "second icon"),
    ("pic0.png", "text over the background"),
    ("pic1.png", "background"),
    ("pic2.png", "text over a narrow background"),
    ("param.png", "picture"),
    ("titleimage.png", "title picture"),
    ("titleimage.jpg", "title picture"),
];
/// Folders above a picture of a title.
const MOST_DEEP: usize = 3;
/// Pictures that are taken.
const MOST: usize = 24;
/// Largest ROM that is looked through, in bytes.
const MOST_ROM: u64 = 64 << 20;
/// Windows on a sheet, across and down, and how many times as large they are drawn.
const SHEET: (usize, usize) = (4, 3);
const SCALE: usize = 2;
const MARGIN: usize = 28;
/// Pixels for the line below a window.
const LINE: usize = 26;

/// What was found.
#[derive(Debug, Serialize)]
pub struct SuggestReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// Pictures, the largest first.
    pub pictures: Vec<Suggested>,
    /// Where the ROM plainly holds graphics, and the sheet of these.
    pub tiles: Option<TileSheet>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
}

/// A picture that was found.
#[derive(Debug, Serialize)]
pub struct Suggested {
    /// What it is.
    pub what: String,
    /// Where it stands; empty for what is no file.
    pub from: String,
    /// Width and height in pixels.
    pub size: (u32, u32),
    /// The file that it was written to.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub target: Option<PathBuf>,
}

/// Graphics of a ROM.
#[derive(Debug, Serialize)]
pub struct TileSheet {
    /// How they are stored.
    pub layout: &'static str,
    /// Offsets of the windows on the sheet, in bytes of the ROM.
    pub offsets: Vec<u64>,
    /// The sheet.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub target: Option<PathBuf>,
}

/// A picture with what it is and where it stands.
struct Own {
    what: String,
    from: String,
    picture: Picture,
}

/// Finds pictures; writes them into the folder `output`, if one is given.
///
/// # Errors
/// When there is none, a picture is damaged, or writing fails.
pub fn suggest(
    shown: &str,
    output: Option<&Path>,
    setting: &Setting<'_>,
) -> std::result::Result<SuggestReport, Failure> {
    let what = format!("cannot find pictures in \"{shown}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let mut item = locate::open(shown, "look for pictures in", setting)?;
    item.opened.look_inside().map_err(fail)?;
    let found = all_of(&item).map_err(fail)?;
    let tiles = graphics(&item).map_err(fail)?;
    if found.is_empty() && tiles.is_none() {
        let kind = crate::failure::with_article(&item.opened.identity.kind);
        let why = match Layout::of(item.opened.identity.format) {
            Some(layout) => {
                format!("{kind} without pictures, and nowhere plainly {}: its graphics may be packed", layout.name())
            }
            None => format!("{kind} without pictures that are known here"),
        };
        return Err(
            Failure::usage(what, why).hint("take a picture of your own: decanter label PICTURE -o PNG --size WxH")
        );
    }
    if let Some(output) = output.filter(|path| path.is_file()) {
        return Err(Failure::usage(what, format!("\"{}\" is a file", native::text(output)))
            .hint("several pictures need a folder: give one with -o"));
    }
    let mut files: Vec<(PathBuf, Vec<u8>)> = Vec::new();
    let mut report = SuggestReport {
        schema: "decanter.label-suggest/1",
        source: item.address.clone(),
        pictures: Vec::new(),
        tiles: None,
        dry_run: setting.dry_run,
    };
    let stem = place::folder_name(&item);
    for (number, own) in found.iter().enumerate() {
        let name = names::file_name(&format!("{stem} {} {}.png", number + 1, own.what));
        let target = output.map(|output| output.join(native::os(&name)));
        if let Some(target) = &target {
            files.push((target.clone(), png(&own.picture, &Options::default()).map_err(fail)?.1));
        }
        report.pictures.push(Suggested {
            what: own.what.clone(),
            from: own.from.clone(),
            size: (own.picture.width, own.picture.height),
            target,
        });
    }
    if let Some((layout, windows)) = tiles {
        let target = output.map(|output| output.join(native::os(&names::file_name(&format!("{stem} graphics.png")))));
        if let Some(target) = &target {
            files.push((target.clone(), sheet(&stem, layout, &windows).map_err(fail)?));
        }
        let offsets = windows.iter().map(|window| window.offset).collect();
        report.tiles = Some(TileSheet { layout: layout.name(), offsets, target });
    }
    for (target, bytes) in files {
        setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(bytes))), &target), &what)?;
    }
    Ok(report)
}

/// All pictures of a source, the largest first.
fn all_of(item: &Item) -> Result<Vec<Own>> {
    let mut all = Vec::new();
    if let Some(label) = &item.opened.told.label {
        let own = |(what, picture): (&str, Picture)| Own { what: what.to_owned(), from: String::new(), picture };
        all.extend(pictures(label)?.into_iter().map(own));
    }
    let files = item.opened.holds.tree.iter().flat_map(|tree| tree.files());
    for (node, file) in files.filter(|(node, _)| node.path.matches('/').count() <= MOST_DEEP) {
        let name = node.name().to_lowercase();
        let Some((_, what)) = KNOWN.iter().find(|(known, _)| *known == name) else { continue };
        // One that cannot be read is told where the source is verified; the others are as good as ever.
        let Ok(Some(picture)) = file.source().and_then(unpacked) else { continue };
        let is_new = !all.iter().any(|own: &Own| own.picture == picture);
        if is_new && all.len() < MOST {
            all.push(Own { what: (*what).to_owned(), from: node.path.clone(), picture });
        }
    }
    all.sort_by_key(|own| std::cmp::Reverse(own.picture.width * own.picture.height));
    Ok(all)
}

/// The icon of a source as a PNG of `edge` pixels across and down; one that cannot be drawn is none: it is no part of what is made.
pub(crate) fn icon(item: &Item, edge: u32) -> Option<Vec<u8>> {
    let picture = &icon_of(item)?;
    let filter = if picture.width < edge { Filter::Sharp } else { Filter::Smooth };
    let options = Options { size: Some((edge, edge)), filter, ..Options::default() };
    png(picture, &options).ok().map(|(_, png)| png)
}

/// The picture of a source that is most like an icon: as square and as large as can be. One that cannot be read is none.
fn icon_of(item: &Item) -> Option<Picture> {
    let all = all_of(item).ok()?;
    let is_square = |own: &&Own| own.picture.width == own.picture.height;
    let named = |own: &&Own| own.what == "icon";
    let best = all.iter().find(is_square).or_else(|| all.iter().find(named)).or(all.first())?;
    Some(best.picture.clone())
}

/// Where a ROM plainly holds graphics.
fn graphics(item: &Item) -> Result<Option<(Layout, Vec<Found>)>> {
    let (Some(rom), Some(layout)) = (&item.opened.holds.rom, Layout::of(item.opened.identity.format)) else {
        return Ok(None);
    };
    let bytes = read_vec(rom.body.as_ref(), 0, rom.body.len(), "a ROM", MOST_ROM)?;
    let found = tiles::windows(layout, &bytes, SHEET.0 * SHEET.1);
    Ok((!found.is_empty()).then_some((layout, found)))
}

/// The sheet: windows of graphics, each with its offset.
fn sheet(title: &str, layout: Layout, windows: &[Found]) -> Result<Vec<u8>> {
    let edge = tiles::EDGE * SCALE;
    let (across, down) = (windows.len().min(SHEET.0), windows.len().div_ceil(SHEET.0));
    let width = (MARGIN + across * (edge + MARGIN)).max(640);
    let mut canvas = Canvas::new(width, 96 + down * (edge + LINE + MARGIN), [250, 249, 246]);
    canvas.text(MARGIN, 20, 24.0, [38, 42, 48], title);
    canvas.text(
        MARGIN,
        54,
        15.0,
        [112, 118, 126],
        &format!("{}; colours are made up: a ROM does not say them here", layout.name()),
    );
    for (number, window) in windows.iter().enumerate() {
        let (x, y) = (MARGIN + number % SHEET.0 * (edge + MARGIN), 92 + number / SHEET.0 * (edge + LINE + MARGIN));
        canvas.draw(x, y, &window.picture, SCALE);
        canvas.text(x, y + edge + 6, 14.0, [112, 118, 126], &format!("from {:#x}", window.offset));
    }
    canvas.png()
}
