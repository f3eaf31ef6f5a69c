//! Icons and the wide picture: the user's own, or one made of the title.

use super::{Art, Colour, FitName, Recipe, Wide};
use crate::label::{self, Filter, Fit, Options};
use crate::picture::canvas::{self, Canvas};
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
const OWN_EDGE: usize = 96;
/// Frames are given for this edge, and scaled with it.
const FRAME_EDGE: u32 = 48;

/// A picture in another shape, with a frame around it.
fn framed(
    picture: &Picture,
    size: (u32, u32),
    fit: FitName,
    background: Option<Colour>,
    frame: Option<(Colour, u32)>,
) -> Result<Picture> {
    let width = frame.map_or(0, |(_, width)| width).min(size.0.min(size.1) / 2 - 1);
    let inner = (size.0 - 2 * width, size.1 - 2 * width);
    let fit = match fit {
        FitName::Crop => Fit::Crop,
        FitName::Letterbox => Fit::Letterbox,
        FitName::Stretch => Fit::Stretch,
    };
    let [r, g, b] = background.map_or([0; 3], |c| c.0);
    let options = Options { size: Some(inner), fit, filter: Filter::Smooth, background: [r, g, b, 255] };
    let scaled = label::scale(picture, &options)?;
    let [fr, fg, fb] = frame.map_or([r, g, b], |(c, _)| c.0);
    let mut rgba = [fr, fg, fb, 255].repeat((size.0 * size.1) as usize);
    for (x, y, pixel) in scaled.enumerate_pixels() {
        let at = (((y + width) * size.0 + x + width) * 4) as usize;
        // What is transparent shows the background.
        for channel in 0..3 {
            let (over, under, alpha) = (u32::from(pixel[channel]), u32::from([r, g, b][channel]), u32::from(pixel[3]));
            rgba[at + channel] = ((over * alpha + under * (255 - alpha) + 127) / 255) as u8;
        }
    }
    Ok(Picture { width: size.0, height: size.1, rgba })
}

/// The icon with an edge of `edge` pixels.
pub(super) fn icon(recipe: &Recipe, art: &Art, own: &Picture, edge: u32, setting: &Setting<'_>) -> Result<Picture> {
    let given = given(recipe, art.picture.as_deref(), setting)?;
    let frame = art.frame.map(|colour| (colour, (art.frame_width.unwrap_or(2) * edge).div_ceil(FRAME_EDGE)));
    framed(given.as_ref().unwrap_or(own), (edge, edge), art.fit, art.background, frame)
}

/// The wide picture, with its text.
pub(super) fn wide(recipe: &Recipe, wide: &Wide, own: &Picture, setting: &Setting<'_>) -> Result<Picture> {
    let given = given(recipe, wide.picture.as_deref(), setting)?;
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

fn given(recipe: &Recipe, path: Option<&str>, setting: &Setting<'_>) -> Result<Option<Picture>> {
    let Some(path) = path else { return Ok(None) };
    let path = recipe.path(path);
    let picture = label::user_picture(&path, setting).map_err(|e| match e {
        Error::Malformed { what, .. } => {
            Error::Unreadable { why: format!("the picture \"{path}\" cannot be used: {what}") }
        }
        e => e,
    })?;
    match picture {
        Some(picture) => Ok(Some(picture)),
        None => {
            // A path that is not there says so itself.
            locate::bytes(&path, setting)?;
            Err(Error::Usage(format!("\"{path}\" is no picture: PNG and JPEG are read")))
        }
    }
}

fn font(recipe: &Recipe, path: Option<&str>, setting: &Setting<'_>) -> Result<FontArc> {
    let Some(path) = path else { return canvas::default_font() };
    let path = recipe.path(path);
    let source = locate::bytes(&path, setting)?;
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a font", MOST_FONT)?;
    FontArc::try_from_vec(bytes).map_err(|_| Error::Usage(format!("\"{path}\" is no font: TTF and OTF are read")))
}

/// The picture of a title without one: its initials, on a colour of its own.
pub(super) fn own(name: &str, digest: &[u8]) -> Result<Picture> {
    let initials: String = name.split_whitespace().filter_map(|w| w.chars().next()).take(2).collect();
    let shade = |i: usize| 40 + digest.get(i).copied().unwrap_or(0) % 110;
    let mut canvas = Canvas::new(OWN_EDGE, OWN_EDGE, [shade(0), shade(1), shade(2)]);
    let font = canvas::default_font()?;
    let size = 56.0;
    let across = canvas::text_width(&font, size, &initials);
    let x = ((OWN_EDGE as f32 - across) / 2.0).max(0.0) as usize;
    canvas.text_with(&font, x, (OWN_EDGE - size as usize) / 2, size, [245, 244, 240], &initials);
    Ok(canvas.picture())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_goes_around_and_the_rest_is_filled() {
        let red = Picture { width: 3, height: 3, rgba: [255, 0, 0, 255].repeat(9) };
        let frame = Some((Colour([1, 2, 3]), 2));
        let out = framed(&red, (24, 24), FitName::Crop, None, frame).unwrap();
        let at = |x: usize, y: usize| &out.rgba[(y * 24 + x) * 4..][..3];
        assert_eq!((at(0, 0), at(23, 23), at(1, 12)), (&[1, 2, 3][..], &[1, 2, 3][..], &[1, 2, 3][..]));
        assert!(at(2, 2)[0] > 240 && at(21, 21)[0] > 240);
        let clear = Picture { width: 2, height: 2, rgba: vec![0; 16] };
        let out = framed(&clear, (24, 24), FitName::Letterbox, Some(Colour([9, 8, 7])), None).unwrap();
        assert_eq!(out.rgba[..4], [9, 8, 7, 255]);
    }
}
