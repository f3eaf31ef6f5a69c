//! The digests that a container carries of itself, and whether its parts fit each other.

use super::entry;
use super::header::{self, Entry, Header};
use super::keys::Access;
use super::tell::PARAMETERS;
use crate::package::ps3::content_id::title_id;
use crate::package::{digest, sha256};
use decanter_core::digest::{Algorithm, of_source};
use decanter_core::opened::Opened;
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::Slice;
use decanter_core::watch::{self, Watch};
use decanter_core::{Result, tell::grouped};
use std::sync::Arc;

const INSTALL: &str = "a console refuses to install it: copy or download it again";
const DAMAGED: &str = "something in it is damaged: copy or download it again";
/// Bytes of the body: pictures and trophies.
const MOST_BODY: u64 = 512 << 20;

/// Adds what can be proven besides the files, which are held against digests and signatures whenever they are read.
///
/// # Errors
/// What reading fails with.
pub(super) fn add(
    opened: &mut Opened,
    header: &Header,
    access: &Access,
    source: &SourceRef,
    parameters: Option<&Opened>,
) -> Result<()> {
    let settled = &mut opened.proof.settled;
    let stored = Header::digest(source.as_ref())?;
    let own = read_vec(source.as_ref(), 0, header::DIGEST_AT, "a header", header::DIGEST_AT)?;
    settled.push(told("digest of the header", sha256(&own) == stored, "its first 0xfe0 bytes"));
    settled.push(lengths(header));
    settled.extend(parameters.map(|file| ids(file, header)));
    opened.fact("signature", "not checked: that takes the console's keys");
    let end = header.end();
    if source.len() < end {
        opened.damage(format!("{} bytes of it are missing at its end", grouped(end - source.len())));
    }
    let (own, entries) = (source.clone(), Arc::new(Parts::of(header)));
    opened.proof.on_reading.push(Arc::new(move |watch| entries.check(&own, watch)));
    let Some((at, len)) = header.image().filter(|(at, len)| at.saturating_add(*len) <= source.len()) else {
        return Ok(());
    };
    let image: SourceRef = Arc::new(Slice::new(source.clone(), at, len)?);
    let (expected, first) = (header.image.digest, header.image.signed_len.get());
    let signed = header.image.signed_digest;
    if access.image.is_none() {
        let trouble = "the image key: no file in the image can be read, and no signature checked";
        opened.proof.untried.push(trouble.into());
        opened.proof.sealed.push(whole(image, expected));
        return Ok(());
    }
    // Whoever reads the files has every block held against its signature: the digest of all of it is for who asks for everything.
    opened.proof.on_reading.push(Arc::new(move |watch| {
        let front = read_vec(image.as_ref(), 0, u64::from(first).min(image.len()), "an image", MOST_BODY)?;
        watch.begin("hashing the image", Some(image.len()));
        let found = of_source(&image, &[Algorithm::Sha256], watch)?;
        watch.end();
        Ok(vec![
            told("digest of the front of the image", sha256(&front) == signed, "its first block"),
            told("digest of the image", found.iter().all(|d| d.bytes == expected), "the image"),
        ])
    }));
    Ok(())
}

fn told(name: &str, holds: bool, of: &str) -> Settled {
    match holds {
        true => Settled::holds(name).by_digests(),
        false => Settled::fails(name, format!("the SHA-256 of {of} is another one"), INSTALL).by_digests(),
    }
}

/// The image as it is stored, where nothing else of it can be told.
fn whole(image: SourceRef, expected: [u8; 32]) -> Sealed {
    let seal = Seal {
        name: "digest of the image".into(),
        range: 0..image.len(),
        of_plaintext: false,
        expected: Expected::Digest(digest(&expected)),
        matters: DAMAGED,
        inside: None,
    };
    Sealed {
        name: "the image".into(),
        source: image,
        transform: None,
        locked: Vec::new(),
        trouble: None,
        seals: vec![seal],
        examine: None,
    }
}

/// Whether the lengths in the header fit each other.
fn lengths(header: &Header) -> Settled {
    let mut faults = Vec::new();
    if let Some((at, len)) = header.image() {
        let (end, said) = (at.saturating_add(len), header.image.package_len.get());
        if said < end {
            faults.push(format!("the package has {} bytes, its image ends at {}", grouped(said), grouped(end)));
        }
        let body = header.head.body_at.get().saturating_add(header.head.body_len.get());
        if body > at {
            faults.push(format!("the body ends at {}, the image begins at {}", grouped(body), grouped(at)));
        }
    }
    Settled::of("lengths in the header", &faults, INSTALL)
}

