//! What titles of several packages are put together of: their files in one fixed order, each with the digest that it must
//! have; and what is changed of them, if that is asked for.

use super::cnmt::Cnmt;
use super::contents::{Contents, META, Title, has_extension};
use super::keys::{self, Role, hex};
use super::nca::Nca;
use super::nca::header::{Header, LEN};
use super::ticket::Ticket;
use super::{ecb_decrypt, ecb_encrypt, rebuild, sha256};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::view::Overlay;
use decanter_core::{Error, Result};
use std::collections::BTreeMap;
use std::sync::Arc;

/// What is changed of the titles on the way.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Changes {
    /// Contents under a title key get a key area instead; their tickets are left out.
    pub standard_crypto: bool,
    /// The version of the system that a title asks for becomes the first one that has the keys of its contents.
    pub lowest_system: bool,
}

/// What the bytes of a file are.
#[derive(Clone)]
pub enum Body {
    /// Those of its source.
    AsIs,
    /// Those of its source, whose header was changed: before, it began with these bytes.
    Headed(Vec<u8>),
    /// A list of contents, put together anew once the digests of the contents in it are known.
    List(Arc<List>),
}

/// A list of contents with records that change.
pub struct List {
    nca: Nca,
    cnmt: Cnmt,
    /// Records whose contents get another digest: the record, and the number of the file.
    changed: Vec<(usize, usize)>,
    keys: Keyring,
}

impl List {
    /// The files that it has to know the digests of.
    pub fn needs(&self) -> impl Iterator<Item = usize> + '_ {
        self.changed.iter().map(|(_, file)| *file)
    }

    /// The content with the list, for these digests of files.
    ///
    /// # Errors
    /// As [`rebuild::with_list`], and what `digest` fails with.
    pub fn bytes(&self, digest: &dyn Fn(usize) -> Result<[u8; 32]>) -> Result<Vec<u8>> {
        let mut cnmt = self.cnmt.clone();
        for (record, file) in &self.changed {
            cnmt = cnmt.with_content(*record, digest(*file)?);
        }
        rebuild::with_list(&self.nca, &cnmt, &self.keys)
    }
}

/// A file that goes into a package.
#[derive(Clone)]
pub struct Loaded {
    /// Its name there; that of a changed content is known only when its bytes are.
    pub name: String,
    /// Its bytes, or as many of them as it will have.
    pub source: SourceRef,
    /// What they are.
    pub body: Body,
    /// What the SHA-256 of the bytes as they were begins with, by the list of contents or by its own id.
    pub expected: Option<Vec<u8>>,
    /// What it is, for messages.
    pub what: String,
}

impl Loaded {
    /// Whether its name depends on its bytes.
    pub fn is_renamed(&self) -> bool {
        !matches!(self.body, Body::AsIs)
    }

    /// Its name, for this digest of its bytes.
    pub fn name_for(&self, digest: &[u8]) -> String {
        let end = if matches!(self.body, Body::List(_)) { META } else { ".nca" };
        format!("{}{end}", hex(&digest[..16]))
    }
}

/// Titles and their files, in the order in which they are put together.
pub struct Load {
    /// The files: contents and lists title by title, then certificates and tickets by their names.
    pub files: Vec<Loaded>,
    /// Contents that were changed: those before, and their numbers among the files.
    pub changed: Vec<(Nca, usize)>,
    /// What was noticed.
    pub notices: Vec<String>,
}

/// Collects the files of titles, whose order is that of the result.
///
/// # Errors
/// [`Error::Damaged`] for a content that is missing or cut short, or has another length than its list says; [`Error::Key`]
/// where something is changed and the key for it is missing.
pub fn load(titles: &[(&Contents, &Title)], changes: Changes) -> Result<Load> {
    let mut own = Load { files: Vec::new(), changed: Vec::new(), notices: Vec::new() };
    let mut rights: BTreeMap<String, Loaded> = BTreeMap::new();
    for (contents, title) in titles {
        own.title(contents, title, changes)?;
        if !changes.standard_crypto {
            own.tickets(contents, title, &mut rights)?;
        }
    }
    own.files.extend(rights.into_values());
    Ok(own)
}

