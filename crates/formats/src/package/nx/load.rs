//! What titles of several packages are put together of: their files in one fixed order, each with the digest that it must have.

use super::contents::{Contents, META, Title, has_extension};
use super::keys::hex;
use decanter_core::blueprint::{Blueprint, PartId};
use decanter_core::digest::Algorithm;
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A file that goes into a package.
#[derive(Clone)]
pub struct Loaded {
    /// Its name there.
    pub name: String,
    /// Its bytes.
    pub source: SourceRef,
    /// What its SHA-256 begins with, by the list of contents or by its own id.
    pub expected: Option<Vec<u8>>,
    /// What it is, for messages.
    pub what: String,
}

/// Titles and their files, in the order in which they are put together.
pub struct Load {
    /// The files: contents and lists title by title, then certificates and tickets by their names.
    pub files: Vec<Loaded>,
    /// What was noticed.
    pub notices: Vec<String>,
}

/// Collects the files of titles, whose order is that of the result.
///
/// # Errors
/// [`Error::Damaged`] for a content that is missing or cut short, or has another length than its list says.
pub fn load(titles: &[(&Contents, &Title)]) -> Result<Load> {
    let mut own = Load { files: Vec::new(), notices: Vec::new() };
    let mut rights: BTreeMap<String, Loaded> = BTreeMap::new();
    for (contents, title) in titles {
        let all = title.cnmt.records.iter().zip(&title.files);
        for (record, file) in all {
            let what = format!("{} {}", title.name(), record.name());
            let Some(index) = file else {
                if record.may_be_missing() {
                    continue;
                }
                return Err(Error::Damaged { what: format!("{what} ({}) is listed and not there", record.file_name()) });
            };
            let held = &contents.files[*index];
            if held.len() != record.len || held.missing() > 0 {
                let there = held.source.len();
                return Err(Error::Damaged { what: format!("{what} ({}) has {there} bytes, its list says {}", held.name, record.len) });
            }
            own.add(Loaded { name: record.file_name(), source: held.source.clone(), expected: Some(record.hash.to_vec()), what });
        }
        let meta = &contents.files[title.meta];
        if meta.missing() > 0 {
            return Err(Error::Damaged { what: format!("{} is cut short", meta.name) });
        }
        let name = meta.name.to_ascii_lowercase();
        let expected = name.strip_suffix(META).and_then(decanter_core::keyring::Key::from_hex).map(|id| id.bytes().to_vec());
        let what = format!("{} list of contents", title.name());
        own.add(Loaded { name, source: meta.source.clone(), expected, what });
        own.tickets(contents, title, &mut rights)?;
    }
    own.files.extend(rights.into_values());
    Ok(own)
}

impl Load {
    /// Two titles may list the same content: it is there once.
    fn add(&mut self, file: Loaded) {
        if !self.files.iter().any(|f| f.name == file.name) {
            self.files.push(file);
        }
    }

    /// Tickets and certificates of the rights that a title's contents need, and of those that are called after the title.
    fn tickets(&mut self, contents: &Contents, title: &Title, rights: &mut BTreeMap<String, Loaded>) -> Result<()> {
        let mut needed: Vec<[u8; 16]> = Vec::new();
        for index in title.files.iter().flatten() {
            let header = super::nca::header::Header::read(contents.files[*index].source.as_ref(), &contents.keys, "");
            needed.extend(header.ok().and_then(|h| h.rights_id()));
        }
        needed.sort_unstable();
        needed.dedup();
        for id in needed {
            let stem = hex(&id);
            let of_id = |extension: &str| {
                let mut all = contents.files.iter();
                all.find(|f| has_extension(&f.name, extension) && f.name.to_ascii_lowercase().starts_with(&stem))
            };
            let Some(ticket) = of_id("tik") else {
                self.notices.push(format!("{} needs a ticket for {stem}, which is not there", title.name()));
                continue;
            };
            for (file, extension) in [(Some(ticket), "tik"), (of_id("cert"), "cert")] {
                let Some(file) = file else { continue };
                if file.missing() > 0 {
                    return Err(Error::Damaged { what: format!("{} is cut short", file.name) });
                }
                let name = format!("{stem}.{extension}");
                let what = format!("the {} for {stem}", if extension == "tik" { "ticket" } else { "certificate" });
                let loaded = Loaded { name: name.clone(), source: file.source.clone(), expected: None, what };
                match rights.get(&name) {
                    None => drop(rights.insert(name, loaded)),
                    Some(other) => {
                        // The same whatever the order: the one whose bytes come first.
                        let [a, b] = [other, &loaded].map(|f| bytes(&f.source));
                        let (a, b) = (a?, b?);
                        if a != b {
                            self.notices.push(format!("there are two different {name}; one of them is taken"));
                        }
                        if b < a {
                            rights.insert(name, loaded);
                        }
                    }
                }
            }
        }
        Ok(())
    }
}

fn bytes(source: &SourceRef) -> Result<Vec<u8>> {
    decanter_core::source::read_vec(source.as_ref(), 0, source.len(), "a ticket or certificate", super::ticket::MOST)
}

/// Lets every content be held against its digest while it passes by.
pub fn check(blueprint: &mut Blueprint, parts: &[PartId], files: &[Loaded]) {
    let mut wanted: Vec<(PartId, Vec<u8>, String)> = Vec::new();
    for (part, file) in parts.iter().zip(files) {
        if let Some(expected) = &file.expected {
            blueprint.measure(*part, Algorithm::Sha256);
            wanted.push((*part, expected.clone(), format!("{} ({})", file.what, file.name)));
        }
    }
    blueprint.check(Arc::new(move |known| {
        for (part, expected, what) in &wanted {
            let found = known.digest(*part, Algorithm::Sha256)?;
            if !found.starts_with(expected) {
                let (expected, found) = (format!("SHA-256 {}", hex(expected)), hex(&found[..expected.len()]));
                return Err(Error::Checksum { what: what.clone(), expected, found });
            }
        }
        Ok(())
    }));
}
