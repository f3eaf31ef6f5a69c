//! Names as these machines spell them, shown so that they can be read and turned back into the same bytes.
//!
//! Letters as they stand on the screen after switching on are capitals; shifted ones are small here. What no keyboard of
//! ours has is `{hh}`, its value in hexadecimal digits.

/// Fills names up.
pub(super) const PAD: u8 = 0xa0;

/// A character that one byte stands for; `None` where there is none.
fn shown(byte: u8) -> Option<char> {
    Some(match byte {
        b'/' => return None,
        0x20..=0x5b | 0x5d => char::from(byte),
        0x5c => '£',
        0x5e => '↑',
        0x5f => '←',
        0xc1..=0xda => char::from(byte - 0xc1 + b'a'),
        _ => return None,
    })
}

/// A name, without what fills it up.
pub fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().rposition(|b| *b != PAD).map_or(0, |at| at + 1);
    let mut text = String::new();
    for &byte in &bytes[..end] {
        match shown(byte) {
            Some(c) => text.push(c),
            None => text.push_str(&format!("{{{byte:02x}}}")),
        }
    }
    text
}

/// The bytes of a name that [`text`] has shown; `None` for characters that these machines lack.
pub fn bytes(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if c == '{' {
            let end = rest.find('}')?;
            bytes.push(u8::from_str_radix(rest.get(1..end).filter(|d| d.len() == 2)?, 16).ok()?);
            rest = &rest[end + 1..];
            continue;
        }
        bytes.push((0..=255).find(|b| shown(*b) == Some(c))?);
        rest = &rest[c.len_utf8()..];
    }
    Some(bytes)
}

/// The most bytes that a name has.
pub const MOST_NAME: usize = 16;

/// A name that can be typed: capitals, digits and a few signs, at most sixteen, none of those that the drive takes for
/// something else.
pub fn typeable(name: &str) -> String {
    let mut own = String::new();
    for c in name.chars() {
        let c = match c {
            'à'..='å' | 'À'..='Å' => 'A',
            'è'..='ë' | 'È'..='Ë' => 'E',
            'ì'..='ï' | 'Ì'..='Ï' => 'I',
            'ò'..='ö' | 'Ò'..='Ö' => 'O',
            'ù'..='ü' | 'Ù'..='Ü' => 'U',
            'ß' => 'S',
            '_' => ' ',
            c if c.is_ascii_alphanumeric() || " -.+!&'()".contains(c) => c.to_ascii_uppercase(),
            _ => continue,
        };
        if c != ' ' || !own.ends_with(' ') {
            own.push(c);
        }
    }
    let own = own.trim();
    // What tells the parts of a series apart stays: a number at the end, also a Roman one.
    let is_number =
        |w: &&str| w.len() <= 4 && (w.chars().all(|c| c.is_ascii_digit()) || w.chars().all(|c| "IVX".contains(c)));
    let number = own.rsplit_once(' ').map(|(_, last)| last).filter(|w| own.len() > MOST_NAME && is_number(w));
    let tail = number.map_or(String::new(), |n| format!(" {n}"));
    let head: String = own.chars().take(MOST_NAME - tail.len()).collect();
    let short = format!("{}{tail}", head.trim_end());
    if short.is_empty() { "FILE".into() } else { short }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_read_well() {
        assert_eq!(text(b"FOGBELL+3\xa0\xa0\xa0"), "FOGBELL+3");
        assert_eq!(text(b"\xc6OG/BELL\x0d"), "fOG{2f}BELL{0d}");
        assert_eq!(bytes("fOG{2f}BELL{0d}").unwrap(), b"\xc6OG/BELL\x0d");
        assert_eq!(typeable("Kelp Courier: the Königin's return"), "KELP COURIER THE");
        assert_eq!(typeable("Kelp Courier the Return II"), "KELP COURIER II");
        assert_eq!(typeable("***"), "FILE");
    }

    proptest! {
        #[test]
        fn every_name_comes_back(name in proptest::collection::vec(any::<u8>(), 0..16)) {
            let mut name = name;
            while name.last() == Some(&PAD) {
                name.pop();
            }
            prop_assert_eq!(bytes(&text(&name)), Some(name));
        }
    }
}
