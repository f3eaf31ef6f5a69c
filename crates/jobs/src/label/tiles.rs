//! Graphics in ROMs: squares of 8 by 8 pixels, each console in its own way. Where a ROM holds some plainly shows by how much
//! neighbouring pixels are alike: in code and in packed data they are not.

use decanter_core::label::Picture;

/// Squares of a window, across and down.
const ACROSS: usize = 16;
/// Pixels of a window's edge.
pub(super) const EDGE: usize = ACROSS * 8;
/// Squares of a window.
const SQUARES: usize = ACROSS * ACROSS;
/// Squares that a window needs with something in them.
const LEAST_USED: usize = 40;
/// Of these, how many of a hundred have to look like graphics.
const LEAST_SHARE: usize = 70;
/// Of the pairs of neighbours in a square, how many of a hundred are alike in graphics.
const ALIKE: std::ops::Range<usize> = 42..99;

/// How a console stores a square.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Layout {
    /// Two bits: eight bytes of the lower ones, then eight of the upper ones (NES).
    TwoApart,
    /// Two bits: row by row a byte of the lower ones and one of the upper ones (Game Boy).
    TwoByRow,
    /// Four bits: as before, the lower two of all rows, then the upper two (SNES, PC Engine).
    FourInPairs,
    /// Four bits: row by row a byte of each (Master System, Game Gear).
    FourByRow,
    /// Four bits: pixel by pixel, the left one in the upper half (Mega Drive).
    LeftHigh,
    /// Four bits: pixel by pixel, the left one in the lower half (Game Boy Advance, DS).
    LeftLow,
}

impl Layout {
    /// That of a format; `None` where graphics are no such squares.
    pub(super) fn of(format: &str) -> Option<Self> {
        Some(match format {
            "nes" => Self::TwoApart,
            "gb" => Self::TwoByRow,
            "snes" | "pce" => Self::FourInPairs,
            "sms" => Self::FourByRow,
            "md" => Self::LeftHigh,
            "gba" | "nds" => Self::LeftLow,
            _ => return None,
        })
    }

    /// The same in words.
    pub(super) fn name(self) -> &'static str {
        match self {
            Self::TwoApart | Self::TwoByRow => "squares of 8 by 8 pixels in four shades",
            _ => "squares of 8 by 8 pixels in sixteen colours",
        }
    }

    fn bytes(self) -> usize {
        match self {
            Self::TwoApart | Self::TwoByRow => 16,
            _ => 32,
        }
    }

    /// The largest value of a pixel.
    fn most(self) -> u8 {
        if self.bytes() == 16 { 3 } else { 15 }
    }

    /// The pixels of a square, row by row.
    fn pixels(self, square: &[u8]) -> [u8; 64] {
        let bit = |byte: u8, x: usize| byte >> (7 - x) & 1;
        std::array::from_fn(|at| {
            let (x, y) = (at % 8, at / 8);
            match self {
                Self::TwoApart => bit(square[y], x) | bit(square[y + 8], x) << 1,
                Self::TwoByRow => bit(square[y * 2], x) | bit(square[y * 2 + 1], x) << 1,
                Self::FourInPairs => {
                    let low = bit(square[y * 2], x) | bit(square[y * 2 + 1], x) << 1;
                    low | bit(square[y * 2 + 16], x) << 2 | bit(square[y * 2 + 17], x) << 3
                }
                Self::FourByRow => (0..4).fold(0, |value, plane| value | bit(square[y * 4 + plane], x) << plane),
                Self::LeftHigh | Self::LeftLow => {
                    let byte = square[y * 4 + x / 2];
                    let is_high = (x % 2 == 0) == (self == Self::LeftHigh);
                    if is_high { byte >> 4 } else { byte & 15 }
                }
            }
        })
    }
}

/// A window with graphics.
pub(super) struct Found {
    /// Where it begins, in bytes.
    pub(super) offset: u64,
    pub(super) picture: Picture,
}

/// How much of a square's pairs of neighbours is alike, of a hundred; `None` for one of a single value.
fn alike(pixels: &[u8; 64]) -> Option<usize> {
    if pixels.iter().all(|pixel| *pixel == pixels[0]) {
        return None;
    }
    let across = (0..64).filter(|at| at % 8 < 7 && pixels[*at] == pixels[at + 1]).count();
    let down = (0..56).filter(|at| pixels[*at] == pixels[at + 8]).count();
    Some((across + down) * 100 / 112)
}

