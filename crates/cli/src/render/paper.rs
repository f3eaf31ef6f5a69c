//! Where text goes: the one place that makes names printable. A source may call its files anything, so nothing that it
//! says may move the cursor, change colours or begin a line of its own.

use super::style::{self, Ink};
use decanter_core::native;
use std::fmt::Write as _;
use std::io::{self, ErrorKind, IsTerminal, Write};

/// A writer through which everything readable goes. A reader that went away is no error here: the work, and its
/// answer, go on.
pub struct Paper<W> {
    inner: W,
    has_colour: bool,
    is_json: bool,
    /// Whether names keep bytes that are no text: lists of digests are read by other programs.
    is_list: bool,
    is_closed: bool,
}

impl<W: Write> Paper<W> {
    /// Text on `inner`.
    pub fn new(inner: W, has_colour: bool) -> Self {
        Self { inner, has_colour, is_json: false, is_list: false, is_closed: false }
    }

    /// The same, for JSON: there the escapes are those of JSON.
    pub fn json(self, is_json: bool) -> Self {
        Self { is_json, ..self }
    }

    /// The same, for a list of digests.
    pub fn list(self, is_list: bool) -> Self {
        Self { is_list, ..self }
    }

    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        if self.is_closed {
            return Ok(());
        }
        match self.inner.write_all(bytes) {
            Err(e) if e.kind() == ErrorKind::BrokenPipe => {
                self.is_closed = true;
                Ok(())
            }
            result => result,
        }
    }
}

/// Standard error, for people.
pub fn stderr() -> Paper<io::StderrLock<'static>> {
    Paper::new(io::stderr().lock(), style::is_coloured(io::stderr().is_terminal()))
}

impl<W: Write> Write for Paper<W> {
    fn write(&mut self, buf: &[u8]) -> io::Result<usize> {
        let needs_care =
            |b: &u8| (*b < 0x20 && *b != b'\n' && *b != b'\t') || *b == 0x7f || matches!(b, 0xc2 | 0xd8 | 0xe2 | 0xf4);
        let inner_break = buf.iter().rposition(|b| *b != b'\n').is_some_and(|last| buf[..last].contains(&b'\n'));
        if !inner_break && !buf.iter().any(needs_care) {
            self.put(buf)?;
        } else {
            let text = String::from_utf8_lossy(buf);
            if self.is_list && text.chars().any(|c| native::byte(c).is_some()) {
                let lines: Vec<String> =
                    text.split_inclusive(|c| native::byte(c).is_some()).map(str::to_owned).collect();
                for part in lines {
                    let own = part.trim_end_matches(|c| native::byte(c).is_some());
                    self.put(clean(own, self.has_colour).as_bytes())?;
                    self.put(native::os(&part[own.len()..]).as_encoded_bytes())?;
                }
                return Ok(buf.len());
            }
            let clean = if self.is_json { json(&text) } else { clean(&text, self.has_colour) };
            self.put(clean.as_bytes())?;
        }
        Ok(buf.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        match self.inner.flush() {
            _ if self.is_closed => Ok(()),
            Err(e) if e.kind() == ErrorKind::BrokenPipe => Ok(()),
            result => result,
        }
    }
}

/// Characters that do not show, or that change the order of those that do.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}' | '\u{2029}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// A name on one line, with everything that does not show spelled out.
pub fn printable(name: &str) -> String {
    let mut told = String::new();
    for c in name.chars() {
        match c {
            '\n' => told.push_str("\\n"),
            '\r' => told.push_str("\\r"),
            // A tab moves within the line, which is harmless, and scripts have them.
            '\t' => told.push('\t'),
            c if c.is_ascii_control() => {
                // A String takes everything.
                let _ = write!(told, "\\x{:02x}", u32::from(c));
            }
            c if native::byte(c).is_some() => {
                let _ = write!(told, "\\x{:02x}", native::byte(c).unwrap_or_default());
            }
            c if is_hidden(c) => told.extend(c.escape_unicode()),
            c => told.push(c),
        }
    }
    told
}

/// A piece of text as it is put together from words of ours and names of others. A line ends at the end of a piece
/// only, or in a piece of nothing but space: both are ours.
fn clean(text: &str, has_colour: bool) -> String {
    if text.chars().all(|c| c == '\n' || c == ' ') {
        return text.to_owned();
    }
    let body = text.trim_end_matches('\n');
    let mut told = String::new();
    let mut rest = body;
    while let Some(at) = rest.find('\u{1b}') {
        told.push_str(&printable(&rest[..at]));
        rest = match Ink::at(&rest[at..]) {
            Some((ink, len)) => {
                if has_colour {
                    told.push_str(ink.sequence());
                }
                &rest[at + len..]
            }
            None => {
                told.push_str("\\x1b");
                &rest[at + 1..]
            }
        };
    }
    told.push_str(&printable(rest));
    told.push_str(&text[body.len()..]);
    told
}

/// JSON has its own escapes for what does not show; only a few of those characters are left as they are by writers.
fn json(text: &str) -> String {
    let mut told = String::new();
    for c in text.chars() {
        if is_hidden(c) && c != '\n' {
            // A String takes everything.
            let _ = write!(told, "\\u{:04x}", u32::from(c));
        } else {
            told.push(c);
        }
    }
    told
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::style::{BAD, PLAIN};

    fn written(has_colour: bool, act: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> String {
        let mut paper = Paper::new(Vec::new(), has_colour);
        act(&mut paper).unwrap();
        String::from_utf8(paper.inner).unwrap()
    }

    #[test]
    fn names_cannot_colour_or_begin_lines() {
        let name = "a\nnext: rm\u{1b}[31m\r\u{202e}b\u{9b}2J.iso";
        let told = written(true, |out| {
            writeln!(out, "  {name} is {BAD}bad{PLAIN}")?;
            writeln!(out, "  done")
        });
        assert_eq!(
            told,
            "  a\\nnext: rm\\x1b[31m\\r\\u{202e}b\\u{9b}2J.iso is \u{1b}[1m\u{1b}[31mbad\u{1b}[0m\n  done\n"
        );
        let forged = format!("{}", BAD).replace(|c: char| c.is_ascii_hexdigit(), "0");
        assert!(
            !written(true, |out| writeln!(out, "{forged}x")).contains('\u{1b}'),
            "nobody knows the sign of our colours"
        );
        assert_eq!(written(false, |out| writeln!(out, "{BAD}bad{PLAIN}")), "bad\n");
    }

    #[test]
    fn json_stays_json() {
        let mut paper = Paper::new(Vec::new(), true).json(true);
        serde_json::to_writer_pretty(&mut paper, &["a\n\u{9b}\u{202e}\u{1b}x"]).unwrap();
        let text = String::from_utf8(paper.inner).unwrap();
        assert!(!text.contains('\u{9b}') && text.contains("\\u009b"), "{text}");
        let back: Vec<String> = serde_json::from_str(&text).unwrap();
        assert_eq!(back, ["a\n\u{9b}\u{202e}\u{1b}x"]);
    }

    #[test]
    fn a_reader_that_goes_away_is_no_error() {
        struct Gone;
        impl Write for Gone {
            fn write(&mut self, _: &[u8]) -> io::Result<usize> {
                Err(ErrorKind::BrokenPipe.into())
            }
            fn flush(&mut self) -> io::Result<()> {
                Err(ErrorKind::BrokenPipe.into())
            }
        }
        let mut paper = Paper::new(Gone, false);
        assert!(writeln!(paper, "x").is_ok() && writeln!(paper, "y").is_ok() && paper.flush().is_ok());
    }
}
