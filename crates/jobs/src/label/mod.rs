//! Titles and pictures: shown, and pictures scaled into PNG files.

mod suggest;
mod tiles;

pub(crate) use suggest::icon;
pub use suggest::{SuggestReport, Suggested, TileSheet, suggest};

use crate::{Failure, Setting, locate, place};
use decanter_core::blueprint::Blueprint;
use decanter_core::label::{Label, Picture};
use decanter_core::pour::Output;
use decanter_core::source::{Bytes, read_vec};
use decanter_core::{Error, Notice, Result, SourceRef};
use image::imageops::{self, FilterType};
use image::{ImageFormat, ImageReader, Limits, Rgba, RgbaImage};
use serde::Serialize;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The largest picture file that is read, and the longest edge of a picture.
const MOST_FILE: u64 = 64 << 20;
const MOST_EDGE: u32 = 16_384;
/// The longest edge that is written.
const MOST_TARGET: u32 = 8192;

/// How a picture fills a shape that is not its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Fit {
    /// All of it is shown, with bars where it does not reach.
    #[default]
    Letterbox,
    /// All of the shape is filled, and what is too much is cut from both sides.
    Crop,
    /// It is stretched.
    Stretch,
}

/// How pixels are computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Filter {
    /// Smooth (Lanczos, three lobes).
    #[default]
    Smooth,
    /// Hard edges: each pixel is one of the picture's own.
    Sharp,
}

/// What is asked for.
#[derive(Debug, Clone, Default)]
pub struct Options {
    /// Width and height of the result.
    pub size: Option<(u32, u32)>,
    /// How it is fitted.
    pub fit: Fit,
    /// How it is scaled.
    pub filter: Filter,
    /// Colour of bars: red, green, blue, opacity.
    pub background: [u8; 4],
}

