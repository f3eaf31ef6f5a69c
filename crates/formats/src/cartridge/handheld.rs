//! What two generations of handhelds share: a checksum, the start mark, and how a code names its region.

use crc::{CRC_16_MODBUS, Crc, Table};

/// CRC-16 of the 156 bytes of the start mark, as every cartridge that starts has it.
pub(super) const LOGO_CRC: u16 = 0xcf56;
/// Regions by the last letter of the code.
const REGIONS: [(u8, &str); 9] = [
    (b'J', "Japan"),
    (b'E', "North America"),
    (b'P', "Europe"),
    (b'D', "Germany"),
    (b'F', "France"),
    (b'I', "Italy"),
    (b'S', "Spain"),
    (b'K', "Korea"),
    (b'C', "China"),
];

static CRC: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&CRC_16_MODBUS);

/// CRC-16 as the consoles compute it: polynomial 8005h, mirrored, beginning with ffffh.
pub fn crc16(bytes: &[u8]) -> u16 {
    CRC.checksum(bytes)
}

/// The region that the last letter of a code stands for.
pub(super) fn region(code: &str) -> &'static str {
    let letter = code.as_bytes().last().copied().unwrap_or(0);
    REGIONS.iter().find(|(l, _)| *l == letter).map_or("", |(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_checksum_is_the_usual_one() {
        assert_eq!(crc16(b"123456789"), 0x4b37);
        assert_eq!(crc16(b""), 0xffff);
    }
}
