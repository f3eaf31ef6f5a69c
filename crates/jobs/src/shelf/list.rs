//! Lists of sources: a path on each line, or paths that end with a zero byte.

use crate::{Failure, Setting};
use decanter_core::{Error, native, os};
use std::io::Read;
use std::path::Path;

/// The longest list that is read from standard input.
const MOST_BYTES: u64 = 64 << 20;

/// The sources that a list names; `-` is standard input.
///
/// # Errors
/// When it cannot be read, or names nothing.
pub fn listed(list: &str, setting: &Setting<'_>) -> Result<Vec<String>, Failure> {
    let name = if list == "-" { "standard input".to_owned() } else { format!("\"{list}\"") };
    let fail = |e| Failure::new(format!("cannot read the list of sources from {name}"), e);
    let bytes = match list {
        "-" => {
            let mut bytes = Vec::new();
            let read = std::io::stdin().lock().take(MOST_BYTES + 1).read_to_end(&mut bytes);
            read.map_err(|e| fail(Error::io("read", Path::new("standard input"), e)))?;
            if bytes.len() as u64 > MOST_BYTES {
                let asked = bytes.len() as u64;
                return Err(fail(Error::Limit { what: "a list of sources", asked, limit: MOST_BYTES }));
            }
            bytes
        }
        path => setting.guard.read(&native::path(path)).map_err(fail)?,
    };
    let sources = split(&bytes);
    if sources.is_empty() {
        let failure = Failure::usage(format!("cannot read the list of sources from {name}"), "there is nothing in it");
        return Err(failure.hint("it has a path on each line, or paths that end with a zero byte"));
    }
    Ok(sources)
}

/// The entries of a list. Where there are zero bytes, they end the entries and nothing else does.
fn split(bytes: &[u8]) -> Vec<String> {
    // What the shell of Windows writes into a file, if it is not told otherwise.
    if let Some(wide) = bytes.strip_prefix(b"\xff\xfe") {
        let units = wide.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]]));
        let text: String = char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
        return split(text.as_bytes());
    }
    let has_zeros = bytes.contains(&0);
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").filter(|_| !has_zeros).unwrap_or(bytes);
    let entries = bytes.split(|&b| if has_zeros { b == 0 } else { b == b'\n' });
    let bare = |entry: &[u8]| match has_zeros {
        true => native::of_bytes(entry),
        false => native::of_bytes(entry.strip_suffix(b"\r").unwrap_or(entry)),
    };
    entries.map(bare).map(os::with_slashes).filter(|entry| !entry.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_or_zeros_end_entries() {
        assert_eq!(split(b"a b\r\n\n c\nlast"), ["a b", " c", "last"]);
        assert_eq!(split(b"a\nb\0c\r\0"), ["a\nb", "c\r"]);
        assert_eq!(split(b"\xef\xbb\xbfkelp.iso\n"), ["kelp.iso"]);
        assert_eq!(split(b"\xff\xfea\0\x53\x30\r\0\n\0b\0\n\0"), ["a\u{3053}", "b"]);
        assert_eq!(split(b"\xe9.iso\n").len(), 1);
        assert!(split(b"\n\r\n").is_empty());
    }
}