/// Whether the ids in the parameter file are the package's.
fn ids(parameters: &Opened, header: &Header) -> Settled {
    let own = header.content_id();
    let value = |name: &str| {
        let values = &parameters.told.parameters;
        values.iter().find(|(n, _)| n == name).map(|(_, v)| v.trim().to_owned()).unwrap_or_default()
    };
    let (content_id, title) = (value("CONTENT_ID"), value("TITLE_ID"));
    let mut faults = Vec::new();
    if content_id != own {
        faults.push(match content_id.is_empty() {
            true => format!("{PARAMETERS} says no content id, the header {own}"),
            false => format!("{PARAMETERS} says {content_id}, the header {own}"),
        });
    }
    let wanted = title_id(&own).unwrap_or_default();
    if title != wanted {
        faults.push(match title.is_empty() {
            true => format!("{PARAMETERS} says no title id, the header {wanted}"),
            false => format!("{PARAMETERS} says {title}, the header {wanted}"),
        });
    }
    Settled::of("ids in parameter file and header", &faults, INSTALL)
}

/// Parts of a container that have digests.
struct Parts {
    entries: Vec<Entry>,
    digests: super::raw::Digests,
    body: (u64, u64),
    system_entries: u64,
}

/// Bytes of a source, where all of them are there.
fn stretch(source: &SourceRef, at: u64, len: u64) -> Result<Option<Vec<u8>>> {
    match at.saturating_add(len) <= source.len() {
        true => read_vec(source.as_ref(), at, len, "an entry", MOST_BODY).map(Some),
        false => Ok(None),
    }
}

impl Parts {
    fn of(header: &Header) -> Self {
        Self {
            entries: header.entries.clone(),
            digests: header.digests,
            body: (header.head.body_at.get(), header.head.body_len.get()),
            system_entries: header.head.system_entries.get().into(),
        }
    }

    fn read(&self, source: &SourceRef, id: u32, most: u64) -> Result<Option<Vec<u8>>> {
        let Some(own) = self.entries.iter().find(|own| own.id == id) else { return Ok(None) };
        stretch(source, own.at(), own.len().min(most))
    }

    /// The parts of the container one after the other, as its digests of them have them.
    fn system(&self, source: &SourceRef, of: &[(u32, u64)]) -> Result<Option<Vec<u8>>> {
        let mut all = Vec::new();
        for (id, most) in of {
            match self.read(source, *id, *most)? {
                Some(bytes) => all.extend(bytes),
                None => return Ok(None),
            }
        }
        Ok(Some(all))
    }

    /// Every digest of the container.
    fn check(&self, source: &SourceRef, watch: &dyn Watch) -> Result<Vec<Settled>> {
        let mut settled = Vec::new();
        let all = u64::MAX;
        let table = self.read(source, entry::DIGESTS, self.entries.len() as u64 * 32)?;
        let mut faults = Vec::new();
        for (index, own) in self.entries.iter().enumerate().filter(|(_, own)| own.id != entry::DIGESTS) {
            watch::check(watch)?;
            let Some(wanted) = table.as_ref().and_then(|t| t.get(index * 32..index * 32 + 32)) else { continue };
            let what = format!("{} at {:#x}", entry::told(own.id), own.at());
            match stretch(source, own.at(), own.stored_len())? {
                Some(bytes) if entry::has_digest(&bytes, own.len(), wanted) => {}
                Some(_) => faults.push(format!("{what} has another SHA-256")),
                None => faults.push(format!("{what}, {} bytes, is not all there", grouped(own.len()))),
            }
        }
        match &table {
            Some(table) => {
                settled.push(Settled::of("digests of the entries", &faults, DAMAGED).by_digests());
                let holds = sha256(table) == self.digests.table;
                settled.push(told("digest of these digests", holds, "their table"));
            }
            None => settled.push(Settled::fails("digests of the entries", "there are none", INSTALL)),
        }
        let system = [
            (entry::KEYS, all),
            (entry::IMAGE_KEY, all),
            (entry::GENERAL, all),
            (entry::TABLE, all),
            (entry::DIGESTS, all),
        ];
        if let Some(bytes) = self.system(source, &system)? {
            settled.push(told("digest of the container's own entries", sha256(&bytes) == self.digests.system, "them"));
        }
        let again = [
            (entry::KEYS, all),
            (entry::IMAGE_KEY, all),
            (entry::GENERAL, all),
            (entry::TABLE, self.system_entries * 32),
        ];
        if let Some(bytes) = self.system(source, &again)? {
            let holds = sha256(&bytes) == self.digests.system_again;
            settled.push(told("digest of the first of them", holds, "them"));
        }
        let (at, len) = self.body;
        if at.saturating_add(len) <= source.len() && len <= MOST_BODY {
            let body: SourceRef = Arc::new(Slice::new(source.clone(), at, len)?);
            let found = of_source(&body, &[Algorithm::Sha256], &())?;
            settled.push(told("digest of the body", found.iter().all(|d| d.bytes == self.digests.body), "the body"));
        } else {
            settled.push(Settled::fails(
                "digest of the body",
                format!("{} bytes at {at:#x} are not all there", grouped(len)),
                DAMAGED,
            ));
        }
        Ok(settled)
    }
}
