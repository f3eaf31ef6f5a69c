//! The preview sheet: icons, wide picture and darkening as the console shows them.

use super::art::WIDE;
use super::ready::Title3ds;
use crate::picture::canvas::{self, Canvas};
use decanter_core::Result;
use decanter_core::label::Picture;
use decanter_formats::package::n3ds::smdh::LANGUAGES;
use decanter_formats::package::n3ds::title as ids;

const WIDTH: usize = 1280;
const HEIGHT: usize = 800;
const MARGIN: usize = 40;
const PAPER: [u8; 3] = [236, 237, 240];
const CARD: [u8; 3] = [255, 255, 255];
const INK: [u8; 3] = [38, 42, 48];
const FAINT: [u8; 3] = [112, 118, 126];
/// How many times as large icons and the wide picture are drawn.
const ICON_SCALE: usize = 4;
const WIDE_SCALE: usize = 2;
/// Longest line of text, in pixels.
const MOST_ACROSS: usize = 560;

/// Draws the sheet of a title as a PNG.
pub(super) fn draw(ready: &Title3ds, has_base: bool) -> Result<Vec<u8>> {
    let mut canvas = Canvas::new(WIDTH, HEIGHT, PAPER);
    let names = ready.smdh.names(1);
    canvas.text(MARGIN, 28, 28.0, INK, &names.short);
    canvas.text(
        MARGIN,
        64,
        16.0,
        FAINT,
        &format!("title {}, {} ROM of {} KiB", ids::shown(ready.id), ready.system, ready.rom.len() >> 10),
    );
    // Icons on a card.
    let top = 110;
    canvas.block(MARGIN, top, 380, 262, CARD);
    canvas.draw(MARGIN + 28, top + 28, &ready.icons[0], ICON_SCALE);
    canvas.draw(MARGIN + 28 + 48 * ICON_SCALE + 24, top + 28, &ready.icons[1], ICON_SCALE);
    canvas.text(MARGIN + 28, top + 228, 14.0, FAINT, "48 by 48");
    canvas.text(MARGIN + 28 + 48 * ICON_SCALE + 24, top + 132, 14.0, FAINT, "24 by 24");
    names_card(&mut canvas, ready, top)?;
    wide_card(&mut canvas, ready, has_base);
    if !has_base {
        darkening_card(&mut canvas, ready);
    }
    canvas.png()
}

/// Names in the languages that differ from English.
fn names_card(canvas: &mut Canvas, ready: &Title3ds, top: usize) -> Result<()> {
    let left = MARGIN + 380 + 24;
    canvas.block(left, top, WIDTH - MARGIN - left, 262, CARD);
    let english = ready.smdh.names(1);
    let font = canvas::default_font()?;
    let mut y = top + 22;
    for line in english.long.lines().take(3) {
        canvas.text(left + 24, y, 22.0, INK, &canvas::fitting(&font, 22.0, line, MOST_ACROSS));
        y += 28;
    }
    canvas.text(left + 24, y, 16.0, FAINT, &canvas::fitting(&font, 16.0, &english.publisher, MOST_ACROSS));
    y += 34;
    for (number, language) in LANGUAGES.iter().enumerate() {
        let own = ready.smdh.names(number);
        if own != english && y < top + 236 {
            let text = format!("{language}: {}", own.long.replace('\n', " / "));
            canvas.text(left + 24, y, 16.0, INK, &canvas::fitting(&font, 16.0, &text, MOST_ACROSS));
            y += 24;
        }
    }
    Ok(())
}

fn wide_card(canvas: &mut Canvas, ready: &Title3ds, has_base: bool) {
    let top = 396;
    let (width, height) = (WIDE.0 as usize * WIDE_SCALE, WIDE.1 as usize * WIDE_SCALE);
    canvas.block(MARGIN, top, width + 48, height + 74, CARD);
    canvas.draw(MARGIN + 24, top + 24, &ready.wide, WIDE_SCALE);
    let text = if has_base {
        format!("wide picture, {} by {}", WIDE.0, WIDE.1)
    } else {
        format!("wide picture, {} by {}: not in the package, as a banner needs a base", WIDE.0, WIDE.1)
    };
    canvas.text(MARGIN + 24, top + height + 38, 14.0, FAINT, &text);
}

/// The wide picture at half its size and a ramp of greys, before and after darkening.
fn darkening_card(canvas: &mut Canvas, ready: &Title3ds) {
    let (left, top) = (MARGIN + WIDE.0 as usize * WIDE_SCALE + 48 + 24, 396);
    canvas.block(left, top, WIDTH - MARGIN - left, WIDE.1 as usize * WIDE_SCALE + 74, CARD);
    let settings = &ready.settings;
    let after = Picture {
        rgba: ready
            .wide
            .rgba
            .chunks_exact(4)
            .flat_map(|p| [settings.shown(p[0]), settings.shown(p[1]), settings.shown(p[2]), p[3]])
            .collect(),
        ..ready.wide.clone()
    };
    let step = WIDE.0 as usize + 16;
    for (index, (picture, what)) in
        [(&ready.wide, "as the game draws it"), (&after, "with gamma and brightness")].into_iter().enumerate()
    {
        let x = left + 24 + index * step;
        canvas.draw(x, top + 24, picture, 1);
        canvas.text(x, top + 160, 14.0, FAINT, what);
        for value in 0..256usize {
            let shown = if index == 0 { value as u8 } else { settings.shown(value as u8) };
            canvas.block(x + value, top + 190, 1, 40, [shown; 3]);
        }
    }
    let ghosting = if settings.ghosting == 0xff { "off".to_owned() } else { format!("{} of 255", settings.ghosting) };
    let text =
        format!("gamma {}, white at {:.0} %, motion ghosting {ghosting}", settings.gamma, settings.level * 100.0);
    canvas.text(left + 24, top + 250, 14.0, INK, &text);
    canvas.text(left + 24, top + 274, 14.0, INK, &format!("save: {}", settings.save.name()));
}
