//! Code page 437: what PCs called files in before they had UTF-8.

use codepage_437::{CP437_CONTROL, FromCp437};

/// Text of code page 437; control characters stay what they are.
pub(crate) fn text(bytes: &[u8]) -> String {
    String::from_cp437(bytes.to_vec(), &CP437_CONTROL)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_page_is_whole() {
        let all: Vec<u8> = (0..=255).collect();
        let told: Vec<char> = text(&all).chars().collect();
        assert_eq!(told.len(), 256);
        assert!(told[..128].iter().zip(0u8..).all(|(c, b)| *c == char::from(b)));
        // Both ends of the upper half, and what lies between letters, frames and signs.
        assert_eq!(
            [told[0x80], told[0x9b], told[0xb0], told[0xe1], told[0xfe], told[0xff]],
            ['Ç', '¢', '░', 'ß', '■', '\u{a0}']
        );
        assert_eq!(text(b"S\x84ge\xe1"), "Sägeß");
    }
}
