//! The 2,352 bytes of a CD-ROM sector (ECMA-130, clause 14): sync, header, EDC, and the two parities of its ECC.
//!
//! | bytes | mode 1 | mode 2 form 1 | mode 2 form 2 |
//! | ---: | --- | --- | --- |
//! | 0 | sync, 12 bytes | the same | the same |
//! | 12 | header: minute, second, frame (BCD), mode | the same | the same |
//! | 16 | 2,048 user bytes | subheader, 8 bytes; 2,048 user bytes from 24 | subheader; 2,324 user bytes from 24 |
//! | 2064 | EDC of bytes 0 to 2063, little-endian | user bytes up to 2071 | user bytes |
//! | 2068 | 8 zeros | | |
//! | 2072 | | EDC of bytes 16 to 2071 | |
//! | 2076 | P parity, 172 bytes | the same, with a header of zeros | |
//! | 2248 | Q parity, 104 bytes | the same | |
//! | 2348 | | | EDC of bytes 16 to 2347, or zero |

use crc::{CRC_32_CD_ROM_EDC, Crc, Table};
use std::sync::LazyLock;

/// Bytes of a raw sector.
pub const RAW: usize = 2352;
/// The first twelve bytes (ECMA-130, 14.1).
pub const SYNC: [u8; 12] = [0, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 0];
/// Sectors between the beginning of the program area and the first one that has an address in images: 00:02:00.
pub const LEAD: u64 = 150;
/// Submode bit of a sector of form 2 (Green Book, II.4.5).
const FORM_2: u8 = 0x20;

/// How a sector is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layout {
    /// Mode 0: all zeros after the header.
    Empty,
    /// Mode 1.
    Mode1,
    /// Mode 2, form 1.
    Form1,
    /// Mode 2, form 2.
    Form2,
    /// A mode that ECMA-130 does not know.
    Unknown(u8),
}

/// What is wrong with a sector, bit by bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Faults {
    /// The sync pattern is not there.
    pub sync: bool,
    /// The address in the header is not that of its place.
    pub address: bool,
    /// The mode in the header is none of the track's.
    pub mode: bool,
    /// The EDC does not fit: the data are not what was written.
    pub edc: bool,
    /// The ECC does not fit its data.
    pub ecc: bool,
    /// The two copies of the subheader differ.
    pub subheader: bool,
}

impl Faults {
    /// Whether anything is wrong.
    pub fn any(self) -> bool {
        self != Self::default()
    }

    /// In words, the worst first.
    pub fn words(self) -> Vec<&'static str> {
        let all = [
            (self.edc, "EDC"),
            (self.ecc, "ECC"),
            (self.sync, "sync"),
            (self.address, "address"),
            (self.mode, "mode"),
            (self.subheader, "subheader"),
        ];
        all.into_iter().filter(|(wrong, _)| *wrong).map(|(_, word)| word).collect()
    }
}

/// Binary-coded decimal, as sector addresses have it. `value` is below 100.
pub fn bcd(value: u64) -> u8 {
    (value / 10 * 16 + value % 10) as u8
}

/// The address field of sector `number`, counted from 00:02:00: minute, second, frame.
pub fn address(number: u64) -> [u8; 3] {
    let frames = number + LEAD;
    [bcd(frames / 75 / 60 % 100), bcd(frames / 75 % 60), bcd(frames % 75)]
}

/// The sector number that an address field stands for; `None` if it is no address.
pub fn number_of(address: [u8; 3]) -> Option<u64> {
    let [m, s, f] = address.map(|b| (b >> 4 <= 9 && b & 15 <= 9).then(|| u64::from(b >> 4) * 10 + u64::from(b & 15)));
    let (m, s, f) = (m?, s?, f?);
    ((s < 60) && (f < 75)).then_some((m * 60 + s) * 75 + f)?.checked_sub(LEAD)
}

/// The layout that the header and subheader of a raw sector announce.
pub fn layout(raw: &[u8]) -> Layout {
    match raw[15] {
        0 => Layout::Empty,
        1 => Layout::Mode1,
        2 if raw[18] & FORM_2 != 0 => Layout::Form2,
        2 => Layout::Form1,
        other => Layout::Unknown(other),
    }
}

/// Where the user bytes of a layout begin and how many there are.
pub fn user(layout: Layout) -> (usize, usize) {
    match layout {
        Layout::Mode1 | Layout::Empty | Layout::Unknown(_) => (16, 2048),
        Layout::Form1 => (24, 2048),
        Layout::Form2 => (24, 2324),
    }
}

/// Where the EDC of a layout stands, and the bytes it covers.
fn edc_place(layout: Layout) -> Option<(usize, std::ops::Range<usize>)> {
    match layout {
        Layout::Mode1 => Some((2064, 0..2064)),
        Layout::Form1 => Some((2072, 16..2072)),
        Layout::Form2 => Some((2348, 16..2348)),
        Layout::Empty | Layout::Unknown(_) => None,
    }
}