/// What a source carries, and what was written.
#[derive(Debug, Serialize)]
pub struct LabelReport {
    /// Layout of this report.
    pub schema: &'static str,
    /// The source, with what it was looked through.
    pub source: String,
    /// Titles, each with its language.
    pub titles: Vec<(&'static str, String)>,
    /// Pictures: what each is, its width and height.
    pub pictures: Vec<(&'static str, u32, u32)>,
    /// The file that was written.
    #[serde(serialize_with = "decanter_core::native::maybe")]
    pub target: Option<PathBuf>,
    /// Its width and height.
    pub size: Option<(u32, u32)>,
    /// True when nothing was written because only a rehearsal was asked for.
    pub dry_run: bool,
    /// What was noticed on the way.
    pub notices: Vec<Notice>,
}

/// Shows the titles and pictures of a source; with `output` writes the first picture as a PNG.
///
/// # Errors
/// When the source has none, a picture cannot be read, or writing fails.
pub fn label(
    shown: &str,
    output: Option<&Path>,
    options: &Options,
    setting: &Setting<'_>,
) -> std::result::Result<LabelReport, Failure> {
    let what = format!("cannot take a label from \"{shown}\"");
    let fail = |e: Error| Failure::new(what.clone(), e);
    let (address, titles, pictures, notices) = match user_picture(shown, setting).map_err(fail)? {
        Some(picture) => (shown.to_owned(), Vec::new(), vec![("picture", picture)], Vec::new()),
        None => {
            let item = locate::open(shown, "take a label from", setting)?;
            let label = item.opened.told.label.unwrap_or_default();
            let pictures = pictures(&label).map_err(fail)?;
            if label.titles.is_empty() && pictures.is_empty() {
                let kind = crate::failure::with_article(&item.opened.identity.kind);
                return Err(Failure::usage(what, format!("{kind} carries no titles or pictures that are read here"))
                    .hint("give a DS ROM, a 3DS or Switch image or package, or a picture of your own (PNG or JPEG)"));
            }
            (item.address, label.titles, pictures, item.opened.told.notices)
        }
    };
    let output = output.map(|o| place::file(Some(o), &format!("{}.png", place::stem_of_shown(shown))));
    let mut report = LabelReport {
        schema: "decanter.label/1",
        source: address,
        titles,
        pictures: pictures.iter().map(|(name, p)| (*name, p.width, p.height)).collect(),
        target: output.clone(),
        size: None,
        dry_run: setting.dry_run,
        notices,
    };
    let Some(target) = &output else { return Ok(report) };
    let Some((_, picture)) = pictures.into_iter().next() else {
        return Err(Failure::usage(what, "it carries no picture").hint("give a picture of your own"));
    };
    let (size, png) = png(&picture, options).map_err(fail)?;
    report.size = Some(size);
    setting.write(Output::new(&Blueprint::of(Arc::new(Bytes(png))), target), &what)?;
    Ok(report)
}

/// The title in the user's language, on one line, where the label has one of its own.
pub(crate) fn title_in(titles: &[(&'static str, String)], code: &str) -> Option<String> {
    let name = match code {
        "ja" => "Japanese",
        "en" => "English",
        "fr" => "French",
        "de" => "German",
        "it" => "Italian",
        "es" => "Spanish",
        "zh" => "Simplified Chinese",
        "ko" => "Korean",
        "nl" => "Dutch",
        "pt" => "Portuguese",
        "ru" => "Russian",
        _ => return None,
    };
    let (_, text) = titles.iter().find(|(language, _)| *language == name)?;
    Some(text.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// A picture as a PNG file, with its width and height.
pub(crate) fn png(picture: &Picture, options: &Options) -> Result<((u32, u32), Vec<u8>)> {
    let scaled = scale(picture, options)?;
    let mut png = Cursor::new(Vec::new());
    scaled.write_to(&mut png, ImageFormat::Png).map_err(|e| Error::Usage(e.to_string()))?;
    Ok((scaled.dimensions(), png.into_inner()))
}

/// A picture of the user's own, if the source is one.
pub(crate) fn user_picture(shown: &str, setting: &Setting<'_>) -> Result<Option<Picture>> {
    match locate::bytes(shown, setting) {
        Ok(source) => unpacked(&source),
        Err(_) => Ok(None),
    }
}

/// The pictures of a label, those that are still packed unpacked.
pub(crate) fn pictures(label: &Label) -> Result<Vec<(&'static str, Picture)>> {
    let mut all = label.pictures.clone();
    for (name, source) in &label.packed {
        let picture = unpacked(source)?;
        all.push((name, picture.ok_or_else(|| Error::malformed("picture", "it is neither a PNG nor a JPEG", 0))?));
    }
    Ok(all)
}

/// The picture in a file, if it is a PNG or a JPEG.
///
/// # Errors
/// When it is damaged, or cannot be read.
pub(crate) fn unpacked(source: &SourceRef) -> Result<Option<Picture>> {
    let Some(format) = format(source)? else { return Ok(None) };
    let bytes = read_vec(source.as_ref(), 0, source.len(), "a picture", MOST_FILE)?;
    let mut reader = ImageReader::with_format(Cursor::new(bytes), format);
    let mut limits = Limits::default();
    (limits.max_image_width, limits.max_image_height) = (Some(MOST_EDGE), Some(MOST_EDGE));
    reader.limits(limits);
    let image = reader.decode().map_err(|e| Error::malformed("picture", e.to_string(), 0))?.into_rgba8();
    Ok(Some(Picture { width: image.width(), height: image.height(), rgba: image.into_raw() }))
}

/// Whether a file is a PNG.
///
/// # Errors
/// When it cannot be read.
pub(crate) fn is_png(source: &SourceRef) -> Result<bool> {
    Ok(format(source)? == Some(ImageFormat::Png))
}

/// What kind of picture a file is, by what it begins with.
fn format(source: &SourceRef) -> Result<Option<ImageFormat>> {
    let mut magic = [0; 8];
    let len = source.len().min(8) as usize;
    source.read_at(0, &mut magic[..len])?;
    Ok(match magic {
        [0x89, b'P', b'N', b'G', ..] => Some(ImageFormat::Png),
        [0xff, 0xd8, 0xff, ..] => Some(ImageFormat::Jpeg),
        _ => None,
    })
}

/// The picture in the size and shape that was asked for.
pub(crate) fn scale(picture: &Picture, options: &Options) -> Result<RgbaImage> {
    let image = RgbaImage::from_raw(picture.width, picture.height, picture.rgba.clone());
    let image = image.ok_or_else(|| Error::Usage("a picture with too few pixels".into()))?;
    let Some((width, height)) = options.size else { return Ok(image) };
    if !(1..=MOST_TARGET).contains(&width) || !(1..=MOST_TARGET).contains(&height) {
        return Err(Error::Usage(format!("{width} by {height} is not from 1 to {MOST_TARGET}")));
    }
    let (w, h) = (f64::from(image.width()), f64::from(image.height()));
    let (across, down) = (f64::from(width) / w, f64::from(height) / h);
    let factor = match options.fit {
        Fit::Letterbox => across.min(down),
        Fit::Crop => across.max(down),
        Fit::Stretch => return Ok(resize(image, width, height, options.filter)),
    };
    let inner = ((w * factor).round().max(1.0) as u32, (h * factor).round().max(1.0) as u32);
    let inner = resize(image, inner.0, inner.1, options.filter);
    let mut out = RgbaImage::from_pixel(width, height, Rgba(options.background));
    let middle = |outer: u32, inner: u32| (i64::from(outer) - i64::from(inner)) / 2;
    imageops::overlay(&mut out, &inner, middle(width, inner.width()), middle(height, inner.height()));
    Ok(out)
}

/// Scales with colours weighed by their opacity: what is transparent must not bleed into what is not.
fn resize(mut image: RgbaImage, width: u32, height: u32, filter: Filter) -> RgbaImage {
    if image.dimensions() == (width, height) {
        return image;
    }
    if filter == Filter::Sharp {
        return imageops::resize(&image, width, height, FilterType::Nearest);
    }
    if image.pixels().all(|p| p[3] == u8::MAX) {
        return imageops::resize(&image, width, height, FilterType::Lanczos3);
    }
    let weigh = |c: u8, a: u8| (u16::from(c) * u16::from(a) / 255) as u8;
    let unweigh = |c: u8, a: u8| if a == 0 { 0 } else { (u16::from(c) * 255 / u16::from(a)).min(255) as u8 };
    image.pixels_mut().for_each(|p| *p = Rgba([weigh(p[0], p[3]), weigh(p[1], p[3]), weigh(p[2], p[3]), p[3]]));
    let mut out = imageops::resize(&image, width, height, FilterType::Lanczos3);
    out.pixels_mut().for_each(|p| *p = Rgba([unweigh(p[0], p[3]), unweigh(p[1], p[3]), unweigh(p[2], p[3]), p[3]]));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture() -> Picture {
        // Left half red, right half transparent green.
        let row: Vec<u8> = [[255, 0, 0, 255], [255, 0, 0, 255], [0, 255, 0, 0], [0, 255, 0, 0]].concat();
        Picture { width: 4, height: 2, rgba: [row.clone(), row].concat() }
    }

    #[test]
    fn shapes() {
        let with = |fit, size| {
            scale(&picture(), &Options { size: Some(size), fit, background: [1, 2, 3, 255], ..Options::default() })
                .unwrap()
        };
        let boxed = with(Fit::Letterbox, (8, 8));
        assert_eq!(boxed.get_pixel(0, 0), &Rgba([1, 2, 3, 255]));
        // The filter overshoots a little near edges.
        let is_red = |p: &Rgba<u8>| p[0] > 240 && p[1] < 16 && p[2] < 16 && p[3] > 240;
        assert!(is_red(boxed.get_pixel(0, 4)), "{:?}", boxed.get_pixel(0, 4));
        let cropped = with(Fit::Crop, (8, 8));
        assert!(is_red(cropped.get_pixel(0, 0)), "{:?}", cropped.get_pixel(0, 0));
        assert_eq!(with(Fit::Stretch, (3, 5)).dimensions(), (3, 5));
    }

    #[test]
    fn what_is_transparent_does_not_bleed() {
        let options = Options { size: Some((400, 200)), fit: Fit::Stretch, ..Options::default() };
        let large = scale(&picture(), &options).unwrap();
        assert!(large.pixels().filter(|p| p[3] > 8).all(|p| p[1] < 8), "no green seam");
    }
}
