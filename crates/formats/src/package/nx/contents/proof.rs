//! What proves the titles of a package: what headers say of each other, and the digests of all contents.

use super::{Bases, Contents, Held, META, Title};
use crate::package::nx::cnmt::{self, Record};
use crate::package::nx::keys::hex;
use crate::package::nx::{digest, sha256, title};
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::read_vec;
use decanter_core::{Error, Result};
use std::sync::Arc;

const INSTALL: &str = "a console refuses to install it: get a whole copy";

impl Contents {
    /// What headers say of each other: lists and what they list, lists and their ids, tickets and what needs them.
    pub fn settled(&self) -> Vec<Settled> {
        let mut all = Vec::new();
        for (index, why) in &self.failed {
            let name = format!("the list of contents {}", self.files[*index].name);
            all.push(Settled::fails(name, why, INSTALL));
        }
        for title in &self.titles {
            all.push(self.settled_list(title));
            let mut faults = Vec::new();
            for (record, file) in title.cnmt.records.iter().zip(&title.files) {
                let Some(index) = file else { continue };
                let held = &self.files[*index];
                if held.len() != record.len {
                    faults.push(format!(
                        "{} ({}) has {} bytes, the list says {}",
                        held.name,
                        record.name(),
                        held.len(),
                        record.len
                    ));
                }
            }
            for record in title.cnmt.records.iter().filter(|r| r.hash[..16] != r.id) {
                let (name, hash) = (record.file_name(), hex(&record.hash[..16]));
                faults.push(format!("the record of {name} ({}) has a SHA-256 that begins with {hash}", record.name()));
            }
            for record in title.missing() {
                faults.push(format!("{} ({}) is listed and not there", record.file_name(), record.name()));
            }
            all.push(Settled::of(format!("{}: contents are those listed", self.short(title)), &faults, INSTALL));
            all.extend(self.settled_contents(title));
        }
        const STARTS: &str = "without it nothing under its title key starts";
        for (index, ticket) in &self.tickets {
            let file = &self.files[*index].name;
            let name = format!("the ticket {file}");
            all.push(match ticket {
                Err(why) => Settled::fails(name, why, STARTS),
                Ok(ticket) if !file.to_ascii_lowercase().starts_with(&hex(&ticket.rights_id)) => {
                    Settled::fails(name, format!("it is for other rights: {}", hex(&ticket.rights_id)), STARTS)
                }
                Ok(_) => Settled::holds(format!("{name} is for the rights that it is called after")),
            });
        }
        all
    }

    /// A list of contents has the id that its own SHA-256 begins with.
    fn settled_list(&self, title: &Title) -> Settled {
        let held = &self.files[title.meta];
        let name = format!("{}: its list of contents, by its id", self.short(title));
        let id = held.name.to_ascii_lowercase();
        let Some(id) = id.strip_suffix(META).filter(|id| id.len() == 32) else {
            return Settled::fails(name, format!("{} is not called after an id", held.name), INSTALL);
        };
        match read_vec(held.source.as_ref(), 0, held.source.len(), "a list of contents", cnmt::MOST) {
            Ok(bytes) if hex(&sha256(&bytes)[..16]) == id => Settled::holds(name).by_digests(),
            Ok(_) => {
                Settled::fails(name, format!("the SHA-256 of {} does not begin with its name", held.name), INSTALL)
                    .by_digests()
            }
            Err(e) => Settled::fails(name, e.to_string(), INSTALL),
        }
    }

