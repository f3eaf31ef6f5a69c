//! Made-up content: noise, texts, pictures.

use decanter_core::Result;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Source, check_range};

/// The text that lies in the archive.
pub(crate) const LEAFLET: &str = "Saltmarsh Pier Arcade Museum, accession 2026-117\n\
    One disc from the storage unit at 9 Brine Lane: Kelp Courier (DCNT-10001).\n\
    Dumped twice, both dumps alike. Box and leaflet are in drawer 14.\n";

/// Sixteen bytes that belong to `name` and mean nothing.
pub(crate) fn secret(name: &str) -> [u8; 16] {
    let digest = of_bytes(Algorithm::Sha256, format!("saltmarsh pier, {name}").as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&digest.bytes[..16]);
    bytes
}

/// Bytes that look random but are the same every time, computed wherever they are read.
pub(crate) struct Noise {
    pub(crate) seed: u64,
    /// What the bytes begin with.
    pub(crate) magic: &'static [u8],
    pub(crate) len: u64,
}

impl Noise {
    /// The eight bytes with number `index` (the finaliser of the SplitMix64 generator).
    fn word(&self, index: u64) -> u64 {
        let mut z = (self.seed ^ index).wrapping_mul(0x9e37_79b9_7f4a_7c15).wrapping_add(self.seed);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }
}

impl Source for Noise {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut at = offset;
        let mut rest = &mut *buf;
        while !rest.is_empty() {
            let word = self.word(at / 8).to_le_bytes();
            let from = (at % 8) as usize;
            let here = rest.len().min(8 - from);
            rest[..here].copy_from_slice(&word[from..from + here]);
            rest = &mut rest[here..];
            at += here as u64;
        }
        if let Some(magic) = self.magic.get(offset.min(self.magic.len() as u64) as usize..) {
            let here = magic.len().min(buf.len());
            buf[..here].copy_from_slice(&magic[..here]);
        }
        Ok(())
    }
}

/// A sound for a menu: the beginning of a RIFF file of ATRAC3, and noise where the sound belongs.
pub(crate) fn bell() -> Vec<u8> {
    const SOUND: u32 = 24_000;
    let mut bytes = b"RIFF".to_vec();
    bytes.extend((SOUND + 60 - 8).to_le_bytes());
    bytes.extend(b"WAVEfmt \x20\0\0\0\x70\x02\x02\0\x44\xac\0\0\x9d\x40\0\0\xc0\0\0\0\x0e\0\x01\0");
    bytes.resize(52, 0);
    bytes.extend(b"data");
    bytes.extend(SOUND.to_le_bytes());
    bytes.extend((0..SOUND).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8));
    bytes
}

const PLACES: [&str; 8] = [
    "Gull Steps",
    "Lamplighter Lane",
    "Brine Wharf",
    "Old Ropewalk",
    "Fogbell Point",
    "Eel Market",
    "Tin Chapel",
    "Pier Nine",
];

/// A letter that the player carries, as XML.
pub(crate) fn letter(number: usize) -> Vec<u8> {
    let (from, to) = (PLACES[number % 8], PLACES[(number * 3 + 1) % 8]);
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<letter number=\"{number}\" from=\"{from}\" to=\"{to}\">\n"
    );
    for line in 0..40 + number * 7 {
        let place = PLACES[(line * 5 + number) % 8];
        text.push_str(&format!(
            "  <line>The tide at {place} stood {} inches under the mark.</line>\n",
            (line * 37 + number * 11) % 97
        ));
    }
    text.push_str("</letter>\n");
    text.into_bytes()
}

/// A route over the marsh: a grid of small numbers, mostly alike.
pub(crate) fn route(number: usize) -> Vec<u8> {
    let mut bytes = b"ROUTE".to_vec();
    bytes.push(number as u8);
    bytes.extend((0..40_000 + number * 1000).map(|i| ((i / 200 + i % 200 / 7 + number) % 6) as u8));
    bytes
}

/// The marsh at dusk, with the pier as a dark line: red, green, blue of each pixel.
fn dusk(width: u32, height: u32) -> Vec<u8> {
    let mut pixels = Vec::with_capacity((width * height * 3) as usize);
    for y in 0..height {
        for x in 0..width {
            let water = y * 3 > height * 2;
            let wave = if water { (x * 7 / (y + 1) + y) % 9 * 4 } else { 0 };
            let pier = y * 12 / height == 7 && x * 4 > width;
            let base = y * 120 / height;
            let pixel = match (pier, water) {
                (true, _) => [38, 30, 34],
                (_, true) => [30 + wave, 58 + wave, 84 + wave],
                _ => [236 - base, 168 - base / 2, 120 + base / 2],
            };
            pixels.extend(pixel.map(|v| v.min(255) as u8));
        }
    }
    pixels
}

/// That picture as a texture of a console's processor: 128 pixels square, by the bits of both coordinates.
pub(crate) fn picture_texture() -> Vec<u8> {
    const EDGE: usize = 128;
    let pixels = dusk(EDGE as u32, EDGE as u32);
    let len = (EDGE * EDGE * 4) as u32;
    // A packed resource with one texture of 2^7 by 2^7 pixels with opacity; its pixels begin at 0x800.
    let words = [0x800 + len, 0x800, 0x0004_0001, 0, 0, 0x0771_0629, 0, u32::MAX];
    let mut bytes = b"XPR0".to_vec();
    bytes.extend(words.iter().flat_map(|word| word.to_le_bytes()));
    bytes.resize(0x800, 0);
    // Every second bit of a place is one of the column, the others are of the line.
    let every_second = |place: usize| (0..7).fold(0, |all, bit| all | (place >> (bit * 2) & 1) << bit);
    for place in 0..EDGE * EDGE {
        let at = (every_second(place >> 1) * EDGE + every_second(place)) * 3;
        bytes.extend([pixels[at + 2], pixels[at + 1], pixels[at], 255]);
    }
    bytes
}

/// That picture as a JPEG.
pub(crate) fn picture_jpeg(width: u32, height: u32) -> Vec<u8> {
    let mut bytes = Vec::new();
    let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(&mut bytes, 80);
    // Writing into memory does not fail.
    let _ =
        image::ImageEncoder::write_image(encoder, &dusk(width, height), width, height, image::ExtendedColorType::Rgb8);
    bytes
}

/// That picture as a PNG.
pub(crate) fn picture(width: u32, height: u32) -> Vec<u8> {
    let pixels = dusk(width, height);
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    // Writing into memory does not fail.
    if let Ok(mut writer) = encoder.write_header() {
        let _ = writer.write_image_data(&pixels);
    }
    bytes
}
