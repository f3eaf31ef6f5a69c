//! Cue sheets: a text that says which files make up a CD, and where in them its tracks begin.

use super::describe;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tell;
use decanter_core::track::{Track, TrackKind};
use decanter_core::view::{Blockwise, Slice};
use decanter_core::{Error, Result};
use std::sync::Arc;

const ID: &str = "cue";
/// Bytes at the beginning by which texts are told from everything else.
const HEAD: u64 = 512;
/// A sheet for 99 tracks with all their texts stays far below.
const MOST_BYTES: u64 = 256 << 10;

/// The format.
pub struct CueSheet;

impl Format for CueSheet {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "CD image with a cue sheet"
    }

    fn role(&self) -> Role {
        Role::Sheet
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["cue"]
    }

    fn reads(&self) -> &'static str {
        "one file or a file a track, index 00 and 01, pregaps; binary and Motorola files"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.is_empty() || source.len() > MOST_BYTES {
            return Ok(None);
        }
        // Most small files are no text, which their beginning shows.
        let mut head = vec![0; source.len().min(HEAD) as usize];
        source.read_at(0, &mut head)?;
        if head.contains(&0) {
            return Ok(None);
        }
        let bytes = read_vec(source, 0, source.len(), "a cue sheet", MOST_BYTES)?;
        let has = |word: &[u8]| {
            let begins = |line: &[u8]| line.get(..word.len()).is_some_and(|w| w.eq_ignore_ascii_case(word));
            bytes.split(|b| *b == b'\n').any(|line| begins(line.trim_ascii_start()))
        };
        Ok((has(b"FILE ") && has(b"TRACK ") && !bytes.contains(&0)).then_some(85))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let sheet = Sheet::parse(&text(source.as_ref())?)?;
        let mut opened = Opened::new(ID, self.name());
        opened.holds.tracks = sheet.tracks(opener, &mut opened.told.notices)?;
        opened.fact("catalogue number", sheet.catalogue.clone());
        describe(&mut opened, opener)?;
        Ok(opened)
    }
}

/// The names of the files that a sheet speaks of, whatever else is wrong with it; none of what is no sheet.
pub fn named_files(source: &dyn Source) -> Vec<String> {
    let Ok(text) = text(source) else { return Vec::new() };
    let name = |line: &str| match words(line.trim()).as_slice() {
        [command, name @ .., _] if command.eq_ignore_ascii_case("FILE") && !name.is_empty() => Some(name.join(" ")),
        [command, name] if command.eq_ignore_ascii_case("FILE") => Some(name.clone()),
        _ => None,
    };
    text.split('\n').filter_map(name).collect()
}

fn text(source: &dyn Source) -> Result<String> {
    let bytes = read_vec(source, 0, source.len(), "a cue sheet", MOST_BYTES)?;
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&bytes);
    Ok(match std::str::from_utf8(bytes) {
        Ok(text) => text.to_owned(),
        Err(_) => bytes.iter().map(|&b| char::from(b)).collect(),
    })
}

/// A cue sheet as it is written, checked in itself.
#[derive(Debug, Default)]
pub struct Sheet {
    files: Vec<File>,
    catalogue: String,
}

#[derive(Debug)]
struct File {
    name: String,
    tracks: Vec<Entry>,
    /// Whether its samples have the high byte first.
    is_swapped: bool,
    at: Spot,
}

#[derive(Debug)]
struct Entry {
    number: u8,
    kind: TrackKind,
    sector_len: u64,
    /// Frames from the start of the file.
    index0: Option<u64>,
    index1: Option<u64>,
    pregap: u64,
    at: Spot,
}

/// A place in the sheet, for errors.
#[derive(Debug, Clone, Copy)]
struct Spot {
    line: usize,
    offset: u64,
}

impl Spot {
    fn error(self, what: impl std::fmt::Display) -> Error {
        Error::malformed(ID, format!("line {}: {what}", self.line), self.offset)
    }
}

impl Sheet {
    /// Reads a sheet.
    ///
    /// # Errors
    /// [`Error::Malformed`] with the line, [`Error::Unsupported`] for sound in compressed files.
    pub fn parse(text: &str) -> Result<Self> {
        let mut sheet = Self::default();
        let mut offset = 0u64;
        for (index, raw) in text.split('\n').enumerate() {
            let at = Spot { line: index + 1, offset };
            offset += raw.len() as u64 + 1;
            let words = words(raw.trim());
            let Some(command) = words.first().map(|w| w.to_ascii_uppercase()) else { continue };
            let word = |n: usize| {
                words.get(n).map(String::as_str).ok_or_else(|| at.error(format!("{command} needs more words")))
            };
            match command.as_str() {
                "FILE" => sheet.file(&words, at)?,
                "TRACK" => sheet.track(word(1)?, word(2)?, at)?,
                "INDEX" => {
                    let frames =
                        frames(word(2)?).ok_or_else(|| at.error("an index has to be minutes:seconds:frames"))?;
                    let number: u8 = word(1)?.parse().map_err(|_| at.error("an index needs a number"))?;
                    let entry = sheet.entry(at)?;
                    let last = entry.index1.or(entry.index0);
                    if last.is_some_and(|l| l > frames) {
                        return Err(at.error("the indexes of a track have to ascend"));
                    }
                    match number {
                        0 => entry.index0 = Some(frames),
                        1 => entry.index1 = Some(frames),
                        _ => {}
                    }
                }
                "PREGAP" => {
                    let frames =
                        frames(word(1)?).ok_or_else(|| at.error("a pregap has to be minutes:seconds:frames"))?;
                    sheet.entry(at)?.pregap = frames;
                }
                "CATALOG" => sheet.catalogue = word(1)?.to_owned(),
                "REM" | "TITLE" | "PERFORMER" | "SONGWRITER" | "ISRC" | "FLAGS" | "POSTGAP" | "CDTEXTFILE" => {}
                other => return Err(at.error(format!("\"{other}\" is no command of a cue sheet"))),
            }
        }
        sheet.check()?;
        Ok(sheet)
    }