impl Load {
    /// Two titles may list the same content: it is there once. Says which file it is.
    fn add(&mut self, file: Loaded) -> usize {
        match self.files.iter().position(|f| f.name == file.name) {
            Some(index) => index,
            None => {
                self.files.push(file);
                self.files.len() - 1
            }
        }
    }

    /// The contents of a title, and their list.
    fn title(&mut self, contents: &Contents, title: &Title, changes: Changes) -> Result<()> {
        let mut changed = Vec::new();
        let mut generation = 0;
        for (number, (record, file)) in title.cnmt.records.iter().zip(&title.files).enumerate() {
            let what = format!("{} {}", title.name(), record.name());
            let Some(index) = file else {
                if record.may_be_missing() {
                    continue;
                }
                return Err(Error::Damaged {
                    what: format!("{what} ({}) is listed and not there", record.file_name()),
                });
            };
            let held = &contents.files[*index];
            if held.len() != record.len || held.missing() > 0 {
                let (name, there) = (&held.name, held.source.len());
                return Err(Error::Damaged {
                    what: format!("{what} ({name}) has {there} bytes, its list says {}", record.len),
                });
            }
            let (mut source, mut body) = (held.source.clone(), Body::AsIs);
            if changes.standard_crypto || changes.lowest_system {
                let header = &contents.nca(*index)?.header;
                generation = generation.max(header.generation());
                if let Some(rights) = header.rights_id().filter(|_| changes.standard_crypto) {
                    let head = under_key_area(header, rights, contents, &what)?;
                    body = Body::Headed(read_vec(source.as_ref(), 0, LEN, "the header of a content", LEN)?);
                    source = Arc::new(Overlay::new(source, vec![(0, Arc::new(Bytes(head)) as SourceRef)])?);
                }
            }
            let is_changed = !matches!(body, Body::AsIs);
            let expected = Some(record.hash.to_vec());
            let file = self.add(Loaded { name: record.file_name(), source, body, expected, what });
            if is_changed {
                changed.push((number, file));
                self.changed.push((contents.nca(*index)?.clone(), file));
            }
        }
        let meta = &contents.files[title.meta];
        if meta.missing() > 0 {
            return Err(Error::Damaged { what: format!("{} is cut short", meta.name) });
        }
        let mut cnmt = title.cnmt.clone();
        if changes.lowest_system {
            self.lower(&mut cnmt, generation.max(contents.nca(title.meta)?.header.generation()));
        }
        let name = meta.name.to_ascii_lowercase();
        let id = name.strip_suffix(META).and_then(Key::from_hex).map(|id| id.bytes().to_vec());
        let what = format!("{} list of contents", title.name());
        let is_same = changed.is_empty() && cnmt.raw == title.cnmt.raw;
        let body = if is_same {
            Body::AsIs
        } else {
            self.proven_list(contents, title, id.as_deref())?;
            let (nca, keys) = (contents.nca(title.meta)?.clone(), contents.keys.clone());
            Body::List(Arc::new(List { nca, cnmt, changed, keys }))
        };
        // What is put together anew was held against its id before.
        let expected = id.filter(|_| is_same);
        self.add(Loaded { name, source: meta.source.clone(), body, expected, what });
        Ok(())
    }

    /// Fails unless a list that is going to be changed has the id that it is called after.
    fn proven_list(&self, contents: &Contents, title: &Title, id: Option<&[u8]>) -> Result<()> {
        let meta = &contents.files[title.meta];
        let bytes = read_vec(meta.source.as_ref(), 0, meta.source.len(), "a list of contents", super::cnmt::MOST)?;
        let found = sha256(&bytes);
        match id.filter(|id| !found.starts_with(id)) {
            None => Ok(()),
            Some(id) => {
                let (expected, found) = (format!("SHA-256 {}", hex(id)), hex(&found[..id.len()]));
                Err(Error::Checksum {
                    what: format!("{} list of contents ({})", title.name(), meta.name),
                    expected,
                    found,
                })
            }
        }
    }

