//! Textures of the original Xbox as they stand in its programs: a packed resource with a description for its graphics processor,
//! then the pixels: in blocks of four by four that are packed, in the order of bits of both coordinates, or in lines.
//!
//! All numbers are little-endian. Layout: docs/formats/xbe-xex.md.

use crate::num::{le16, le32};
use decanter_core::label::Picture;

const MAGIC: &[u8] = b"XPR0";
/// The kind of a resource, in bits 16 to 18 of its first word.
const TEXTURE: u32 = 4;
/// The longest edge that is drawn, in pixels.
const MOST_EDGE: u32 = 1024;

/// How pixels are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Pixels {
    /// Blocks of four by four: two colours of 5, 6, 5 bits, and which of four between them each pixel has.
    Blocks(Opacity),
    /// Red, green, blue and opacity, so many bits each, from the highest bit of 2 or 4 bytes.
    Words([u32; 4]),
}

/// How opacity is kept in packed blocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Opacity {
    /// The fourth colour is none, where the first is not greater than the second.
    Colour,
    /// Four bits a pixel.
    Plain,
    /// Two ends, and three bits a pixel for how far between them.
    Between,
}

/// The formats of the processor: its number, how pixels are kept, and whether they stand in lines.
const FORMATS: [(u32, Pixels, bool); 15] = [
    (0x02, Pixels::Words([5, 5, 5, 1]), false),
    (0x03, Pixels::Words([5, 5, 5, 0]), false),
    (0x04, Pixels::Words([4, 4, 4, 4]), false),
    (0x05, Pixels::Words([5, 6, 5, 0]), false),
    (0x06, Pixels::Words([8, 8, 8, 8]), false),
    (0x07, Pixels::Words([8, 8, 8, 0]), false),
    (0x0c, Pixels::Blocks(Opacity::Colour), false),
    (0x0e, Pixels::Blocks(Opacity::Plain), false),
    (0x0f, Pixels::Blocks(Opacity::Between), false),
    (0x10, Pixels::Words([5, 5, 5, 1]), true),
    (0x11, Pixels::Words([5, 6, 5, 0]), true),
    (0x12, Pixels::Words([8, 8, 8, 8]), true),
    (0x1c, Pixels::Words([5, 5, 5, 0]), true),
    (0x1d, Pixels::Words([4, 4, 4, 4]), true),
    (0x1e, Pixels::Words([8, 8, 8, 0]), true),
];

/// The first texture of a packed resource.
///
/// # Errors
/// Why there is none, in words.
pub(super) fn picture(bytes: &[u8]) -> Result<Picture, String> {
    if bytes.len() < 32 || !bytes.starts_with(MAGIC) {
        return Err("it is no packed resource".into());
    }
    let [pixels_at, kind, place, format, size] = [8, 12, 16, 24, 28].map(|at| le32(bytes, at));
    if kind >> 16 & 7 != TEXTURE {
        return Err("its first resource is no texture".into());
    }
    let number = format >> 8 & 0xff;
    let known = FORMATS.iter().find(|(own, ..)| *own == number);
    let Some((_, pixels, is_lines)) = known else {
        return Err(format!("its pixels have a format that is not known here ({number:#04x})"));
    };
    // What has a power of two of pixels says so; what stands in lines says its edges, and bytes of a line.
    let (width, height) = match is_lines {
        true => ((size & 0xfff) + 1, (size >> 12 & 0xfff) + 1),
        false => (1 << (format >> 20 & 15), 1 << (format >> 24 & 15)),
    };
    if width > MOST_EDGE || height > MOST_EDGE {
        return Err(format!("it would have {width} x {height} pixels"));
    }
    let from = u64::from(pixels_at) + u64::from(place);
    let own = usize::try_from(from).ok().and_then(|from| bytes.get(from..)).unwrap_or_default();
    let texture = Texture { bytes: own, width: width as usize, height: height as usize };
    let rgba = match (pixels, is_lines) {
        (Pixels::Blocks(opacity), _) => texture.blocks(*opacity),
        (Pixels::Words(widths), true) => texture.words(*widths, &Lines(((size >> 24) as usize + 1) * 64)),
        (Pixels::Words(widths), false) => texture.words(*widths, &Woven { width, height }),
    };
    let rgba = rgba.ok_or("its pixels are cut short")?;
    Ok(Picture { width, height, rgba })
}

/// Where a pixel stands.
trait Order {
    /// The first byte of a pixel of `bytes` bytes.
    fn place(&self, x: usize, y: usize, bytes: usize) -> usize;
}

/// In lines of so many bytes.
struct Lines(usize);

impl Order for Lines {
    fn place(&self, x: usize, y: usize, bytes: usize) -> usize {
        y * self.0 + x * bytes
    }
}

/// By the bits of both coordinates in turn, the lowest of x first; what the longer edge has more comes last.
struct Woven {
    width: u32,
    height: u32,
}

