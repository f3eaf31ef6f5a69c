//! The banner (CBMD): models packed by LZ11, with textures of known kinds. Layout: docs/formats/n3ds-label.md.

use super::lz;
use super::tiles;
use crate::num::le32;
use decanter_core::label::Picture;
use decanter_core::{Error, Result};
use std::ops::Range;

const ID: &str = "cbmd";
/// Bytes of the header, and places of its fields.
const HEADER: usize = 0x88;
const COMMON: usize = 0x08;
const MODELS: usize = 14;
const SOUND: usize = 0x84;
/// The smallest edge of a texture that is taken for the picture.
const LEAST_EDGE: u32 = 64;
/// The largest edge that a texture may have.
const MOST_EDGE: u32 = 1024;

/// How pixels of a texture are stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pixels {
    /// Four bytes: opacity, blue, green, red.
    Rgba8,
    /// Three bytes: blue, green, red.
    Rgb8,
    /// 16 bits, opacity the lowest.
    Rgba5551,
    /// 16 bits.
    Rgb565,
    /// 16 bits, opacity the lowest four.
    Rgba4,
}

impl Pixels {
    fn of(number: u32) -> Option<Self> {
        Some(match number {
            0 => Self::Rgba8,
            1 => Self::Rgb8,
            2 => Self::Rgba5551,
            3 => Self::Rgb565,
            4 => Self::Rgba4,
            _ => return None,
        })
    }

    fn bytes(self) -> usize {
        match self {
            Self::Rgba8 => 4,
            Self::Rgb8 => 3,
            _ => 2,
        }
    }

    /// A pixel as it is stored.
    fn write(self, rgba: [u8; 4], out: &mut Vec<u8>) {
        let [r, g, b, a] = rgba.map(u16::from);
        let to = |value: u16, most: u32| ((u32::from(value) * most + 127) / 255) as u16;
        match self {
            Self::Rgba8 => out.extend([rgba[3], rgba[2], rgba[1], rgba[0]]),
            Self::Rgb8 => out.extend([rgba[2], rgba[1], rgba[0]]),
            Self::Rgba5551 => {
                let value = to(r, 31) << 11 | to(g, 31) << 6 | to(b, 31) << 1 | u16::from(a >= 128);
                out.extend(value.to_le_bytes());
            }
            Self::Rgb565 => out.extend(tiles::rgb565([rgba[0], rgba[1], rgba[2]]).to_le_bytes()),
            Self::Rgba4 => {
                let value = to(r, 15) << 12 | to(g, 15) << 8 | to(b, 15) << 4 | to(a, 15);
                out.extend(value.to_le_bytes());
            }
        }
    }
}

/// A texture that can be replaced.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Texture {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// How its pixels are stored.
    pub pixels: Pixels,
    /// Where they are in the unpacked model.
    pub range: Range<usize>,
}

/// The common model of a banner, unpacked, and the range that it takes packed.
///
/// # Errors
/// [`Error::Malformed`] for another mark and for offsets that lie outside.
pub fn common(banner: &[u8]) -> Result<(Vec<u8>, Range<usize>)> {
    let bad = |what: &'static str, at: usize| Error::malformed(ID, what, at as u64);
    if banner.len() < HEADER || banner[..4] != *b"CBMD" {
        return Err(bad("no CBMD mark", 0));
    }
    let start = le32(banner, COMMON) as usize;
    // The model ends where the next part begins: another model, or the sound.
    let others = (1..MODELS).map(|i| le32(banner, COMMON + i * 4) as usize).chain([le32(banner, SOUND) as usize]);
    let end = others.filter(|&at| at > start).min().unwrap_or(banner.len());
    let packed = banner.get(start..end).ok_or_else(|| bad("a model behind the end of the banner", COMMON))?;
    Ok((lz::unpack11(packed)?, start..end))
}

/// The largest texture of a known kind in a model; `None` if there is none.
pub fn texture(model: &[u8]) -> Option<Texture> {
    let mut best: Option<Texture> = None;
    for at in memchr::memmem::find_iter(model, b"TXOB") {
        let Some(found) = texture_at(model, at + 4) else { continue };
        let area = |t: &Texture| t.width * t.height;
        if best.as_ref().is_none_or(|b| area(&found) > area(b)) {
            best = Some(found);
        }
    }
    best
}

/// The texture whose mark ends at `at`.
fn texture_at(model: &[u8], at: usize) -> Option<Texture> {
    let field = |offset: usize| model.get(at + offset..at + offset + 4).map(|b| le32(b, 0));
    let (height, width, format) = (field(0x10)?, field(0x14)?, field(0x2c)?);
    let (len, place) = (field(0x3c)? as usize, field(0x40)? as usize);
    let pixels = Pixels::of(format)?;
    let edges = LEAST_EDGE..=MOST_EDGE;
    if !edges.contains(&width) || !edges.contains(&height) || !width.is_power_of_two() || !height.is_power_of_two() {
        return None;
    }
    let start = (at + 0x40).checked_add(place)?;
    let end = start.checked_add(len)?;
    let fits = len == (width * height) as usize * pixels.bytes() && end <= model.len();
    fits.then_some(Texture { width, height, pixels, range: start..end })
}