    /// Headers of contents: hashes of their sections' headers, the title that they say, the rights that they need.
    fn settled_contents(&self, title: &Title) -> Vec<Settled> {
        let mut all = Vec::new();
        let (mut heads, mut ids, mut rights) = (Vec::new(), Vec::new(), Vec::new());
        for (record, file) in title.cnmt.records.iter().zip(&title.files) {
            let Some(index) = file else { continue };
            let name = &self.files[*index].name;
            let nca = match self.nca(*index) {
                Ok(nca) => nca,
                // A key that is missing is no fault.
                Err(Error::Key(_)) => continue,
                Err(e) => {
                    heads.push(format!("{name} ({}): {e}", record.name()));
                    continue;
                }
            };
            for section in nca.sections.iter().filter(|s| !s.head_holds) {
                heads.push(format!("{name}: the header of section {} does not have its hash", section.index));
            }
            if !record.role.fits(nca.header.kind()) {
                ids.push(format!(
                    "{name} is listed as {}, and holds a {}",
                    record.role.name(),
                    nca.header.kind().name()
                ));
            }
            let base = title::base_of(nca.header.program_id());
            if base != title.cnmt.base_id() && title::base_of(title.cnmt.title_id) == title.cnmt.base_id() {
                ids.push(format!("{name} says that it is of {}", title::shown(nca.header.program_id())));
            }
            if let Some(id) = nca.header.rights_id() {
                let is_there = self.tickets.iter().any(|(_, t)| t.as_ref().is_ok_and(|t| t.rights_id == id));
                if !is_there {
                    rights.push(format!("{name} needs a ticket for {}, which is not there", hex(&id)));
                }
            }
        }
        const STARTS: &str = "it does not start where it is installed: get a whole copy";
        all.push(Settled::of(format!("{}: headers of contents", self.short(title)), &heads, STARTS));
        all.push(Settled::of(format!("{}: contents say that they are of it", self.short(title)), &ids, STARTS));
        // Who has the title key in a list can do without the ticket.
        if !rights.is_empty() {
            all.push(Settled::of(format!("{}: tickets", self.short(title)), &rights, STARTS));
        }
        all
    }
}

/// The digests of a package, as far as they can be tried.
#[derive(Default)]
pub struct Digests {
    /// Each content against its record, and against the hashes that it carries itself.
    pub sealed: Vec<Sealed>,
    /// What cannot be tried, and is a fault.
    pub faults: Vec<Settled>,
    /// Contents whose hashes are over a base that is not there, and that base.
    pub without_base: Vec<(String, u64)>,
}

/// The digests of all contents; those of updates over their bases too, where these are in the same package or in one of
/// `others`.
///
/// # Errors
/// What the machine is to blame for.
pub fn digests(contents: &Contents, others: &Bases) -> Result<Digests> {
    let mut own = Digests::default();
    for title in &contents.titles {
        for (record, file) in title.cnmt.records.iter().zip(&title.files) {
            let Some(index) = file else { continue };
            let held = &contents.files[*index];
            let name = format!("{} {}", contents.short(title), record.name());
            let whole = seal_of_whole(held, record);
            let Ok(nca) = contents.nca(*index) else {
                // What cannot be opened still has the digest of its record.
                own.sealed.push(whole_alone(held, whole, name));
                continue;
            };
            // Its list may say another length than its header.
            own.sealed.push(Sealed { source: held.source.clone(), ..nca.sealed(&name, Some(whole)) });
            if nca.trouble().is_some() || !nca.sections.iter().any(|s| s.patch.is_some()) {
                continue;
            }
            let Some(base) = contents.base_of(nca, others) else {
                own.without_base.push((name, title.cnmt.base_id()));
                continue;
            };
            match nca.sealed_over(&name, base) {
                Ok(more) => own.sealed.extend(more),
                // The base is locked: its own trouble says so.
                Err(Error::Key(_)) => {}
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => own.faults.push(Settled::fails(format!("{name} over its base"), e.to_string(), INSTALL)),
            }
        }
    }
    Ok(own)
}

/// The digest of a content by its record.
fn seal_of_whole(held: &Held, record: &Record) -> Seal {
    let (file, len) = (held.name.clone(), record.len);
    Seal {
        name: "the content as a whole".into(),
        range: 0..len,
        of_plaintext: false,
        expected: Expected::Digest(digest(&record.hash)),
        matters: INSTALL,
        inside: Some(Arc::new(move || vec![(0..len, file.clone())])),
    }
}

/// The digest of a content's record alone.
fn whole_alone(held: &Held, whole: Seal, name: String) -> Sealed {
    let (transform, locked, trouble, examine) = (None, Vec::new(), None, None);
    Sealed { name, source: held.source.clone(), transform, locked, trouble, seals: vec![whole], examine }
}
