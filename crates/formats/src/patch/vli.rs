//! Numbers of variable length as UPS and BPS have them: seven bits a byte, low ones first, the last byte marked by
//! its top bit, and each further byte counting from where the shorter ones end.

use decanter_core::{Error, Result};

/// Reads one at `*at`, and moves on.
///
/// # Errors
/// [`Error::Malformed`] when it is cut short or has more than 64 bits.
pub(super) fn read(format: &'static str, bytes: &[u8], at: &mut usize) -> Result<u64> {
    let start = *at;
    let (mut value, mut shift) = (0u64, 0u32);
    loop {
        let Some(&byte) = bytes.get(*at) else {
            return Err(Error::malformed(format, "a number is cut short", start as u64));
        };
        *at += 1;
        let more = u64::from(byte & 0x7f).checked_shl(shift).filter(|v| v >> shift == u64::from(byte & 0x7f));
        let sum = more.and_then(|m| value.checked_add(m));
        value = sum.ok_or_else(|| Error::malformed(format, "a number is too large", start as u64))?;
        if byte & 0x80 != 0 {
            return Ok(value);
        }
        shift += 7;
        let next = 1u64.checked_shl(shift).and_then(|s| value.checked_add(s));
        value = next.ok_or_else(|| Error::malformed(format, "a number is too large", start as u64))?;
    }
}

/// Appends one.
pub(super) fn write(out: &mut Vec<u8>, mut value: u64) {
    loop {
        let low = (value & 0x7f) as u8;
        value >>= 7;
        if value == 0 {
            out.push(low | 0x80);
            return;
        }
        out.push(low);
        value -= 1;
    }
}

/// Bytes that one takes.
pub(super) fn len(mut value: u64) -> usize {
    let mut count = 1;
    loop {
        value >>= 7;
        if value == 0 {
            return count;
        }
        value -= 1;
        count += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn known_numbers() {
        for (value, bytes) in [
            (0u64, &[0x80u8][..]),
            (127, &[0xff]),
            (128, &[0, 0x80]),
            (129, &[1, 0x80]),
            (16511, &[0x7f, 0xff]),
            (16512, &[0, 0, 0x80]),
        ] {
            let mut out = Vec::new();
            write(&mut out, value);
            assert_eq!(out, bytes, "{value}");
        }
    }

    proptest! {
        #[test]
        fn numbers_come_back(value in any::<u64>(), shift in 0u32..64) {
            let value = value >> shift >> 1;
            let mut out = Vec::new();
            write(&mut out, value);
            prop_assert_eq!(out.len(), len(value));
            let mut at = 0;
            prop_assert_eq!(read("test", &out, &mut at).ok(), Some(value));
            prop_assert_eq!(at, out.len());
        }

        #[test]
        fn any_bytes_are_a_number_or_an_error(bytes in proptest::collection::vec(any::<u8>(), 0..16)) {
            let _ = read("test", &bytes, &mut 0);
        }
    }
}