    fn file(&mut self, words: &[String], at: Spot) -> Result<()> {
        // Old tools leave the quotes out: then all words but the last are the name.
        let (kind, name) = match words {
            [_, name @ .., kind] if !name.is_empty() => (kind.to_ascii_uppercase(), name.join(" ")),
            [_, name] => ("BINARY".into(), name.clone()),
            _ => return Err(at.error("FILE needs a name")),
        };
        match kind.as_str() {
            "BINARY" | "MOTOROLA" => {}
            "WAVE" | "MP3" | "AIFF" | "FLAC" => {
                return Err(Error::unsupported(ID, format!("sound in {kind} files (line {}: \"{name}\")", at.line)));
            }
            _ => return Err(at.error(format!("\"{kind}\" is no type of a file"))),
        }
        self.files.push(File { name, tracks: Vec::new(), is_swapped: kind == "MOTOROLA", at });
        Ok(())
    }

    fn track(&mut self, number: &str, kind: &str, at: Spot) -> Result<()> {
        let number = number.parse().ok().filter(|n| (1..=99).contains(n));
        let number: u8 = number.ok_or_else(|| at.error("a track has a number from 1 to 99"))?;
        let (kind, sector_len) = match kind.to_ascii_uppercase().as_str() {
            "AUDIO" => (TrackKind::Audio, 2352),
            "CDG" => (TrackKind::Audio, 2448),
            "MODE1/2048" => (TrackKind::Mode1, 2048),
            "MODE1/2352" => (TrackKind::Mode1, 2352),
            "MODE1/2448" => (TrackKind::Mode1, 2448),
            "MODE2/2048" => (TrackKind::Mode2, 2048),
            "MODE2/2336" | "CDI/2336" => (TrackKind::Mode2, 2336),
            "MODE2/2352" | "CDI/2352" => (TrackKind::Mode2, 2352),
            "MODE2/2448" => (TrackKind::Mode2, 2448),
            other => return Err(at.error(format!("\"{other}\" is no type of a track that is read here"))),
        };
        let last = self.files.iter().flat_map(|f| &f.tracks).last().map(|t| t.number);
        if last.is_some_and(|l| l >= number) {
            return Err(
                at.error(format!("track {number} comes after track {}: tracks have to ascend", last.unwrap_or(0)))
            );
        }
        let Some(file) = self.files.last_mut() else { return Err(at.error("a track needs a FILE before it")) };
        file.tracks.push(Entry { number, kind, sector_len, index0: None, index1: None, pregap: 0, at });
        Ok(())
    }

    fn entry(&mut self, at: Spot) -> Result<&mut Entry> {
        let begins = self.files.last().is_some_and(|f| f.tracks.is_empty());
        if begins && self.files.iter().any(|f| !f.tracks.is_empty()) {
            let what = format!("a track whose gap stands in the file before it (line {})", at.line);
            return Err(Error::unsupported(ID, what));
        }
        let entry = self.files.last_mut().and_then(|f| f.tracks.last_mut());
        entry.ok_or_else(|| at.error("this needs a TRACK before it"))
    }

    fn check(&self) -> Result<()> {
        let start = Spot { line: 1, offset: 0 };
        if self.files.iter().all(|f| f.tracks.is_empty()) {
            return Err(start.error("there are no tracks"));
        }
        for file in &self.files {
            let mut last = 0;
            for track in &file.tracks {
                let Some(index1) = track.index1 else {
                    return Err(track.at.error(format!("track {} has no INDEX 01", track.number)));
                };
                let first = track.index0.unwrap_or(index1);
                if first < last {
                    return Err(track.at.error(format!("track {} begins before the one before it", track.number)));
                }
                last = index1;
            }
        }
        Ok(())
    }

