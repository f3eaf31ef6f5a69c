//! The older text form: lists in parentheses, `game ( name "..." rom ( name ... size ... crc ... ) )`.

use super::{MOST_VALUE, Reading, malformed};
use decanter_core::catalogue::{Entry, Status};
use decanter_core::source::{Reader, SourceRef};
use decanter_core::{Error, Result, Watch, watch};
use std::io::{BufReader, Read};

/// Tokens between two looks at whether the user wants to stop.
const STRIDE: u64 = 4096;

enum Token {
    Open,
    Close,
    Word(String),
}

struct Tokens {
    bytes: std::io::Bytes<BufReader<Reader>>,
    at: u64,
    /// Offset of the first byte of the token that was read last.
    start: u64,
    source: SourceRef,
}

impl Tokens {
    fn byte(&mut self) -> Result<Option<u8>> {
        self.at += 1;
        let io = |source| Error::Io { op: "read", path: None, offset: Some(self.at), source };
        self.bytes.next().transpose().map_err(io)
    }

    /// Offset of the byte that was read last.
    fn here(&self) -> u64 {
        self.at.saturating_sub(1)
    }

    fn token(&mut self) -> Result<Option<Token>> {
        let first = loop {
            match self.byte()? {
                None => return Ok(None),
                Some(b) if b.is_ascii_whitespace() || b == 0xef || b == 0xbb || b == 0xbf => {}
                Some(b) => break b,
            }
        };
        self.start = self.here();
        let mut word = Vec::new();
        match first {
            b'(' => return Ok(Some(Token::Open)),
            b')' => return Ok(Some(Token::Close)),
            b'"' => loop {
                match self.byte()? {
                    None => return Err(malformed(&self.source, self.here(), "the file ends within quotes")),
                    Some(b'"') => break,
                    Some(b'\\') => match self.byte()? {
                        Some(b) if b == b'"' || b == b'\\' => word.push(b),
                        Some(b) => word.extend([b'\\', b]),
                        None => {}
                    },
                    Some(b) => word.push(b),
                }
                self.limit(&word)?;
            },
            _ => {
                word.push(first);
                while let Some(b) = self.byte()? {
                    if b.is_ascii_whitespace() {
                        break;
                    }
                    word.push(b);
                    self.limit(&word)?;
                }
            }
        }
        Ok(Some(Token::Word(match String::from_utf8(word) {
            Ok(text) => text,
            Err(e) => e.into_bytes().iter().map(|&b| char::from(b)).collect(),
        })))
    }

    fn limit(&self, word: &[u8]) -> Result<()> {
        if word.len() > MOST_VALUE {
            return Err(Error::Limit { what: "a value", asked: word.len() as u64, limit: MOST_VALUE as u64 });
        }
        Ok(())
    }
}

pub(super) fn read(source: SourceRef, watch: &dyn Watch) -> Result<Reading> {
    let reader = BufReader::with_capacity(256 << 10, Reader::new(source.clone(), 0));
    let mut tokens = Tokens { bytes: reader.bytes(), at: 0, start: 0, source: source.clone() };
    let mut reading = Reading::default();
    let mut path: Vec<String> = Vec::new();
    let mut key: Option<String> = None;
    let mut entry = Entry::default();
    // A game's name comes before its entries, but a parent may come after it.
    let mut game: Option<(String, Option<String>, Vec<Entry>)> = None;
    let mut count = 0u64;
    while let Some(token) = tokens.token()? {
        count += 1;
        if count.is_multiple_of(STRIDE) {
            watch::check(watch)?;
        }
        match token {
            Token::Open => {
                let Some(name) = key.take() else {
                    return Err(malformed(&source, tokens.start, "a parenthesis without a name before it"));
                };
                let name = name.to_ascii_lowercase();
                match name.as_str() {
                    "game" | "machine" | "resource" if path.is_empty() => game = Some(Default::default()),
                    "rom" | "disk" | "file" => entry = Entry::default(),
                    _ => {}
                }
                if path.len() >= 16 {
                    return Err(malformed(&source, tokens.start, "parentheses stand too deep in each other"));
                }
                path.push(name);
            }
            Token::Close => {
                key = None;
                let Some(name) = path.pop() else {
                    return Err(malformed(&source, tokens.start, "a closing parenthesis too many"));
                };
                match (name.as_str(), path.is_empty()) {
                    ("rom" | "disk" | "file", _) => {
                        let mut done = std::mem::take(&mut entry);
                        if done.sums.strongest().is_none() && done.status == Status::Good {
                            done.status = Status::NoDump;
                        }
                        match &mut game {
                            Some((_, _, entries)) => entries.push(done),
                            None => reading.push(done)?,
                        }
                    }
                    (_, true) => {
                        if let Some((title, parent, entries)) = game.take() {
                            reading.catalogue.begin_game(title, parent);
                            entries.into_iter().try_for_each(|e| reading.push(e))?;
                        }
                    }
                    _ => {}
                }
            }
            Token::Word(word) => match key.take() {
                // `flags baddump` and `status nodump` are pairs; `baddump` alone is not.
                None if matches!(word.as_str(), "baddump" | "nodump") => {
                    entry.status = if word == "nodump" { Status::NoDump } else { Status::BadDump };
                }
                None => key = Some(word),
                Some(name) => {
                    let name = name.to_ascii_lowercase();
                    let at = tokens.start;
                    let place = || {
                        let (line, column) = super::line_and_column(&source, at);
                        format!("line {line}, column {column}")
                    };
                    match (path.last().map(String::as_str), name.as_str()) {
                        (Some("rom" | "disk" | "file"), "flags" | "status") => {
                            reading.value(&mut entry, "status", &word, place)
                        }
                        (Some("rom" | "disk" | "file"), _) => reading.value(&mut entry, &name, &word, place),
                        (Some("game" | "machine" | "resource"), "name") => {
                            if let Some(game) = &mut game {
                                game.0 = word;
                            }
                        }
                        (Some("game" | "machine" | "resource"), "cloneof") => {
                            if let Some(game) = &mut game {
                                game.1 = Some(word);
                            }
                        }
                        (Some(_), "name") if path.len() == 1 => reading.catalogue.name = word,
                        (Some(_), "version") if path.len() == 1 => reading.catalogue.version = word,
                        _ => {}
                    }
                }
            },
        }
    }
    match path.last() {
        Some(name) => Err(malformed(&source, source.len(), format!("the file ends within {name} ("))),
        None => Ok(reading),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn parse(text: &str) -> Result<Reading> {
        read(Arc::new(Bytes(text.as_bytes().to_vec())), &())
    }

    #[test]
    fn games_without_names_and_names_with_quotes() {
        let reading = parse("game ( rom ( name \"a \\\"b\\\" (c).bin\" size 3 crc abc ) )").unwrap();
        let entry = &reading.catalogue.entries()[0];
        assert_eq!(&*entry.name, "a \"b\" (c).bin");
        assert_eq!(
            entry.sums.get(decanter_core::Algorithm::Crc32),
            Some(&[0, 0, 0x0a, 0xbc][..]),
            "leading zeros left away"
        );
        assert_eq!(reading.odd, 0);
        let odd = parse("game ( name x rom ( name y size many crc 123456789 ) )").unwrap();
        assert_eq!((odd.odd, odd.first_odd.as_str()), (2, "line 1, column 33"));
    }

    proptest! {
        #[test]
        fn no_text_can_panic(text in "(game|rom|name|size|crc|flags| ?\\( ?| ?\\) ?|\"|\\\\|[a-f0-9]{1,9}| |\n|.){0,60}") {
            let _ = parse(&text);
        }
    }
}