impl Order for Woven {
    fn place(&self, x: usize, y: usize, bytes: usize) -> usize {
        let (mut place, mut bit) = (0, 0);
        for own in 0..self.width.max(self.height).ilog2() {
            for (coordinate, edge) in [(x, self.width), (y, self.height)] {
                if own < edge.ilog2() {
                    place |= (coordinate >> own & 1) << bit;
                    bit += 1;
                }
            }
        }
        place * bytes
    }
}

/// Pixels as they are kept.
struct Texture<'a> {
    bytes: &'a [u8],
    width: usize,
    height: usize,
}

impl Texture<'_> {
    /// Each pixel for itself; `None` where there are too few bytes.
    fn words(&self, widths: [u32; 4], order: &dyn Order) -> Option<Vec<u8>> {
        let bytes = if widths[0] == 8 { 4 } else { 2 };
        let [red, green, blue, opacity] = widths;
        let mut rgba = Vec::with_capacity(self.width * self.height * 4);
        for (y, x) in (0..self.height).flat_map(|y| (0..self.width).map(move |x| (y, x))) {
            let at = order.place(x, y, bytes);
            let own = self.bytes.get(at..at + bytes)?;
            let word = if bytes == 4 { le32(own, 0) } else { le16(own, 0).into() };
            let part = |shift: u32, width: u32| widened(word >> shift, width);
            rgba.extend([part(green + blue, red), part(blue, green), part(0, blue)]);
            rgba.push(if opacity == 0 { 255 } else { part(red + green + blue, opacity) });
        }
        Some(rgba)
    }

    /// Block by block; `None` where there are too few bytes.
    fn blocks(&self, opacity: Opacity) -> Option<Vec<u8>> {
        let bytes = if opacity == Opacity::Colour { 8 } else { 16 };
        let mut rgba = vec![0; self.width * self.height * 4];
        let across = self.width.div_ceil(4);
        for number in 0..across * self.height.div_ceil(4) {
            let own = self.bytes.get(number * bytes..(number + 1) * bytes)?;
            let pixels = block(own, opacity);
            let (left, top) = (number % across * 4, number / across * 4);
            for (index, pixel) in pixels.iter().enumerate() {
                let (x, y) = (left + index % 4, top + index / 4);
                if x < self.width && y < self.height {
                    rgba[(y * self.width + x) * 4..][..4].copy_from_slice(pixel);
                }
            }
        }
        Some(rgba)
    }
}

/// The lowest `width` bits of a word as one byte: their highest bits again below them.
fn widened(word: u32, width: u32) -> u8 {
    let value = word & ((1 << width) - 1);
    match width {
        8 => value as u8,
        1 => value as u8 * 255,
        4 => (value << 4 | value) as u8,
        _ => (value << (8 - width) | value >> (2 * width - 8)) as u8,
    }
}

/// The sixteen pixels of a block.
fn block(own: &[u8], opacity: Opacity) -> [[u8; 4]; 16] {
    let colours = &own[own.len() - 8..];
    let (first, second) = (le16(colours, 0), le16(colours, 2));
    let spread = |word: u16| [(11, 5), (5, 6), (0, 5)].map(|(shift, width)| widened(u32::from(word) >> shift, width));
    let (a, b) = (spread(first), spread(second));
    let mixed = |of_a: u16, of_b: u16| -> [u8; 3] {
        std::array::from_fn(|i| ((u16::from(a[i]) * of_a + u16::from(b[i]) * of_b) / (of_a + of_b)) as u8)
    };
    // Blocks with opacity of their own always have four colours.
    let has_four = first > second || opacity != Opacity::Colour;
    let table = match has_four {
        true => [a, b, mixed(2, 1), mixed(1, 2)],
        false => [a, b, mixed(1, 1), [0; 3]],
    };
    let which = le32(colours, 4);
    std::array::from_fn(|index| {
        let own_colour = (which >> (index * 2) & 3) as usize;
        let [r, g, b] = table[own_colour];
        let a = match opacity {
            Opacity::Colour => 255 * u8::from(has_four || own_colour < 3),
            Opacity::Plain => widened(u32::from(own[index / 2]) >> (index % 2 * 4), 4),
            Opacity::Between => between(own, index),
        };
        [r, g, b, a]
    })
}

