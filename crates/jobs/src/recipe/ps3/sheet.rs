//! The preview: background, icon and title as a menu shows them, with what else there is below.

use super::ready::TitlePs3;
use crate::picture::canvas::{self, Canvas};
use crate::recipe::Ready;
use crate::recipe::art::{FitName, framed};
use decanter_core::Result;
use decanter_core::label::Picture;

const WIDTH: usize = 1280;
const HEIGHT: usize = 800;
/// The menu stands above, what is said of it below.
const MENU: usize = 720;
const NIGHT: [u8; 3] = [28, 34, 44];
const STRIP: [u8; 3] = [244, 244, 241];
const LIGHT: [u8; 3] = [250, 250, 248];
const INK: [u8; 3] = [38, 42, 48];
const FAINT: [u8; 3] = [112, 118, 126];
/// Where the icon stands.
const LEFT: usize = 96;
const TOP: usize = 272;

/// Draws the sheet of a title as a PNG.
pub(super) fn draw(ready: &TitlePs3) -> Result<Vec<u8>> {
    let mut canvas = Canvas::new(WIDTH, HEIGHT, NIGHT);
    if let Some(background) = &ready.media.background {
        let size = (WIDTH as u32, MENU as u32);
        canvas.draw(0, 0, &framed(&background.picture, size, FitName::Crop, None, None)?, 1);
    }
    let icon = &ready.media.icon.picture;
    let (width, height) = (icon.width as usize, icon.height as usize);
    canvas.shade(0, TOP - 24, WIDTH, height + 48, NIGHT, 0.72);
    canvas.over(LEFT, TOP, icon);
    let beside = LEFT + width + 32;
    canvas.text(beside, TOP + 40, 34.0, LIGHT, &fitting(34.0, &ready.name, WIDTH - beside - 40)?);
    let shown = ready.shown();
    let line = format!("{}, {}, {}", shown.kind, ready.id, ready.content_id);
    canvas.text(beside, TOP + 94, 18.0, LIGHT, &fitting(18.0, &line, WIDTH - beside - 40)?);
    if let Some(overlay) = &ready.media.overlay {
        // As large beside the background as it is on the console.
        let size = (overlay.picture.width * 2 / 3, overlay.picture.height * 2 / 3);
        let small = framed_clear(&overlay.picture, size)?;
        canvas.over(WIDTH - size.0 as usize - 40, MENU - size.1 as usize - 20, &small);
    }
    canvas.block(0, MENU, WIDTH, HEIGHT - MENU, STRIP);
    let made: Vec<String> =
        shown.files.iter().filter(|f| !f.path.contains('/')).map(|f| format!("{}: {}", f.path, f.from)).collect();
    canvas.text(40, MENU + 16, 15.0, INK, &fitting(15.0, &made.join("   "), WIDTH - 80)?);
    let facts: Vec<String> = shown.facts.iter().skip(1).map(|(name, value)| format!("{name} {value}")).collect();
    canvas.text(40, MENU + 44, 15.0, FAINT, &fitting(15.0, &facts.join("   "), WIDTH - 80)?);
    canvas.png()
}

/// A picture in another size, still as transparent as it was.
fn framed_clear(picture: &Picture, size: (u32, u32)) -> Result<Picture> {
    let options = crate::label::Options { size: Some(size), ..crate::label::Options::default() };
    let scaled = crate::label::scale(picture, &options)?;
    Ok(Picture { width: scaled.width(), height: scaled.height(), rgba: scaled.into_raw() })
}

/// As much of a line as fits.
fn fitting(size: f32, line: &str, across: usize) -> Result<String> {
    let font = canvas::default_font()?;
    let mut text = line.to_owned();
    let mut is_cut = false;
    while canvas::text_width(&font, size, &text) > across as f32 {
        text.pop();
        is_cut = true;
    }
    if is_cut {
        text.pop();
        text.push('\u{2026}');
    }
    Ok(text)
}
