//! Pixels, text on them, and the PNG they become.

use ab_glyph::{Font, FontArc, PxScale, ScaleFont, point};
use decanter_core::label::Picture;
use decanter_core::{Error, Result};

/// Red, green, blue.
pub(crate) type Colour = [u8; 3];

/// The Latin part of DejaVu Sans; its licence stands beside it.
static FONT: &[u8] = include_bytes!("../../assets/DejaVuSans-Latin.ttf");

/// A picture in the making.
pub(crate) struct Canvas {
    width: usize,
    height: usize,
    pixels: Vec<u8>,
}

/// The font that is used where none is named.
///
/// # Errors
/// Never, as long as the file that ships is sound.
pub(crate) fn default_font() -> Result<FontArc> {
    FontArc::try_from_slice(FONT).map_err(|_| Error::Usage("the font that ships cannot be used".into()))
}

/// Width of a line of text in pixels.
pub(crate) fn text_width(font: &FontArc, size: f32, text: &str) -> f32 {
    let scaled = font.as_scaled(PxScale::from(size));
    text.chars().map(|c| scaled.h_advance(scaled.glyph_id(c))).sum()
}

/// As much of a line as fits, with a mark where it was cut.
pub(crate) fn fitting(font: &FontArc, size: f32, line: &str, across: usize) -> String {
    let mut text = line.to_owned();
    let is_long = |text: &str| text_width(font, size, text) > across as f32;
    while is_long(&text) {
        text.pop();
        if !is_long(&format!("{text}\u{2026}")) {
            text.push('\u{2026}');
            break;
        }
    }
    text
}

impl Canvas {
    pub(crate) fn new(width: usize, height: usize, paper: Colour) -> Self {
        Self { width, height, pixels: paper.repeat(width * height) }
    }

    /// A filled rectangle; what lies outside is not drawn.
    pub(crate) fn block(&mut self, x: usize, y: usize, width: usize, height: usize, colour: Colour) {
        self.shade(x, y, width, height, colour, 1.0);
    }

    /// A rectangle that lies over what is there, with an opacity from 0 to 1.
    pub(crate) fn shade(&mut self, x: usize, y: usize, width: usize, height: usize, colour: Colour, opacity: f32) {
        for row in y..(y + height).min(self.height) {
            for column in x..(x + width).min(self.width) {
                self.mix(column, row, colour, opacity);
            }
        }
    }

    /// A picture over what is there: what is transparent in it stays as it was.
    pub(crate) fn over(&mut self, x: usize, y: usize, picture: &Picture) {
        for (index, pixel) in picture.rgba.chunks_exact(4).enumerate() {
            let (column, row) = (index % picture.width as usize, index / picture.width as usize);
            self.mix(x + column, y + row, [pixel[0], pixel[1], pixel[2]], f32::from(pixel[3]) / 255.0);
        }
    }

    /// The same pixels as `picture`, without their opacity.
    pub(crate) fn of(picture: &Picture) -> Self {
        let pixels = picture.rgba.chunks_exact(4).flat_map(|p| [p[0], p[1], p[2]]).collect();
        Self { width: picture.width as usize, height: picture.height as usize, pixels }
    }

    /// What was drawn.
    pub(crate) fn picture(self) -> Picture {
        let rgba = self.pixels.chunks_exact(3).flat_map(|p| [p[0], p[1], p[2], 255]).collect();
        Picture { width: self.width as u32, height: self.height as u32, rgba }
    }

    /// A picture, each of its pixels drawn as a square of `scale` by `scale`.
    pub(crate) fn draw(&mut self, x: usize, y: usize, picture: &Picture, scale: usize) {
        for (index, pixel) in picture.rgba.chunks_exact(4).enumerate() {
            let (column, row) = (index % picture.width as usize, index / picture.width as usize);
            self.block(x + column * scale, y + row * scale, scale, scale, [pixel[0], pixel[1], pixel[2]]);
        }
    }

