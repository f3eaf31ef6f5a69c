//! Pictures in tiles of 8 by 8 pixels, in Z order: docs/formats/n3ds-label.md.

use decanter_core::label::Picture;

/// Pixels of a tile's edge.
const TILE: u32 = 8;

/// Column and row of pixel `index` in a picture `width` pixels wide, a multiple of eight.
pub fn place(index: u32, width: u32) -> (u32, u32) {
    let (tile, z) = (index / (TILE * TILE), index % (TILE * TILE));
    let (across, bit) = (width / TILE, |n: u32| z >> n & 1);
    let x = bit(0) | bit(2) << 1 | bit(4) << 2;
    let y = bit(1) | bit(3) << 1 | bit(5) << 2;
    (tile % across * TILE + x, tile / across * TILE + y)
}

/// Five bits as eight, so that full is full.
fn from5(value: u16) -> u8 {
    (value << 3 | value >> 2) as u8
}

fn from6(value: u16) -> u8 {
    (value << 2 | value >> 4) as u8
}

/// Eight bits as `most + 1` values, to the nearest.
fn to(value: u8, most: u32) -> u16 {
    ((u32::from(value) * most + 127) / 255) as u16
}

/// Red in the upper five bits, green in six, blue in the lower five.
pub fn rgb565(rgb: [u8; 3]) -> u16 {
    to(rgb[0], 31) << 11 | to(rgb[1], 63) << 5 | to(rgb[2], 31)
}

/// A tiled picture of RGB565 pixels. `bytes` has two for each pixel; the edges are multiples of eight.
pub fn read(bytes: &[u8], width: u32, height: u32) -> Picture {
    let mut rgba = vec![0xff; (width * height * 4) as usize];
    for (index, pair) in bytes.as_chunks::<2>().0.iter().enumerate() {
        let value = u16::from_le_bytes(*pair);
        let (x, y) = place(index as u32, width);
        if let Some(pixel) = rgba.get_mut(((y * width + x) * 4) as usize..).and_then(|p| p.get_mut(..3)) {
            pixel.copy_from_slice(&[from5(value >> 11), from6(value >> 5 & 0x3f), from5(value & 0x1f)]);
        }
    }
    Picture { width, height, rgba }
}

/// The same way back. What is transparent is mixed with black, as a console has nothing behind an icon.
pub fn write(picture: &Picture) -> Vec<u8> {
    let mut out = Vec::with_capacity((picture.width * picture.height * 2) as usize);
    for index in 0..picture.width * picture.height {
        let (x, y) = place(index, picture.width);
        let at = ((y * picture.width + x) * 4) as usize;
        let alpha = u32::from(picture.rgba[at + 3]);
        let mixed = [0, 1, 2].map(|c| ((u32::from(picture.rgba[at + c]) * alpha + 127) / 255) as u8);
        out.extend_from_slice(&rgb565(mixed).to_le_bytes());
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Worked out by hand from the layout: z = 0b110110 is x = 0b100 | ... : bits 0, 2, 4 are 0, 1, 1; bits 1, 3, 5 are 1, 0, 1.
    #[test]
    fn z_order() {
        assert_eq!([0, 1, 2, 3, 4, 63].map(|i| place(i, 24)), [(0, 0), (1, 0), (0, 1), (1, 1), (2, 0), (7, 7)]);
        assert_eq!(place(0b11_0110, 24), (0b110, 0b101));
        assert_eq!(place(64, 24), (8, 0), "second tile");
        assert_eq!(place(3 * 64, 24), (0, 8), "second row of tiles");
    }

    #[test]
    fn colours() {
        assert_eq!([rgb565([255, 0, 0]), rgb565([0, 255, 0]), rgb565([0, 0, 255])], [0xf800, 0x07e0, 0x001f]);
        assert_eq!(rgb565([128, 128, 128]), 16 << 11 | 32 << 5 | 16);
    }

    proptest! {
        #[test]
        fn stored_pixels_come_back(bytes in proptest::collection::vec(any::<u8>(), 48 * 48 * 2)) {
            prop_assert_eq!(write(&read(&bytes, 48, 48)), bytes);
        }
    }
}