/// The windows of a ROM that look most like graphics, in their order.
pub(super) fn windows(layout: Layout, rom: &[u8], most: usize) -> Vec<Found> {
    let (square, window) = (layout.bytes(), layout.bytes() * SQUARES);
    let likeness: Vec<Option<usize>> = rom.chunks_exact(square).map(|bytes| alike(&layout.pixels(bytes))).collect();
    let score = |first: usize| {
        let own = likeness.get(first..(first + SQUARES).min(likeness.len())).unwrap_or_default();
        let used = own.iter().flatten().count();
        let good = own.iter().flatten().filter(|share| ALIKE.contains(share)).count();
        (used >= LEAST_USED && good * 100 >= used * LEAST_SHARE).then_some(good)
    };
    let mut scored: Vec<(usize, usize)> =
        (0..likeness.len()).step_by(SQUARES / 2).filter_map(|first| Some((score(first)?, first))).collect();
    scored.sort_by_key(|(good, first)| (std::cmp::Reverse(*good), *first));
    let mut chosen: Vec<usize> = Vec::new();
    for (_, first) in scored {
        if chosen.len() < most && chosen.iter().all(|other| other.abs_diff(first) >= SQUARES) {
            chosen.push(first);
        }
    }
    chosen.sort_unstable();
    let draw = |first: usize| Found {
        offset: (first * square) as u64,
        picture: drawn(layout, &rom[first * square..(first * square + window).min(rom.len())]),
    };
    chosen.into_iter().map(draw).collect()
}

/// A window as a picture, from light to dark.
fn drawn(layout: Layout, bytes: &[u8]) -> Picture {
    let mut rgba = [244, 242, 236, 255].repeat(EDGE * EDGE);
    for (number, square) in bytes.chunks_exact(layout.bytes()).take(SQUARES).enumerate() {
        let (left, top) = (number % ACROSS * 8, number / ACROSS * 8);
        for (at, value) in layout.pixels(square).into_iter().enumerate() {
            let share = u32::from(value) * 255 / u32::from(layout.most());
            let shade = |light: u32, dark: u32| (light - (light - dark) * share / 255) as u8;
            let place = ((top + at / 8) * EDGE + left + at % 8) * 4;
            rgba[place..place + 3].copy_from_slice(&[shade(244, 20), shade(242, 32), shade(236, 46)]);
        }
    }
    Picture { width: EDGE as u32, height: EDGE as u32, rgba }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ALL: [Layout; 6] =
        [Layout::TwoApart, Layout::TwoByRow, Layout::FourInPairs, Layout::FourByRow, Layout::LeftHigh, Layout::LeftLow];

    /// One square each whose first row is 0 1 2 3 3 2 1 0, worked out by hand; all other rows are zeros.
    #[test]
    fn a_square_is_read_as_each_console_stores_it() {
        let row = |layout: Layout, bytes: &[(usize, u8)]| {
            let mut square = vec![0; layout.bytes()];
            bytes.iter().for_each(|(at, byte)| square[*at] = *byte);
            let pixels = layout.pixels(&square);
            assert!(pixels[8..].iter().all(|p| *p == 0), "{layout:?}");
            pixels[..8].to_vec()
        };
        let wanted = vec![0, 1, 2, 3, 3, 2, 1, 0];
        let (low, high) = (0b0101_1010, 0b0011_1100);
        assert_eq!(row(Layout::TwoApart, &[(0, low), (8, high)]), wanted);
        assert_eq!(row(Layout::TwoByRow, &[(0, low), (1, high)]), wanted);
        assert_eq!(row(Layout::FourInPairs, &[(0, low), (1, high)]), wanted);
        assert_eq!(
            row(Layout::FourInPairs, &[(16, low), (17, high)]),
            wanted.iter().map(|p| p << 2).collect::<Vec<_>>()
        );
        assert_eq!(row(Layout::FourByRow, &[(0, low), (1, high)]), wanted);
        assert_eq!(row(Layout::LeftHigh, &[(0, 0x01), (1, 0x23), (2, 0x32), (3, 0x10)]), wanted);
        assert_eq!(row(Layout::LeftLow, &[(0, 0x10), (1, 0x32), (2, 0x23), (3, 0x01)]), wanted);
    }

    fn noise(len: usize) -> Vec<u8> {
        let mut state = 7u64;
        let next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 56) as u8
        };
        std::iter::repeat_with(next).take(len).collect()
    }

    #[test]
    fn graphics_are_found_among_code_and_nothing_else_is() {
        for layout in ALL {
            let mut rom = noise(96 << 10);
            rom.extend(vec![0; 8 << 10]);
            // Blocks of 4 by 4 pixels of one value: what letters and walls are made of.
            let offset = rom.len();
            for square in 0..SQUARES {
                let block = if layout.bytes() == 16 { [0xf0, 0x0f] } else { [0xff, 0x00] };
                rom.extend((0..layout.bytes()).map(|at| block[(at / 4 + square) % 2]));
            }
            rom.extend(noise(32 << 10));
            let found = windows(layout, &rom, 12);
            let near = |f: &Found| (f.offset as usize).abs_diff(offset) <= layout.bytes() * SQUARES / 2;
            assert!(
                !found.is_empty() && found.iter().all(near),
                "{layout:?}: {:?}",
                found.iter().map(|f| f.offset).collect::<Vec<_>>()
            );
            assert!(windows(layout, &noise(200 << 10), 12).is_empty() && windows(layout, &[], 12).is_empty());
        }
    }
}
