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

/// `67108864` as `64.0 MiB`.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["bytes", "KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return if bytes == 1 { "1 byte".into() } else { format!("{bytes} bytes") };
    }
    let mut value = bytes as f64;
    let mut unit = 0;
    while value >= 1023.95 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    format!("{value:.1} {}", UNITS[unit])
}

/// A part of a whole in percent, as in `64.6 %`; nothing beyond 1,000 of them, which says less than both sizes.
pub fn share(part: u64, whole: u64) -> Option<String> {
    let share = part as f64 * 100.0 / (whole as f64).max(1.0);
    (share <= 1000.0).then(|| format!("{share:.1} %"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!((grouped(1_234_567), grouped(999)), ("1,234,567".into(), "999".into()));
        assert_eq!((count(1, "entry is", "entries are"), count(2, "a", "bs")), ("1 entry is".into(), "2 bs".into()));
        assert_eq!(
            (size(1023), size(64 << 20), size((1 << 30) - 1)),
            ("1023 bytes".into(), "64.0 MiB".into(), "1.0 GiB".into())
        );
        assert_eq!(
            (share(1, 3), share(100, 10), share(101, 10)),
            (Some("33.3 %".into()), Some("1000.0 %".into()), None)
        );
        assert_eq!(share(0, 0), Some("0.0 %".into()));
    }
}
