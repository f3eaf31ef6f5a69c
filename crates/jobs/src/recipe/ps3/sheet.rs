//! The preview: background, icon and title as a menu shows them, with what else there is below.

use super::media::Media;
use super::ready::TitlePs3;
use crate::picture::canvas::{Canvas, default_font, fitting};
use crate::recipe::art::{FitName, fitted, framed};
use decanter_core::Result;

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
pub(super) fn draw(ready: &TitlePs3, media: &Media) -> Result<Vec<u8>> {
    let (mut canvas, font) = (Canvas::new(WIDTH, HEIGHT, NIGHT), default_font()?);
    if let Some(background) = &media.background {
        let size = (WIDTH as u32, MENU as u32);
        canvas.draw(0, 0, &framed(&background.picture, size, FitName::Crop, None, None)?, 1);
    }
    let icon = &media.icon.picture;
    let (width, height) = (icon.width as usize, icon.height as usize);
    canvas.shade(0, TOP - 24, WIDTH, height + 48, NIGHT, 0.72);
    canvas.over(LEFT, TOP, icon);
    let beside = LEFT + width + 32;
    canvas.text(beside, TOP + 40, 34.0, LIGHT, &fitting(&font, 34.0, &ready.name, WIDTH - beside - 40));
    let shown = ready.told(media);
    let line = format!("{}, {}, {}", shown.kind, ready.id, ready.content_id);
    canvas.text(beside, TOP + 94, 18.0, LIGHT, &fitting(&font, 18.0, &line, WIDTH - beside - 40));
    if let Some(overlay) = &media.overlay {
        // As large beside the background as it is on the console.
        let size = (overlay.picture.width * 2 / 3, overlay.picture.height * 2 / 3);
        let small = fitted(&overlay.picture, size, FitName::Stretch)?;
        canvas.over(WIDTH - size.0 as usize - 40, MENU - size.1 as usize - 20, &small);
    }
    canvas.block(0, MENU, WIDTH, HEIGHT - MENU, STRIP);
    let made: Vec<String> =
        shown.files.iter().filter(|f| !f.path.contains('/')).map(|f| format!("{}: {}", f.path, f.from)).collect();
    canvas.text(40, MENU + 16, 15.0, INK, &fitting(&font, 15.0, &made.join("   "), WIDTH - 80));
    let facts: Vec<String> = shown.facts.iter().skip(1).map(|(name, value)| format!("{name} {value}")).collect();
    canvas.text(40, MENU + 44, 15.0, FAINT, &fitting(&font, 15.0, &facts.join("   "), WIDTH - 80));
    canvas.png()
}
