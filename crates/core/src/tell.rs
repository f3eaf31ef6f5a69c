//! Numbers and kinds of things as they are told.

/// `1234567` as `1,234,567`.
pub fn grouped(value: u64) -> String {
    let digits = value.to_string();
    let mut text = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A kind of thing with its article: "an ISO 9660 disc image".
pub fn with_article(kind: &str) -> String {
    let article =
        if kind.starts_with(|c: char| "AEIOUaeiou".contains(c)) || kind.starts_with("Xbox") { "an" } else { "a" };
    format!("{article} {kind}")
}

/// A number with the word that goes with it: `1 entry is`, `2 entries are`.
pub fn count(value: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(value), if value == 1 { one } else { many })
}