    /// Lowers the version of the system that a title asks for to the first one with the keys of its contents.
    fn lower(&mut self, cnmt: &mut Cnmt, generation: u8) {
        let (Some(at), Some(system)) = (cnmt.system_at(), cnmt.system) else { return };
        match keys::first_system(generation) {
            Some(first) if first < system => {
                cnmt.raw[at..at + 4].copy_from_slice(&first.to_le_bytes());
                cnmt.system = Some(first);
            }
            Some(_) => {}
            None => self.notices.push(format!(
                "the system that first had keys of generation {generation} is not known: what is asked for stays"
            )),
        }
    }

    /// Tickets and certificates of the rights that a title's contents need.
    fn tickets(&mut self, contents: &Contents, title: &Title, rights: &mut BTreeMap<String, Loaded>) -> Result<()> {
        let mut needed: Vec<[u8; 16]> = Vec::new();
        for index in title.files.iter().flatten() {
            needed.extend(contents.nca(*index)?.header.rights_id());
        }
        needed.sort_unstable();
        needed.dedup();
        for id in needed {
            let stem = hex(&id);
            let of_rights =
                |(_, t): &&(usize, std::result::Result<Ticket, String>)| t.as_ref().is_ok_and(|t| t.rights_id == id);
            let ticket = contents.tickets.iter().find(of_rights);
            if ticket.is_some_and(|(_, t)| t.as_ref().is_ok_and(|t| t.is_personal)) {
                self.notices
                    .push(format!("the ticket for {stem} is for one console only, and names it and its account"));
            }
            let ticket = ticket.map(|(index, _)| &contents.files[*index]);
            let is_chain = |name: &str| has_extension(name, "cert") && name.to_ascii_lowercase().starts_with(&stem);
            let chain = contents.files.iter().find(|f| is_chain(&f.name));
            let Some(ticket) = ticket else {
                self.notices.push(format!("{} needs a ticket for {stem}, which is not there", title.name()));
                continue;
            };
            for (file, extension) in [(Some(ticket), "tik"), (chain, "cert")] {
                let Some(file) = file else { continue };
                if file.missing() > 0 {
                    return Err(Error::Damaged { what: format!("{} is cut short", file.name) });
                }
                let name = format!("{stem}.{extension}");
                let what = format!("the {} for {stem}", if extension == "tik" { "ticket" } else { "certificate" });
                let (source, body) = (file.source.clone(), Body::AsIs);
                let loaded = Loaded { name: name.clone(), source, body, expected: None, what };
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

    /// The names of all files, where `digest` has those of the ones that are called after their bytes.
    ///
    /// # Errors
    /// What `digest` fails with.
    pub fn names(files: &[Loaded], digest: &dyn Fn(usize) -> Result<[u8; 32]>) -> Result<Vec<String>> {
        let name = |(index, file): (usize, &Loaded)| match file.is_renamed() {
            true => Ok(file.name_for(&digest(index)?)),
            false => Ok(file.name.clone()),
        };
        files.iter().enumerate().map(name).collect()
    }
}

/// The header of a content whose key area has its title key, as it stands in a file: so its bytes stay as they are.
fn under_key_area(header: &Header, rights: [u8; 16], contents: &Contents, what: &str) -> Result<Vec<u8>> {
    let (kek, _) = keys::find(&contents.keys, header.kek()?, what)?;
    let (title, _) = keys::find(&contents.keys, Role::TitleKey(rights), what)?;
    let mut clear = title.bytes().to_vec();
    ecb_decrypt(&kek, &mut clear)?;
    let clear = Key::new(clear);
    let revision = keys::revision(header.generation());
    let (own, _) = keys::find(&contents.keys, Role::Area(header.area()?, revision), what)?;
    // Third of four: the key of sections under CTR. The others have nothing to open.
    let mut area = [[0; 16]; 4];
    area[2].copy_from_slice(clear.bytes());
    ecb_encrypt(&own, area.as_flattened_mut())?;
    header.with_area(area).sealed(&contents.keys)
}

fn bytes(source: &SourceRef) -> Result<Vec<u8>> {
    read_vec(source.as_ref(), 0, source.len(), "a ticket or certificate", super::ticket::MOST)
}