    /// A line of text in the default font whose upper left corner is at `x`, `y`; what does not fit is cut off.
    pub(crate) fn text(&mut self, x: usize, y: usize, size: f32, colour: Colour, text: &str) {
        if let Ok(font) = default_font() {
            self.text_with(&font, x, y, size, colour, text);
        }
    }

    /// The same in another font.
    pub(crate) fn text_with(&mut self, font: &FontArc, x: usize, y: usize, size: f32, colour: Colour, text: &str) {
        let scale = PxScale::from(size);
        let scaled = font.as_scaled(scale);
        let (mut at, base) = (x as f32, y as f32 + scaled.ascent());
        for letter in text.chars() {
            let id = font.glyph_id(letter);
            let glyph = id.with_scale_and_position(scale, point(at, base));
            if let Some(outline) = font.outline_glyph(glyph) {
                let bounds = outline.px_bounds();
                outline.draw(|dx, dy, cover| {
                    let (px, py) = (bounds.min.x as i64 + i64::from(dx), bounds.min.y as i64 + i64::from(dy));
                    if let (Ok(px), Ok(py)) = (usize::try_from(px), usize::try_from(py)) {
                        self.mix(px, py, colour, cover);
                    }
                });
            }
            at += scaled.h_advance(id);
        }
    }

    fn mix(&mut self, x: usize, y: usize, colour: Colour, cover: f32) {
        if x >= self.width || y >= self.height {
            return;
        }
        let at = (y * self.width + x) * 3;
        for (old, new) in self.pixels[at..at + 3].iter_mut().zip(colour) {
            *old = (f32::from(*old) + (f32::from(new) - f32::from(*old)) * cover.clamp(0.0, 1.0)).round() as u8;
        }
    }

    /// The picture as a PNG file.
    pub(crate) fn png(&self) -> Result<Vec<u8>> {
        let mut bytes = Vec::new();
        let failed = |e: png::EncodingError| Error::Usage(format!("the picture cannot be encoded: {e}"));
        let mut encoder = png::Encoder::new(&mut bytes, self.width as u32, self.height as u32);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        let mut writer = encoder.write_header().map_err(failed)?;
        writer.write_image_data(&self.pixels).map_err(failed)?;
        writer.finish().map_err(failed)?;
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PAPER: Colour = [250, 250, 250];

    fn at(canvas: &Canvas, x: usize, y: usize) -> &[u8] {
        &canvas.pixels[(y * canvas.width + x) * 3..][..3]
    }

    #[test]
    fn blocks_are_cut_off_at_the_edge() {
        let mut canvas = Canvas::new(20, 10, PAPER);
        canvas.block(15, 5, 100, 100, [1, 2, 3]);
        assert_eq!(at(&canvas, 19, 9), [1, 2, 3]);
        assert_eq!(at(&canvas, 14, 9), PAPER);
        assert_eq!(at(&canvas, 19, 4), PAPER);
    }

    #[test]
    fn text_leaves_ink_where_it_stands_and_nowhere_else() {
        let mut canvas = Canvas::new(200, 60, PAPER);
        canvas.text(10, 20, 20.0, [0, 0, 0], "Fogbell \u{2026} \u{fc}");
        let inked = |x: std::ops::Range<usize>, y: std::ops::Range<usize>| {
            y.flat_map(|y| x.clone().map(move |x| (x, y))).filter(|&(x, y)| at(&canvas, x, y) != PAPER).count()
        };
        assert!(inked(10..120, 18..46) > 200);
        assert_eq!(inked(0..200, 0..18), 0);
        assert_eq!(inked(0..9, 0..60), 0);
        // What does not fit is cut off; nothing panics.
        canvas.text(190, 55, 30.0, [0, 0, 0], "over the edge");
    }

    #[test]
    fn the_png_has_the_very_pixels() {
        let mut canvas = Canvas::new(3, 2, PAPER);
        canvas.block(1, 0, 1, 1, [9, 8, 7]);
        let bytes = canvas.png().unwrap();
        let mut reader = png::Decoder::new(std::io::Cursor::new(bytes)).read_info().unwrap();
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        reader.next_frame(&mut pixels).unwrap();
        assert_eq!(pixels, canvas.pixels);
    }
}