/// A texture's pixels made of a picture of its size, tile by tile.
pub fn pixels(picture: &Picture, kind: Pixels) -> Vec<u8> {
    let mut out = Vec::new();
    for index in 0..picture.width * picture.height {
        let (x, y) = tiles::place(index, picture.width);
        let at = ((y * picture.width + x) * 4) as usize;
        let rgba = &picture.rgba[at..at + 4];
        kind.write([rgba[0], rgba[1], rgba[2], rgba[3]], &mut out);
    }
    out
}

/// The banner with another common model; models of single languages are left out, so that all show that one.
///
/// # Errors
/// As [`common`].
pub fn with_common(banner: &[u8], model: &[u8]) -> Result<Vec<u8>> {
    common(banner)?;
    let sound_at = le32(banner, SOUND) as usize;
    let sound = if sound_at > 0 { banner.get(sound_at..) } else { Some(&[][..]) };
    let sound = sound.ok_or_else(|| Error::malformed(ID, "a sound behind the end of the banner", SOUND as u64))?;
    let mut out = banner[..HEADER].to_vec();
    out[COMMON..COMMON + MODELS * 4].fill(0);
    out[COMMON..COMMON + 4].copy_from_slice(&(HEADER as u32).to_le_bytes());
    out.extend(lz::pack11(model));
    out.resize(out.len().next_multiple_of(0x20), 0);
    let place = if sound.is_empty() { 0 } else { out.len() as u32 };
    out[SOUND..SOUND + 4].copy_from_slice(&place.to_le_bytes());
    out.extend_from_slice(sound);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A model with one texture of 64 by 64 RGB565 pixels, fields at the places of the layout.
    fn model() -> Vec<u8> {
        let mut model = vec![0; 0x20];
        model.extend(b"TXOB");
        let mut fields = vec![0; 0x48];
        let mut word = |at: usize, value: u32| fields[at..at + 4].copy_from_slice(&value.to_le_bytes());
        word(0x10, 64);
        word(0x14, 64);
        word(0x2c, 3);
        word(0x3c, 64 * 64 * 2);
        word(0x40, 8 + 8);
        model.extend(fields);
        model.resize(model.len() + 8 + 64 * 64 * 2, 0x5a);
        model
    }

    fn banner() -> Vec<u8> {
        let mut banner = vec![0; HEADER];
        banner[..4].copy_from_slice(b"CBMD");
        banner[COMMON] = HEADER as u8;
        banner.extend(lz::pack11(&model()));
        let sound = banner.len() as u32;
        banner[SOUND..SOUND + 4].copy_from_slice(&sound.to_le_bytes());
        banner.extend(b"CWAV sound");
        banner
    }

    #[test]
    fn a_texture_is_replaced_and_the_sound_stays() {
        let (mut model, _) = common(&banner()).unwrap();
        let found = texture(&model).unwrap();
        assert_eq!((found.width, found.pixels, found.range.len()), (64, Pixels::Rgb565, 8192));
        let red = Picture { width: 64, height: 64, rgba: [255, 0, 0, 255].repeat(64 * 64) };
        model[found.range.clone()].copy_from_slice(&pixels(&red, found.pixels));
        let changed = with_common(&banner(), &model).unwrap();
        let (again, _) = common(&changed).unwrap();
        assert_eq!(again[found.range.start..][..2], [0x00, 0xf8]);
        assert_eq!(again[..found.range.start], model[..found.range.start]);
        assert!(changed.ends_with(b"CWAV sound"));
    }

    #[test]
    fn pixels_of_every_kind_by_hand() {
        let of = |kind: Pixels| {
            let mut out = Vec::new();
            kind.write([255, 0, 136, 255], &mut out);
            out
        };
        assert_eq!(of(Pixels::Rgba8), [255, 136, 0, 255]);
        assert_eq!(of(Pixels::Rgb8), [136, 0, 255]);
        assert_eq!(of(Pixels::Rgba4), [0x8f, 0xf0]);
        assert_eq!(of(Pixels::Rgba5551), 0xf823u16.to_le_bytes());
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_banner_or_not(bytes in proptest::collection::vec(any::<u8>(), 0..400), at in 0u8..255) {
            static BANNER: std::sync::LazyLock<Vec<u8>> = std::sync::LazyLock::new(banner);
            let mut banner = BANNER[..300.min(BANNER.len())].to_vec();
            banner[COMMON] = at;
            banner.extend(&bytes);
            let _ = common(&banner).map(|(model, _)| texture(&model));
            let _ = texture(&[b"TXOB".as_slice(), &bytes].concat());
        }
    }
}