/// Checks a raw sector of a data track that should stand at `number`; without a number its address is not checked.
pub fn check(raw: &[u8], number: Option<u64>) -> Faults {
    let layout = layout(raw);
    let mut faults = Faults { sync: raw[..12] != SYNC, ..Faults::default() };
    faults.address = number.is_some_and(|n| raw[12..15] != address(n));
    faults.mode = matches!(layout, Layout::Unknown(_));
    if matches!(layout, Layout::Form1 | Layout::Form2) {
        faults.subheader = raw[16..20] != raw[20..24];
    }
    faults.edc = stored_edc(raw).is_some_and(|(stored, right)| stored != right);
    if matches!(layout, Layout::Mode1 | Layout::Form1) {
        let mut parity = [0; 276];
        ecc(raw, layout == Layout::Form1, &mut parity);
        faults.ecc = raw[2076..2352] != parity;
    }
    faults
}

/// The EDC that a raw sector carries, and the one that its bytes have; `None` for sectors that carry none.
pub fn stored_edc(raw: &[u8]) -> Option<(u32, u32)> {
    let layout = layout(raw);
    let (at, over) = edc_place(layout)?;
    let stored = u32::from_le_bytes([raw[at], raw[at + 1], raw[at + 2], raw[at + 3]]);
    let leaves_it_out = layout == Layout::Form2 && stored == 0;
    (!leaves_it_out).then(|| (stored, edc(&raw[over])))
}

/// Writes sync, header, EDC and ECC around the user bytes that stand in `raw` already (and the subheader, for mode 2).
pub fn seal(raw: &mut [u8], number: u64, layout: Layout) {
    raw[..12].copy_from_slice(&SYNC);
    raw[12..15].copy_from_slice(&address(number));
    raw[15] = match layout {
        Layout::Empty => 0,
        Layout::Mode1 | Layout::Unknown(_) => 1,
        Layout::Form1 | Layout::Form2 => 2,
    };
    if let Some((at, over)) = edc_place(layout) {
        let sum = edc(&raw[over]).to_le_bytes();
        raw[at..at + 4].copy_from_slice(&sum);
    }
    seal_parity(raw, layout);
}

/// Writes the ECC, and the zeros of mode 1 before it, around what stands in `raw` already.
pub fn seal_parity(raw: &mut [u8], layout: Layout) {
    if layout == Layout::Mode1 {
        raw[2068..2076].fill(0);
    }
    if matches!(layout, Layout::Mode1 | Layout::Form1) {
        let mut parity = [0; 276];
        ecc(raw, layout == Layout::Form1, &mut parity);
        raw[2076..2352].copy_from_slice(&parity);
    }
}

static EDC: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&CRC_32_CD_ROM_EDC);

/// The error detection code of some bytes (ECMA-130, 14.3): polynomial (x^16+x^15+x^2+1)(x^16+x^2+x+1).
pub fn edc(bytes: &[u8]) -> u32 {
    EDC.checksum(bytes)
}

/// Twice a value in the field of ECMA-130, annex A: GF(2^8) modulo x^8+x^4+x^3+x^2+1.
#[inline]
fn double(value: u8) -> u8 {
    value << 1 ^ (0x1d & (value >> 7).wrapping_neg())
}

/// For each sum, what it has to be divided by three to: the last step of both parities.
static THIRD: LazyLock<[u8; 256]> = LazyLock::new(|| {
    let mut table = [0; 256];
    for value in 0..=255u8 {
        table[usize::from(value ^ double(value))] = value;
    }
    table
});

/// Bytes that ECC covers before the P parity: 24 rows of 86.
const P_ROWS: usize = 24;
const P_WIDTH: usize = 86;
/// The Q parity runs down the diagonals of 26 rows of 43 words of two bytes: step s of diagonal d is the word in row
/// (d + s) mod 26 of column s.
const Q_ROWS: usize = 26;
const Q_STEPS: usize = 43;
const Q_WIDTH: usize = 2 * Q_ROWS;

