//! The checksums of metadata, which go on from a value that the caller gives, and are not inverted at the end.

use crc::{Algorithm, CRC_16_ARC, CRC_32_ISCSI, Crc, Table};

static CRC32C: Crc<u32, Table<16>> = Crc::<u32, Table<16>>::new(&Algorithm { xorout: 0, ..CRC_32_ISCSI });
static CRC16: Crc<u16, Table<16>> = Crc::<u16, Table<16>>::new(&CRC_16_ARC);

/// CRC-32C of `bytes`, going on from `sum`.
pub(super) fn crc32c(sum: u32, bytes: &[u8]) -> u32 {
    // The crate takes the beginning as it stands in the polynomial's order, which for this sum is the mirror of ours.
    let mut digest = CRC32C.digest_with_initial(sum.reverse_bits());
    digest.update(bytes);
    digest.finalize()
}

/// CRC-16 with the polynomial 8005h, mirrored, going on from `sum`.
pub(super) fn crc16(sum: u16, bytes: &[u8]) -> u16 {
    let mut digest = CRC16.digest_with_initial(sum.reverse_bits());
    digest.update(bytes);
    digest.finalize()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_go_on_where_they_ended() {
        // The check values of both catalogues: e3069283 inverted, and the one of MODBUS, which begins with ffff.
        assert_eq!(!crc32c(!0, b"123456789"), 0xe306_9283);
        assert_eq!(crc16(!0, b"123456789"), 0x4b37);
        assert_eq!(crc32c(crc32c(!0, b"1234"), b"56789"), crc32c(!0, b"123456789"));
        assert_eq!(crc16(crc16(!0, b"1234"), b"56789"), crc16(!0, b"123456789"));
    }
}
