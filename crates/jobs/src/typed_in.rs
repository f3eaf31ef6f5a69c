//! What people type: numbers of bytes, single bytes.

/// Reads a size such as `64MiB`, `2G` or `1000000`.
///
/// # Errors
/// What is wrong with it, in words.
pub fn size(text: &str) -> Result<u64, String> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let shift = match text[digits.len()..].to_ascii_lowercase().as_str() {
        "" | "b" => 0,
        "k" | "kib" => 10,
        "m" | "mib" => 20,
        "g" | "gib" => 30,
        "t" | "tib" => 40,
        other => return Err(format!("\"{other}\" is no unit; use KiB, MiB, GiB or TiB")),
    };
    let number: u64 = digits.trim().parse().map_err(|_| format!("\"{text}\" is no size"))?;
    number.checked_mul(1 << shift).ok_or_else(|| format!("\"{text}\" is too large"))
}

/// Reads a size that may have a number of bytes taken off: `4GiB-1`. It is cut to whole sectors of 2,048 bytes.
///
/// # Errors
/// What is wrong with it, in words.
pub fn part_size(text: &str) -> Result<u64, String> {
    let (whole, less) = text.split_once('-').unwrap_or((text, "0"));
    let less: u64 = less.trim().parse().map_err(|_| format!("\"{less}\" is no number of bytes"))?;
    let bytes = size(whole.trim())?.saturating_sub(less) / 2048 * 2048;
    if bytes == 0 { Err("a part needs at least one sector of 2048 bytes".into()) } else { Ok(bytes) }
}

/// Reads a byte such as `0xff` or `0`.
///
/// # Errors
/// What is wrong with it, in words.
pub fn byte(text: &str) -> Result<u8, String> {
    let hex = text.strip_prefix("0x").map(|digits| u8::from_str_radix(digits, 16));
    hex.unwrap_or_else(|| text.parse()).map_err(|_| format!("\"{text}\" is no byte: use 0 to 255, or 0x00 to 0xff"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_bytes() {
        assert_eq!(size("64MiB"), Ok(64 << 20));
        assert_eq!(size("2g"), Ok(2 << 30));
        assert_eq!(size("512"), Ok(512));
        assert_eq!(part_size("4GiB-1"), Ok((4 << 30) - 2048));
        assert!(size("12x").is_err() && size("").is_err() && size("99999999999TiB").is_err());
        assert_eq!((byte("0xff"), byte("0"), byte("255")), (Ok(255), Ok(0), Ok(255)));
        assert!(byte("256").is_err() && byte("0x100").is_err() && byte("").is_err());
    }
}