/// The parities of a raw sector: 172 bytes P, then 104 bytes Q. With `blank_header`, bytes 12 to 15 count as zeros.
///
/// Each parity word is a sum and a weighted sum over its column. Both are computed for all columns at once, row after
/// row, which the compiler turns into vector instructions.
pub fn ecc(raw: &[u8], blank_header: bool, parity: &mut [u8; 276]) {
    let mut area = [0u8; 2236];
    area[..2064].copy_from_slice(&raw[12..2076]);
    if blank_header {
        area[..4].fill(0);
    }
    let third = &*THIRD;
    let (mut sum, mut weighted) = ([0u8; P_WIDTH], [0u8; P_WIDTH]);
    for row in area[..P_ROWS * P_WIDTH].as_chunks::<P_WIDTH>().0 {
        for ((s, w), &b) in sum.iter_mut().zip(&mut weighted).zip(row) {
            *s ^= b;
            *w = double(*w ^ b);
        }
    }
    for i in 0..P_WIDTH {
        let first = third[usize::from(double(weighted[i]) ^ sum[i])];
        parity[i] = first;
        parity[P_WIDTH + i] = first ^ sum[i];
    }
    area[2064..2236].copy_from_slice(&parity[..172]);
    // Column by column, each twice over, so that a step is a run of words wherever its diagonals begin.
    let mut columns = [[0u8; 2 * Q_WIDTH]; Q_STEPS];
    for (row, words) in area.as_chunks::<{ 2 * Q_STEPS }>().0.iter().enumerate() {
        for (column, word) in columns.iter_mut().zip(words.as_chunks::<2>().0) {
            column[2 * row..2 * row + 2].copy_from_slice(word);
            column[Q_WIDTH + 2 * row..Q_WIDTH + 2 * row + 2].copy_from_slice(word);
        }
    }
    let (mut sum, mut weighted) = ([0u8; Q_WIDTH], [0u8; Q_WIDTH]);
    for (step, column) in columns.iter().enumerate() {
        let from = 2 * (step % Q_ROWS);
        for ((s, w), &b) in sum.iter_mut().zip(&mut weighted).zip(&column[from..from + Q_WIDTH]) {
            *s ^= b;
            *w = double(*w ^ b);
        }
    }
    for i in 0..Q_WIDTH {
        let first = third[usize::from(double(weighted[i]) ^ sum[i])];
        parity[172 + i] = first;
        parity[172 + Q_WIDTH + i] = first ^ sum[i];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The EDC, bit by bit from its definition.
    fn slow_edc(bytes: &[u8]) -> u32 {
        let step = |crc: u32, &b: &u8| {
            (0..8).fold(crc ^ u32::from(b), |c, _| if c & 1 != 0 { c >> 1 ^ 0xd801_8001 } else { c >> 1 })
        };
        bytes.iter().fold(0, step)
    }

    pub(super) fn filled(layout: Layout) -> Vec<u8> {
        let mut raw: Vec<u8> = (0..RAW as u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        let subheader = if layout == Layout::Form2 { [0, 0, 0x20, 0] } else { [0, 0, 8, 0] };
        if layout != Layout::Mode1 {
            raw[16..20].copy_from_slice(&subheader);
            raw[20..24].copy_from_slice(&subheader);
        }
        seal(&mut raw, 16, layout);
        raw
    }

    #[test]
    fn addresses_count_from_two_seconds() {
        assert_eq!(address(0), [0, 2, 0]);
        assert_eq!(address(16), [0, 2, 0x16]);
        assert_eq!(address(359_849), [0x79, 0x59, 0x74]);
        assert_eq!(number_of([0, 2, 0x16]), Some(16));
        assert_eq!(number_of([0, 2, 0x75]), None);
        assert_eq!(number_of([0, 0x0a, 0]), None);
    }

    #[test]
    fn the_edc_is_that_of_its_definition() {
        let raw = filled(Layout::Mode1);
        assert_eq!(edc(&raw[..2064]), slow_edc(&raw[..2064]));
        assert_eq!(edc(&raw[..13]), slow_edc(&raw[..13]));
        assert_eq!(edc(&[]), 0);
    }

    /// Every code word of both parities satisfies its two check equations (annex A, A.2 and A.3): the sum of its
    /// bytes is zero, and so is their sum weighted with the powers of the primitive element, the last byte with 1.
    #[test]
    fn code_words_satisfy_the_check_equations() {
        let raw = filled(Layout::Mode1);
        let area = &raw[12..];
        let holds = |word: &[u8]| {
            let sum = word.iter().fold(0, |s, b| s ^ b);
            let weighted = word.iter().fold(0, |w, b| double(w) ^ b);
            sum == 0 && weighted == 0
        };
        for column in 0..86 {
            let word: Vec<u8> = (0..26).map(|row| area[row * 86 + column]).collect();
            assert!(holds(&word), "P column {column}");
        }
        for diagonal in 0..52 {
            let place = |step: usize| (diagonal / 2 * 86 + step * 88) % 2236 + diagonal % 2;
            let mut word: Vec<u8> = (0..43).map(|step| area[place(step)]).collect();
            word.extend([area[2236 + diagonal], area[2236 + 52 + diagonal]]);
            assert!(holds(&word), "Q diagonal {diagonal}");
        }
    }

    #[test]
    fn sealed_sectors_have_no_faults_and_a_flipped_bit_is_one() {
        for layout in [Layout::Mode1, Layout::Form1, Layout::Form2] {
            let mut raw = filled(layout);
            assert!(!check(&raw, Some(16)).any(), "{layout:?}");
            assert!(check(&raw, Some(17)).address);
            raw[1000] ^= 4;
            assert!(check(&raw, Some(16)).edc, "{layout:?}");
        }
        let mut quiet = filled(Layout::Form2);
        quiet[2348..].fill(0);
        assert!(!check(&quiet, Some(16)).any(), "form 2 may go without EDC");
    }
}
