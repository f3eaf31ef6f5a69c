//! DAT files: databases of known good dumps, in the two forms that the community exchanges.
//!
//! Layout of both, and what is not sure: docs/formats/dat.md.

mod lists;
mod xml;

use decanter_core::catalogue::{Catalogue, Entry, Status};
use decanter_core::digest::{Algorithm, unhex};
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Error, Result};
use std::sync::Arc;

const ID: &str = "dat";
/// Bytes of the beginning that are looked at.
const HEAD: u64 = 4096;
/// Entries of one file; the largest known has about two million.
const MOST_ENTRIES: usize = 1 << 24;
/// Bytes of one value.
const MOST_VALUE: usize = 64 << 10;

/// The format.
pub struct Dat;

impl Format for Dat {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "DAT file"
    }

    fn role(&self) -> Role {
        Role::Description
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["dat", "xml"]
    }

    fn reads(&self) -> &'static str {
        "XML datafiles and the older text with parentheses"
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        let head = read_vec(source, 0, source.len().min(HEAD), "a beginning", HEAD)?;
        if head.contains(&0) {
            return Ok(None);
        }
        let text = String::from_utf8_lossy(&head);
        let text = text.trim_start_matches('\u{feff}').trim_start();
        let is_xml = text.starts_with('<') && ["<datafile", "<softwarelist"].iter().any(|t| text.contains(t));
        // The header's own word differs from file to file; games and their files are always called so.
        let first = text.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(text.len());
        let opens = first > 0 && text[first..].trim_start().starts_with('(');
        let words: Vec<&str> = text.split_whitespace().collect();
        let has_list = |name: &str| words.windows(2).any(|w| w[0].eq_ignore_ascii_case(name) && w[1].starts_with('('));
        let is_list = opens && ["game", "machine", "rom", "resource"].into_iter().any(has_list);
        Ok((is_xml || is_list).then_some(88))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let head = read_vec(source.as_ref(), 0, source.len().min(HEAD), "a beginning", HEAD)?;
        let text = String::from_utf8_lossy(&head);
        let is_xml = text.trim_start_matches('\u{feff}').trim_start().starts_with('<');
        let read = if is_xml { xml::read(source, opener.watch())? } else { lists::read(source, opener.watch())? };
        let catalogue = read.catalogue.finish();
        let mut opened = Opened::new(ID, if is_xml { "DAT file (XML)" } else { "DAT file (text)" });
        opened.titled(catalogue.name.clone());
        opened.fact("version", catalogue.version.clone());
        opened.fact("games", catalogue.games().len().to_string());
        opened.fact("entries", catalogue.entries().len().to_string());
        let with = |status| catalogue.entries().iter().filter(|e| e.status == status).count();
        let (bad, none) = (with(Status::BadDump), with(Status::NoDump));
        opened.fact("bad dumps", if bad > 0 { bad.to_string() } else { String::new() });
        opened.fact("not dumped", if none > 0 { none.to_string() } else { String::new() });
        let names: Vec<&str> = catalogue.algorithms().iter().map(|a| a.name()).collect();
        opened.fact("digests", names.join(", "));
        if read.odd > 0 {
            opened.notice(format!(
                "{} values are no size, digest or name and are not used; the first stands in {}",
                read.odd, read.first_odd
            ));
        }
        opened.holds.catalogue = Some(Arc::new(catalogue));
        Ok(opened)
    }
}

/// A catalogue in the making, and what in it made no sense.
#[derive(Default)]
struct Reading {
    catalogue: Catalogue,
    odd: usize,
    first_odd: String,
}

impl Reading {
    /// Takes in one value of an entry.
    fn value(&mut self, entry: &mut Entry, name: &str, value: &str, place: impl Fn() -> String) {
        let algorithm = match name {
            "name" => {
                entry.name = value.into();
                if leads_out(value) {
                    self.note(place, || format!("the name \"{value}\" leads out of the folder"));
                }
                return;
            }
            "size" => {
                match value.parse() {
                    Ok(len) => entry.len = Some(len),
                    Err(_) if value.is_empty() || value == "-" => {}
                    Err(_) => self.note(place, || format!("\"{value}\" is no size")),
                }
                return;
            }
            "status" => {
                entry.status = match value {
                    "baddump" => Status::BadDump,
                    "nodump" => Status::NoDump,
                    _ => Status::Good,
                };
                return;
            }
            "crc" | "crc32" => Algorithm::Crc32,
            "md5" => Algorithm::Md5,
            "sha1" => Algorithm::Sha1,
            "sha256" => Algorithm::Sha256,
            _ => return,
        };
        if value.is_empty() || value == "-" {
            return;
        }
        // Old lists leave leading zeros of a CRC away.
        let padded;
        let digits = if algorithm == Algorithm::Crc32 && value.len() < 8 {
            padded = format!("{value:0>8}");
            &padded
        } else {
            value
        };
        let mut bytes = [0u8; 32];
        match unhex(digits.trim_start_matches("0x"), &mut bytes) {
            Some(found) if entry.sums.set(algorithm, found) => {}
            _ => self.note(place, || format!("\"{value}\" is no {}", algorithm.name())),
        }
    }

    fn note(&mut self, place: impl Fn() -> String, what: impl Fn() -> String) {
        if self.odd == 0 {
            self.first_odd = place();
            self.catalogue.first_odd = Some(format!("{}: {}", self.first_odd, what()));
        }
        self.odd += 1;
    }

    fn push(&mut self, entry: Entry) -> Result<()> {
        if self.catalogue.entries().len() >= MOST_ENTRIES {
            return Err(Error::Limit {
                what: "entries of a DAT file",
                asked: MOST_ENTRIES as u64 + 1,
                limit: MOST_ENTRIES as u64,
            });
        }
        self.catalogue.push(entry);
        Ok(())
    }
}

/// Whether a name is that of a file outside the folder of its game.
fn leads_out(name: &str) -> bool {
    let is_absolute = name.starts_with(['/', '\\']) || name.as_bytes().get(1) == Some(&b':');
    is_absolute || name.split(['/', '\\']).any(|part| part == "..")
}

/// Line and column of a byte of a source, both from 1; read only when something is wrong there.
fn line_and_column(source: &SourceRef, offset: u64) -> (u64, u64) {
    let (mut line, mut start, mut at) = (1, 0, 0);
    let mut chunk = vec![0; 64 << 10];
    while at < offset {
        let len = chunk.len().min((offset - at) as usize);
        if source.read_at(at, &mut chunk[..len]).is_err() {
            break;
        }
        for (index, _) in chunk[..len].iter().enumerate().filter(|(_, b)| **b == b'\n') {
            line += 1;
            start = at + index as u64 + 1;
        }
        at += len as u64;
    }
    (line, offset - start + 1)
}

fn malformed(source: &SourceRef, offset: u64, what: impl std::fmt::Display) -> Error {
    let offset = offset.min(source.len());
    let (line, column) = line_and_column(source, offset);
    Error::malformed(ID, format!("line {line}, column {column}: {what}"), offset)
}
