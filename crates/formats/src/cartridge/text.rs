//! Titles as headers have them.

use encoding_rs::SHIFT_JIS;

/// Text of a fixed field: up to the first NUL, without blanks around it; what cannot be shown is a dot.
pub(crate) fn ascii(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    let shown = |&b: &u8| if (0x20..0x7f).contains(&b) { char::from(b) } else { '.' };
    let text: String = bytes[..end].iter().map(shown).collect();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The same for fields that may hold Japanese text in Shift JIS.
pub(crate) fn japanese(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
    let (text, _) = SHIFT_JIS.decode_without_bom_handling(&bytes[..end]);
    let shown: String = text.chars().map(|c| if c.is_control() { '.' } else { c }).collect();
    shown.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// How many of the bytes could stand in a title.
pub(crate) fn printable(bytes: &[u8]) -> usize {
    bytes.iter().filter(|b| matches!(b, 0x20..=0x7e)).count()
}

/// UTF-16, little-endian, up to the first zero unit.
pub(crate) fn utf16(bytes: &[u8]) -> String {
    let units = bytes.chunks_exact(2).map(|p| u16::from_le_bytes([p[0], p[1]])).take_while(|&u| u != 0);
    char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles() {
        assert_eq!(ascii(b"MOTH  PARADE\0\0X"), "MOTH PARADE");
        assert_eq!(ascii(b"\x01AB "), ".AB");
        assert_eq!(japanese(b"\x83\x82\x83X  1"), "\u{30e2}\u{30b9} 1");
        assert_eq!(utf16(b"M\0o\0\0\0x\0"), "Mo");
    }
}
