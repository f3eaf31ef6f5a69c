//! Icons and the wide picture: the user's own, or one made of the title.

use super::{Recipe, Wide};
use crate::picture::canvas::{self, Canvas};
use crate::recipe::art::{Art, framed, given};
use crate::{Setting, locate};
use ab_glyph::FontArc;
use decanter_core::label::Picture;
use decanter_core::source::read_vec;
use decanter_core::{Error, Result};

/// Size of the wide picture.
pub(super) const WIDE: (u32, u32) = (256, 128);
/// The largest font.
const MOST_FONT: u64 = 64 << 20;
/// The picture that titles without one get is made this large.
pub(super) const OWN: (usize, usize) = (96, 96);
/// Frames are given for this edge, and scaled with it.
const FRAME_EDGE: u32 = 48;

/// The picture that the user brings, if there is one.
fn own_picture(recipe: &Recipe, path: Option<&str>, setting: &Setting<'_>) -> Result<Option<Picture>> {
    let given = recipe.named(path).map(|path| given(&path, setting)).transpose()?;
    Ok(given.map(|(picture, _)| picture))
}

/// The icon with an edge of `edge` pixels.
pub(super) fn icon(recipe: &Recipe, art: &Art, own: &Picture, edge: u32, setting: &Setting<'_>) -> Result<Picture> {
    let given = own_picture(recipe, art.picture.as_deref(), setting)?;
    let frame = art.frame.map(|colour| (colour, (art.frame_width.unwrap_or(2) * edge).div_ceil(FRAME_EDGE)));
    framed(given.as_ref().unwrap_or(own), (edge, edge), art.fit, art.background, frame)
}

/// The wide picture, with its text.
pub(super) fn wide(recipe: &Recipe, wide: &Wide, own: &Picture, setting: &Setting<'_>) -> Result<Picture> {
    let given = own_picture(recipe, wide.picture.as_deref(), setting)?;
    let text = wide.text.as_deref().filter(|t| !t.trim().is_empty());
    // Initials and a text would stand on each other: of the title's own picture only the colour stays then.
    let plain = Picture { width: 1, height: 1, rgba: own.rgba[..4].to_vec() };
    let own = if text.is_some() { &plain } else { own };
    let frame = wide.frame.map(|colour| (colour, wide.frame_width.unwrap_or(4)));
    let picture = framed(given.as_ref().unwrap_or(own), WIDE, wide.fit, wide.background, frame)?;
    let Some(text) = text else { return Ok(picture) };
    let font = font(recipe, wide.font.as_deref(), setting)?;
    let mut canvas = Canvas::of(&picture);
    let lines: Vec<&str> = text.lines().collect();
    let (colour, size) = (wide.text_colour.map_or([255; 3], |c| c.0), wide.text_size.unwrap_or(24.0));
    let step = size * 1.15;
    if step * lines.len() as f32 > WIDE.1 as f32 {
        return Err(Error::Usage(format!(
            "{} lines at text-size {size} are {:.0} pixels high, the picture has {}",
            lines.len(),
            step * lines.len() as f32,
            WIDE.1
        )));
    }
    let top = (WIDE.1 as f32 - step * lines.len() as f32) / 2.0;
    for (index, line) in lines.iter().enumerate() {
        let across = canvas::text_width(&font, size, line);
        if across > WIDE.0 as f32 {
            return Err(Error::Usage(format!(
                "the text \"{line}\" is {across:.0} pixels wide at text-size {size}, the picture has {}",
                WIDE.0
            )));
        }
        let x = ((WIDE.0 as f32 - across) / 2.0) as usize;
        canvas.text_with(&font, x, (top + step * index as f32).max(0.0) as usize, size, colour, line);
    }
    Ok(canvas.picture())
}

fn font(recipe: &Recipe, path: Option<&str>, setting: &Setting<'_>) -> Result<FontArc> {
    let Some(path) = path else { return canvas::default_font() };
    let path = recipe.path(path);
    let source = locate::bytes(&path, setting)?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a font", MOST_FONT)?;
    FontArc::try_from_vec(bytes).map_err(|_| Error::Usage(format!("\"{path}\" is no font: TTF and OTF are read")))
}
