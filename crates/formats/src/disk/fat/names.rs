//! Names: eight and three characters, and the long ones in pieces before those.

use super::layout::ENTRY;
use crate::num::le16;

/// A long name on the way: its pieces come last first.
#[derive(Default)]
pub(super) struct LongName {
    pub(super) units: Vec<u16>,
    pub(super) wanted: u8,
    pub(super) check: u8,
    /// Whether pieces were met that do not fit together.
    pub(super) is_broken: bool,
}

impl LongName {
    pub(super) fn add(&mut self, entry: &[u8; ENTRY]) {
        let number = entry[0] & 0x3f;
        if entry[0] & 0x40 != 0 {
            *self = Self { units: Vec::new(), wanted: number, check: entry[13], is_broken: false };
        }
        if number == 0 || number != self.wanted || entry[13] != self.check {
            *self = Self { is_broken: true, ..Self::default() };
            return;
        }
        let places = [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30];
        let mut piece: Vec<u16> = places.iter().map(|at| le16(entry, *at)).collect();
        piece.append(&mut self.units);
        self.units = piece;
        self.wanted -= 1;
    }

    /// The name, if it is complete and belongs to this short entry.
    pub(super) fn take(self, entry: &[u8; ENTRY]) -> Option<String> {
        let sum = entry[..11].iter().fold(0u8, |sum, b| sum.rotate_right(1).wrapping_add(*b));
        let end = self.units.iter().position(|u| *u == 0).unwrap_or(self.units.len());
        let name = String::from_utf16_lossy(&self.units[..end]).replace('/', "_");
        (self.wanted == 0 && sum == self.check && !name.is_empty() && !self.is_broken).then_some(name)
    }
}

/// A name of eight and three characters, in the case that the entry asks for.
pub(super) fn short_name(entry: &[u8; ENTRY]) -> String {
    let mut own = *entry;
    if own[0] == 0x05 {
        own[0] = 0xe5;
    }
    let part = |bytes: &[u8], is_lower: bool| {
        let text = oem(bytes).trim_end().replace('/', "_");
        if is_lower { text.to_lowercase() } else { text }
    };
    let (stem, extension) = (part(&own[..8], own[12] & 0x08 != 0), part(&own[8..11], own[12] & 0x10 != 0));
    if extension.is_empty() { stem } else { format!("{stem}.{extension}") }
}

/// Text in code page 437, which short names are in unless the machine was told otherwise.
pub(super) fn oem(bytes: &[u8]) -> String {
    crate::codepage::text(bytes)
}

#[cfg(test)]
mod tests {
    use super::super::walk::LONG;
    use super::*;

    #[test]
    fn names_of_eight_and_three() {
        let mut entry = [0; 32];
        entry[..11].copy_from_slice(b"FOGBELL EXE");
        assert_eq!(short_name(&entry), "FOGBELL.EXE");
        entry[12] = 0x18;
        assert_eq!(short_name(&entry), "fogbell.exe");
        entry[..11].copy_from_slice(b"\x05PIER      ");
        assert_eq!(short_name(&entry), "σpier");
        assert_eq!(oem(&[0x81, 0xe1, 0xff]), "üß\u{a0}");
    }

    #[test]
    fn a_long_name_needs_all_its_pieces_and_its_checksum() {
        let mut short = [0; 32];
        short[..11].copy_from_slice(b"BRINEA~1TXT");
        let sum = short[..11].iter().fold(0u8, |sum, b| sum.rotate_right(1).wrapping_add(*b));
        let mut units: Vec<u16> = "Brine and Bramble.txt".encode_utf16().collect();
        units.push(0);
        units.resize(26, 0xffff);
        let piece = |number: u8, units: &[u16]| {
            let mut entry = [0; 32];
            (entry[0], entry[11], entry[13]) = (number, LONG, sum);
            for (at, unit) in [1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30].into_iter().zip(units) {
                entry[at..at + 2].copy_from_slice(&unit.to_le_bytes());
            }
            entry
        };
        let (last, first) = (piece(0x42, &units[13..]), piece(1, &units[..13]));
        let mut name = LongName::default();
        name.add(&last);
        name.add(&first);
        assert_eq!(name.take(&short).as_deref(), Some("Brine and Bramble.txt"));
        let mut name = LongName::default();
        name.add(&last);
        assert_eq!(name.take(&short), None);
    }
}
