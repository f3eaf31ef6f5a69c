//! Pictures of a recipe: the user's own, or one made of the title, in the shape that a console wants.

use crate::label::{self, Filter, Fit, Options};
use crate::picture::canvas::{self, Canvas};
use crate::{Setting, locate};
use decanter_core::label::Picture;
use decanter_core::{Error, Result, SourceRef};
use serde::Deserialize;

/// A picture, and how it becomes one of another shape.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Art {
    pub(super) picture: Option<String>,
    #[serde(default)]
    pub(super) fit: FitName,
    pub(super) background: Option<Colour>,
    pub(super) frame: Option<Colour>,
    pub(super) frame_width: Option<u32>,
}

/// How a picture fills a shape that is not its own.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum FitName {
    #[default]
    Crop,
    Letterbox,
    Stretch,
}

impl From<FitName> for Fit {
    fn from(name: FitName) -> Self {
        match name {
            FitName::Crop => Self::Crop,
            FitName::Letterbox => Self::Letterbox,
            FitName::Stretch => Self::Stretch,
        }
    }
}

impl FitName {
    /// As a recipe spells it.
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Crop => "crop",
            Self::Letterbox => "letterbox",
            Self::Stretch => "stretch",
        }
    }
}

/// Red, green and blue, written as in `"#2a4d5c"`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub(super) struct Colour(pub(super) [u8; 3]);

impl TryFrom<String> for Colour {
    type Error = String;

    fn try_from(text: String) -> std::result::Result<Self, String> {
        let mut rgb = [0; 3];
        let digits = text.trim_start_matches('#');
        match decanter_core::digest::unhex(digits, &mut rgb) {
            Some(found) if found.len() == 3 => Ok(Self(rgb)),
            _ => Err(format!("\"{text}\" is no colour: six hexadecimal digits, as in \"#2a4d5c\"")),
        }
    }
}

/// A picture in another shape, as transparent as it was; so are bars where it does not reach.
///
/// # Errors
/// When the shape has no pixels, or too many.
pub(super) fn fitted(picture: &Picture, size: (u32, u32), fit: FitName) -> Result<Picture> {
    let options = Options { size: Some(size), fit: fit.into(), filter: Filter::Smooth, background: [0; 4] };
    let scaled = label::scale(picture, &options)?;
    Ok(Picture { width: scaled.width(), height: scaled.height(), rgba: scaled.into_raw() })
}

/// A picture in another shape, with a frame around it.
pub(super) fn framed(
    picture: &Picture,
    size: (u32, u32),
    fit: FitName,
    background: Option<Colour>,
    frame: Option<(Colour, u32)>,
) -> Result<Picture> {
    let width = frame.map_or(0, |(_, width)| width).min(size.0.min(size.1) / 2 - 1);
    let inner = (size.0 - 2 * width, size.1 - 2 * width);
    let fit = fit.into();
    let [r, g, b] = background.map_or([0; 3], |c| c.0);
    let options = Options { size: Some(inner), fit, filter: Filter::Smooth, background: [r, g, b, 255] };
    let scaled = label::scale(picture, &options)?;
    let [fr, fg, fb] = frame.map_or([r, g, b], |(c, _)| c.0);
    let mut rgba = [fr, fg, fb, 255].repeat((size.0 * size.1) as usize);
    let (left, across) = (width as usize * 4, size.0 as usize * 4);
    let rows = rgba.chunks_exact_mut(across).skip(width as usize);
    for (row, own) in rows.zip(scaled.as_raw().chunks_exact(inner.0 as usize * 4)) {
        for (out, pixel) in row[left..].chunks_exact_mut(4).zip(own.chunks_exact(4)) {
            // What is transparent shows the background.
            let alpha = u32::from(pixel[3]);
            for ((out, over), under) in out.iter_mut().zip(&pixel[..3]).zip([r, g, b]) {
                *out = ((u32::from(*over) * alpha + u32::from(under) * (255 - alpha) + 127) / 255) as u8;
            }
        }
    }
    Ok(Picture { width: size.0, height: size.1, rgba })
}

/// The picture in a file that a recipe names, and that file.
///
/// # Errors
/// When it is not there, or is no picture.
pub(super) fn given(path: &str, setting: &Setting<'_>) -> Result<(Picture, SourceRef)> {
    let source = locate::bytes(path, setting)?;
    match label::unpacked(&source) {
        Ok(Some(picture)) => Ok((picture, source)),
        Ok(None) => Err(Error::Usage(format!("\"{path}\" is no picture: PNG and JPEG are read"))),
        Err(Error::Malformed { what, .. }) => {
            Err(Error::Unreadable { why: format!("the picture \"{path}\" cannot be used: {what}") })
        }
        Err(e) => Err(e),
    }
}

/// The picture of a title without one: its initials, on a colour of its own.
///
/// # Errors
/// When there is no font to draw it with.
pub(super) fn own(name: &str, digest: &[u8], size: (usize, usize)) -> Result<Picture> {
    let initials: String = name.split_whitespace().filter_map(|w| w.chars().next()).take(2).collect();
    let shade = |i: usize| 40 + digest.get(i).copied().unwrap_or(0) % 110;
    let mut canvas = Canvas::new(size.0, size.1, [shade(0), shade(1), shade(2)]);
    let font = canvas::default_font()?;
    let height = size.1 as f32 * 7.0 / 12.0;
    let across = canvas::text_width(&font, height, &initials);
    let x = ((size.0 as f32 - across) / 2.0).max(0.0) as usize;
    canvas.text_with(&font, x, (size.1 - height as usize) / 2, height, [245, 244, 240], &initials);
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

    #[test]
    fn colours() {
        assert_eq!(Colour::try_from("#2a4d5c".to_owned()), Ok(Colour([0x2a, 0x4d, 0x5c])));
        assert!(Colour::try_from("#2a4d".to_owned()).is_err());
    }
}
