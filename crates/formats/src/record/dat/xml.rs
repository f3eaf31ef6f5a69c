//! The XML form: `datafile`, `header`, then `game` (or `machine`) with `rom` and `disk`. Read as a stream of events.

use super::{MOST_VALUE, Reading, malformed};
use decanter_core::catalogue::{Entry, Status};
use decanter_core::source::{Reader, SourceRef};
use decanter_core::{Error, Result, Watch, watch};
use quick_xml::events::{BytesStart, Event};
use std::io::BufReader;

/// Events between two looks at whether the user wants to stop.
const STRIDE: u64 = 4096;

pub(super) fn read(source: SourceRef, watch: &dyn Watch) -> Result<Reading> {
    let mut reader =
        quick_xml::Reader::from_reader(BufReader::with_capacity(256 << 10, Reader::new(source.clone(), 0)));
    let mut reading = Reading::default();
    let mut buf = Vec::new();
    // The elements around: what a text belongs to.
    let mut path: Vec<String> = Vec::new();
    let mut events = 0u64;
    loop {
        events += 1;
        if events.is_multiple_of(STRIDE) {
            watch::check(watch)?;
        }
        buf.clear();
        let at = reader.buffer_position();
        let event = reader.read_event_into(&mut buf).map_err(|e| match &e {
            quick_xml::Error::Io(io) => {
                Error::Io { op: "read", path: None, offset: Some(at), source: std::io::Error::other(io.to_string()) }
            }
            _ => malformed(&source, reader.error_position().max(at), &e),
        })?;
        match event {
            Event::Start(element) => {
                start(&element, &path, &mut reading, &source, at)?;
                if path.len() >= 64 {
                    return Err(malformed(&source, at, "elements stand too deep in each other"));
                }
                path.push(element.name().as_ref().to_owned());
            }
            Event::Empty(element) => start(&element, &path, &mut reading, &source, at)?,
            Event::End(_) => {
                path.pop();
            }
            Event::Text(text) => {
                let [.., parent, name] = path.as_slice() else { continue };
                header(&mut reading, parent, name, text.trim_matches(['\n', '\r', '\t']));
            }
            Event::GeneralRef(entity) => {
                let [.., parent, name] = path.as_slice() else { continue };
                let plain = quick_xml::escape::unescape(&format!("&{};", &*entity)).map(|t| t.into_owned());
                header(&mut reading, parent, name, &plain.map_err(|e| malformed(&source, at, e))?);
            }
            Event::Eof if !path.is_empty() => {
                let name = path.last().map(String::as_str).unwrap_or_default();
                return Err(malformed(&source, source.len(), format!("the file ends within <{name}>")));
            }
            Event::Eof => return Ok(reading),
            _ => {}
        }
    }
}

/// A piece of text of the header.
fn header(reading: &mut Reading, parent: &str, name: &str, text: &str) {
    let field = match (parent, name) {
        ("header", "name") => &mut reading.catalogue.name,
        ("header", "version") => &mut reading.catalogue.version,
        _ => return,
    };
    if field.len() + text.len() < MOST_VALUE {
        field.push_str(text);
    }
}

fn start(element: &BytesStart<'_>, path: &[String], reading: &mut Reading, source: &SourceRef, at: u64) -> Result<()> {
    let name = element.name();
    let place = || {
        let (line, column) = super::line_and_column(source, at);
        format!("line {line}, column {column}")
    };
    match name.as_ref() {
        "game" | "machine" | "software" | "set" => {
            let (mut title, mut parent) = (String::new(), None);
            for attribute in element.attributes() {
                let attribute = attribute.map_err(|e| malformed(source, at, e))?;
                match attribute.key.as_ref() {
                    "name" => title = text(&attribute, source, at)?,
                    "cloneof" => parent = Some(text(&attribute, source, at)?),
                    _ => {}
                }
            }
            reading.catalogue.begin_game(title, parent);
        }
        "rom" | "disk" | "file" if !path.is_empty() => {
            let mut entry = Entry::default();
            for attribute in element.attributes() {
                let attribute = attribute.map_err(|e| malformed(source, at, e))?;
                let value = text(&attribute, source, at)?;
                reading.value(&mut entry, attribute.key.as_ref(), &value, place);
            }
            if entry.sums.strongest().is_none() && entry.status == Status::Good {
                entry.status = Status::NoDump;
            }
            if name.as_ref() == "disk" && !entry.name.contains('.') {
                entry.name = format!("{}.chd", entry.name).into();
            }
            reading.push(entry)?;
        }
        _ => {}
    }
    Ok(())
}

fn text(attribute: &quick_xml::events::attributes::Attribute<'_>, source: &SourceRef, at: u64) -> Result<String> {
    if attribute.value.len() > MOST_VALUE {
        return Err(Error::Limit { what: "a value", asked: attribute.value.len() as u64, limit: MOST_VALUE as u64 });
    }
    let text = attribute.value.as_ref();
    match text.contains('&') {
        false => Ok(text.to_owned()),
        true => Ok(quick_xml::escape::unescape(text).map_err(|e| malformed(source, at, e))?.into_owned()),
    }
}