/// The opacity of a pixel between two ends.
fn between(own: &[u8], index: usize) -> u8 {
    let (first, second) = (u32::from(own[0]), u32::from(own[1]));
    let bits = own[2..8].iter().rev().fold(0u64, |bits, byte| bits << 8 | u64::from(*byte));
    let step = (bits >> (index * 3) & 7) as u32;
    let value = match (step, first > second) {
        (0, _) => first,
        (1, _) => second,
        (step, true) => ((8 - step) * first + (step - 1) * second) / 7,
        (6, false) => 0,
        (7, false) => 255,
        (step, false) => ((6 - step) * first + (step - 1) * second) / 5,
    };
    value as u8
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A resource with one texture: of format `number`, with two to the power of `edges` pixels, or of `size`.
    fn resource(number: u32, edges: [u32; 2], size: u32, pixels: &[u8]) -> Vec<u8> {
        let format = 0x29 | number << 8 | 1 << 16 | edges[0] << 20 | edges[1] << 24;
        let words = [0x800 + pixels.len() as u32, 0x800, 0x0004_0001, 0, 0, format, size, u32::MAX];
        let mut bytes = MAGIC.to_vec();
        bytes.extend(words.iter().flat_map(|word| word.to_le_bytes()));
        bytes.resize(0x800, 0xad);
        bytes.extend(pixels);
        bytes
    }

    #[test]
    fn a_packed_block_by_hand() {
        // Red and blue; the first line takes each of the four colours, the others all take blue.
        let block = [0x00, 0xf8, 0x1f, 0x00, 0b1110_0100, 0x55, 0x55, 0x55];
        let own = picture(&resource(0x0c, [2, 2], 0, &block)).unwrap();
        assert_eq!((own.width, own.height), (4, 4));
        assert_eq!(own.rgba[..16], [255, 0, 0, 255, 0, 0, 255, 255, 170, 0, 85, 255, 85, 0, 170, 255]);
        assert!(own.rgba[16..].chunks(4).all(|pixel| pixel == [0, 0, 255, 255]));
        // With the lesser colour first there are three, and none.
        let block = [0x1f, 0x00, 0x00, 0xf8, 0b1110_0100, 0, 0, 0];
        let own = picture(&resource(0x0c, [2, 2], 0, &block)).unwrap();
        assert_eq!(own.rgba[..16], [0, 0, 255, 255, 255, 0, 0, 255, 127, 0, 127, 255, 0, 0, 0, 0]);
    }

    #[test]
    fn opacity_of_blocks_by_hand() {
        let white = [0xff, 0xff, 0, 0, 0, 0, 0, 0];
        let plain = [&[0x0f, 0x84, 0, 0, 0, 0, 0, 0xf0][..], &white].concat();
        let own = picture(&resource(0x0e, [2, 2], 0, &plain)).unwrap();
        let opacities: Vec<u8> = own.rgba.chunks(4).map(|pixel| pixel[3]).collect();
        assert_eq!((&opacities[..4], opacities[15]), (&[255, 0, 0x44, 0x88][..], 255));
        // Steps 0, 1, 2, 7 of three bits each: 0o7210 in the lowest twelve bits.
        let between = |ends: [u8; 2]| [&ends[..], &[0x88, 0x0e, 0, 0, 0, 0], &white].concat();
        let of = |ends| picture(&resource(0x0f, [2, 2], 0, &between(ends))).unwrap();
        let first = |own: &Picture| own.rgba.chunks(4).take(4).map(|pixel| pixel[3]).collect::<Vec<_>>();
        assert_eq!(first(&of([210, 70])), [210, 70, 190, 90]);
        assert_eq!(first(&of([70, 210])), [70, 210, 98, 255]);
    }

    #[test]
    fn woven_pixels_stand_by_the_bits_of_their_place() {
        // Eight by two: x0 y0 x1 x2.
        let pixels: Vec<u8> = (0..16u8).flat_map(|number| [number, 0, 0, 255]).collect();
        let own = picture(&resource(0x06, [3, 1], 0, &pixels)).unwrap();
        let blue: Vec<u8> = own.rgba.chunks(4).map(|pixel| pixel[2]).collect();
        assert_eq!(blue, [0, 1, 4, 5, 8, 9, 12, 13, 2, 3, 6, 7, 10, 11, 14, 15]);
    }

    #[test]
    fn lines_have_a_length_of_their_own() {
        // Three by two pixels of 5, 6 and 5 bits, in lines of 64 bytes.
        let mut pixels = vec![0; 128];
        pixels[4..6].copy_from_slice(&0xf800u16.to_le_bytes());
        pixels[64..66].copy_from_slice(&0x07e0u16.to_le_bytes());
        let own = picture(&resource(0x11, [0, 0], 2 | 1 << 12, &pixels)).unwrap();
        assert_eq!((own.width, own.height, &own.rgba[8..12]), (3, 2, &[255, 0, 0, 255][..]));
        assert_eq!(own.rgba[12..16], [0, 255, 0, 255]);
        assert_eq!((widened(0b10000, 5), widened(0b100000, 6), widened(0xa, 4)), (0x84, 0x82, 0xaa));
    }

    #[test]
    fn what_is_none_is_told() {
        let told = |bytes: &[u8]| picture(bytes).unwrap_err();
        let good = resource(0x0c, [2, 2], 0, &[0; 8]);
        assert!(told(&good[..20]).contains("no packed resource") && told(b"XPR1").contains("no packed"));
        assert!(told(&good[..good.len() - 1]).contains("cut short"));
        assert!(told(&resource(0x2a, [2, 2], 0, &[0; 8])).contains("0x2a"));
        assert!(told(&resource(0x0c, [11, 2], 0, &[0; 8])).contains("2048 x 4"));
        let mut other = good.clone();
        other[14] = 1;
        assert!(told(&other).contains("no texture"));
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(mut head in proptest::collection::vec(any::<u8>(), 28..60), format in 0u32..0x40) {
            let whole = [MAGIC, &head].concat();
            let _ = picture(&whole);
            head[10] = 4;
            head[21] = format as u8;
            let _ = picture(&[MAGIC, &head].concat());
        }
    }
}