    /// The tracks with their bytes.
    fn tracks(&self, opener: &Opener<'_>, notices: &mut Vec<decanter_core::Notice>) -> Result<Vec<Track>> {
        let mut tracks = Vec::new();
        let mut disc_sector = 0;
        for file in &self.files {
            let Some((found, source)) = opener.beside().find(&file.name)? else {
                return Err(Error::Partner { name: file.name.clone(), line: file.at.line });
            };
            if found != file.name {
                let text = format!("the cue sheet says \"{}\", the file is called \"{found}\"", file.name);
                notices.push(decanter_core::Notice::new(text));
            }
            let mut at = 0u64;
            for (index, entry) in file.tracks.iter().enumerate() {
                let index1 = entry.index1.unwrap_or(0);
                let first = if index == 0 { 0 } else { entry.index0.unwrap_or(index1) };
                let next = file.tracks.get(index + 1).map(|n| n.index0.or(n.index1).unwrap_or(0));
                let left = (source.len().saturating_sub(at)) / entry.sector_len;
                let sectors = match next {
                    Some(next) => next - first,
                    None => left,
                };
                if sectors > left || index1 - first > sectors {
                    let needed = at + sectors.max(index1 - first + 1) * entry.sector_len;
                    return Err(entry.at.error(format!(
                        "track {} needs {needed} bytes of \"{}\", which has {}: it is too short",
                        entry.number,
                        file.name,
                        source.len()
                    )));
                }
                let len = sectors * entry.sector_len;
                let body: SourceRef = Arc::new(Slice::new(source.clone(), at, len)?);
                let is_turned = file.is_swapped && entry.kind == TrackKind::Audio;
                let body = if is_turned { Arc::new(Blockwise::new(body, entry.sector_len, low_first)?) } else { body };
                disc_sector += entry.pregap;
                tracks.push(Track {
                    number: entry.number,
                    kind: entry.kind,
                    file: found.clone(),
                    first_sector: disc_sector,
                    gap_sectors: index1 - first,
                    pregap_sectors: entry.pregap,
                    source: body,
                    sector_len: entry.sector_len,
                });
                disc_sector += sectors;
                at += len;
            }
            if at < source.len() && !file.tracks.is_empty() {
                let over = tell::count(source.len() - at, "byte", "bytes");
                let text = format!("{over} at the end of \"{found}\": no whole sector");
                notices.push(decanter_core::Notice::damage(text));
            }
        }
        Ok(tracks)
    }
}

/// Samples of a file that says to have the high byte first, as all others have them.
fn low_first(bytes: &mut [u8]) {
    bytes.as_chunks_mut::<2>().0.iter_mut().for_each(|pair| pair.swap(0, 1));
}

/// The words of a line; what stands in quotes is one word.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut rest = line;
    while let Some(first) = rest.chars().next() {
        let end = if first == '"' {
            rest[1..].find('"').map_or(rest.len(), |e| e + 1)
        } else {
            rest.find(char::is_whitespace).unwrap_or(rest.len())
        };
        let from = usize::from(first == '"');
        words.push(rest[from..end.max(from)].to_owned());
        rest = rest[end..].trim_start_matches('"').trim_start();
    }
    words
}

/// `mm:ss:ff` in frames of 1/75 s.
fn frames(text: &str) -> Option<u64> {
    let mut parts = text.split(':').map(|p| p.parse::<u64>().ok().filter(|&n| n < 1000));
    let (m, s, f) = (parts.next()??, parts.next()??, parts.next()??);
    (parts.next().is_none() && s < 60 && f < 75).then_some((m * 60 + s) * 75 + f)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn why(text: &str) -> String {
        Sheet::parse(text).err().map(|e| e.to_string()).unwrap_or_default()
    }

    #[test]
    fn names_with_and_without_quotes() {
        let sheet =
            Sheet::parse("FILE \"Pier Nine (Track 1).bin\" BINARY\n TRACK 01 MODE2/2352\n  INDEX 01 00:00:00\n")
                .unwrap();
        assert_eq!(sheet.files[0].name, "Pier Nine (Track 1).bin");
        let sheet = Sheet::parse("file Pier Nine.bin binary\r\ntrack 1 audio\r\nindex 1 0:2:0\r\n").unwrap();
        assert_eq!(sheet.files[0].name, "Pier Nine.bin");
        assert_eq!(sheet.files[0].tracks[0].index1, Some(150));
    }

    #[test]
    fn what_is_wrong_is_told_with_its_line() {
        assert!(why("TRACK 01 AUDIO\n").contains("line 1: a track needs a FILE"));
        let out_of_order = "FILE a BINARY\nTRACK 02 AUDIO\nINDEX 01 0:0:0\nTRACK 01 AUDIO\nINDEX 01 0:9:0";
        assert!(why(out_of_order).contains("line 4: track 1 comes after track 2"));
        assert!(why("FILE a BINARY\nTRACK 01 AUDIO\n").contains("line 2: track 1 has no INDEX 01"));
        assert!(why("FILE a BINARY\nTRACK 01 AUDIO\nINDEX 01 0:61:0").contains("line 3"));
        assert!(why("FILE a WAVE\n").contains("WAVE"));
        assert!(why("").contains("no tracks"));
    }

    proptest! {
        #[test]
        fn no_text_can_panic(text in "(FILE|TRACK|INDEX|PREGAP|\"| |\n|[0-9:]{1,6}|AUDIO|MODE1/2352|.){0,40}") {
            let _ = Sheet::parse(&text);
        }
    }
}
