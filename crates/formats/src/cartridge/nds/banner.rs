//! The banner: an icon of 32 by 32 pixels and the title in several languages.

use super::super::check16;
use super::super::text::utf16;
use crate::cartridge::handheld::crc16;
use crate::num::le16;
use decanter_core::label::{Label, Picture};
use decanter_core::rom::Check;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};

/// Bytes of the first version.
pub(super) const LEAST: u64 = 0x840;
/// Bytes that all languages take.
const MOST: u64 = 0xa40;
/// Where icon, palette and titles stand, and the length of a title.
const ICON: usize = 0x20;
const PALETTE: usize = 0x220;
const TITLES: usize = 0x240;
const TITLE: usize = 0x100;
const LANGUAGES: [&str; 8] = ["Japanese", "English", "French", "German", "Italian", "Spanish", "Chinese", "Korean"];
/// Pixels of an edge of the icon, and of a tile.
const EDGE: u32 = 32;
const TILE: usize = 8;

/// Titles, icon and checksums of the banner at `at`.
///
/// # Errors
/// When it is cut short.
pub(super) fn read(source: &dyn Source, at: u64) -> Result<(Label, Vec<Check>)> {
    if at + LEAST > source.len() {
        return Err(Error::PastEnd { offset: at, asked: LEAST, len: source.len() });
    }
    let bytes = read_vec(source, at, MOST.min(source.len() - at), "a banner", MOST)?;
    // Later versions add Chinese, Korean and a checksum for each longer part.
    let version = le16(&bytes, 0);
    let ends: &[(usize, usize)] = match version {
        1 => &[(2, 0x840)],
        2 => &[(2, 0x840), (4, 0x940)],
        _ => &[(2, 0x840), (4, 0x940), (6, 0xa40)],
    };
    let names = ["banner checksum", "banner checksum with Chinese", "banner checksum with Korean"];
    let inside = ends.iter().zip(names).filter(|((_, end), _)| *end <= bytes.len());
    let checks =
        inside.map(|(&(field, end), name)| check16(name, le16(&bytes, field), crc16(&bytes[0x20..end]))).collect();
    let count = 5 + ends.len();
    let title = |index: usize| bytes.get(TITLES + index * TITLE..TITLES + (index + 1) * TITLE).map(utf16);
    let titles = LANGUAGES.iter().take(count).enumerate().filter_map(|(i, language)| Some((*language, title(i)?)));
    let titles = titles.filter(|(_, t)| !t.is_empty()).collect();
    Ok((Label { titles, pictures: vec![("icon", icon(&bytes))], packed: Vec::new() }, checks))
}

/// Tiles of 8 by 8, four bits a pixel, the left one low; the first colour of the palette is transparent.
fn icon(bytes: &[u8]) -> Picture {
    let mut rgba = vec![0; (EDGE * EDGE * 4) as usize];
    let tiles = EDGE as usize / TILE;
    for (index, &pair) in bytes[ICON..PALETTE].iter().enumerate() {
        for (half, colour) in [pair & 0xf, pair >> 4].into_iter().enumerate() {
            let pixel = index * 2 + half;
            let (tile, inside) = (pixel / (TILE * TILE), pixel % (TILE * TILE));
            let x = tile % tiles * TILE + inside % TILE;
            let y = tile / tiles * TILE + inside / TILE;
            let out = (y * EDGE as usize + x) * 4;
            let value = le16(bytes, PALETTE + usize::from(colour) * 2);
            for (channel, slot) in rgba[out..out + 3].iter_mut().enumerate() {
                // Five bits become eight, so that full is full.
                let five = (value >> (5 * channel) & 0x1f) as u8;
                *slot = five << 3 | five >> 2;
            }
            rgba[out + 3] = if colour == 0 { 0 } else { 0xff };
        }
    }
    Picture { width: EDGE, height: EDGE, rgba }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pixels_of_an_icon() {
        let mut bytes = vec![0; LEAST as usize];
        // Second tile, first row: colours 1 and 2. Colour 1 is full red, 2 full blue.
        bytes[ICON + 32] = 0x21;
        bytes[PALETTE + 2..PALETTE + 6].copy_from_slice(&[0x1f, 0, 0, 0x7c]);
        let picture = icon(&bytes);
        assert_eq!(picture.rgba[8 * 4..10 * 4], [255, 0, 0, 255, 0, 0, 255, 255]);
        assert_eq!(picture.rgba[..4], [0, 0, 0, 0]);
    }
}
