//! The digests that a package carries of itself, whether its parts fit each other, and how it is encrypted.

use super::Package;
use super::header::Held;
use super::items::{EDAT, SDAT};
use super::tell::PARAMETERS;
use crate::package::ps3::npd;
use decanter_core::digest::Algorithm;
use decanter_core::error::Blame;
use decanter_core::opened::Opened;
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::{SourceRef, read_array};
use decanter_core::tell::grouped;
use decanter_core::tree::Content;
use decanter_core::{Digest, Result};

const INSTALL: &str = "a console refuses to install it: copy or download it again";
const FILES: &str = "the files that it hits cannot be read: copy or download it again";
/// Bytes at the end: a SHA-1 and zeros.
pub(super) const TRAILER: u64 = 0x20;
const SHA1: usize = 20;

/// Adds what can be proven, and how it is encrypted; `parameters` is the parameter file in it.
///
/// # Errors
/// What reading fails with.
pub(super) fn add(
    opened: &mut Opened,
    package: &Package,
    source: &SourceRef,
    parameters: Option<&Opened>,
) -> Result<()> {
    let header = &package.header;
    let settled = &mut opened.proof.settled;
    let told = |held: Held, name: &str, of: &str| match held {
        Held::Yes => Some(Settled::holds(name).by_digests()),
        Held::No => Some(Settled::fails(name, format!("the SHA-1 of {of} is another one"), INSTALL).by_digests()),
        Held::Absent => None,
    };
    settled.extend(told(header.holds(), "digest of the header", "its first 0x80 bytes"));
    settled.extend(told(header.metadata_holds(), "digest of the metadata", "the packets"));
    match package.mac_holds {
        Some(true) => settled.push(Settled::holds("CMAC of the header").by_digests()),
        Some(false) => settled.push(
            Settled::fails("CMAC of the header", "it is another one under the key that opens the items", INSTALL)
                .by_digests(),
        ),
        None => {}
    }
    settled.push(lengths(package));
    let faults: Vec<String> =
        package.items.iter().filter_map(|i| Some(format!("{}: {}", i.name, i.fault.as_ref()?))).collect();
    if package.closed.is_none() && !package.items.is_empty() {
        settled.push(Settled::of("names and ranges of the items", &faults, FILES));
    }
    settled.extend(parameters.map(|file| content_ids(file, package)));
    let wrapped = wrapped(opened, package)?;
    opened.proof.settled.extend(wrapped);
    match trailer(package, source)? {
        Some(expected) => opened.proof.sealed.push(whole(package, source, expected)),
        None if source.len() >= package.end() => {
            opened.proof.untried.push("it carries no digest of its files: only headers could be checked".into());
        }
        None => {}
    }
    if let Some(closed) = &package.closed {
        opened.proof.untried.push(closed.clone());
    }
    opened.protection = protection(package);
    Ok(())
}

/// Whether the lengths in the header fit each other.
fn lengths(package: &Package) -> Settled {
    let (total, end) = (package.header.raw.total_len.get(), package.data_end());
    let mut faults = Vec::new();
    if total < end {
        faults.push(format!("the package has {} bytes, its data area ends at {}", grouped(total), grouped(end)));
    }
    Settled::of("lengths in the header", &faults, INSTALL)
}

/// The SHA-1 at the end; `None` where there is none, or the end is not there.
fn trailer(package: &Package, source: &SourceRef) -> Result<Option<Digest>> {
    let total = package.header.raw.total_len.get();
    if total < package.data_end() + TRAILER || source.len() < total {
        return Ok(None);
    }
    let stored: [u8; SHA1] = read_array(source.as_ref(), total - TRAILER)?;
    Ok((stored != [0; SHA1]).then(|| Digest { algorithm: Algorithm::Sha1, bytes: stored.to_vec() }))
}

fn whole(package: &Package, source: &SourceRef, expected: Digest) -> Sealed {
    let seal = Seal {
        name: "all bytes before the SHA-1 at its end".into(),
        range: 0..package.header.raw.total_len.get() - TRAILER,
        of_plaintext: false,
        expected: Expected::Digest(expected),
        matters: "something in it is damaged: copy or download it again",
        inside: None,
    };
    Sealed {
        name: "the package".into(),
        source: source.clone(),
        transform: None,
        locked: Vec::new(),
        trouble: None,
        seals: vec![seal],
        examine: None,
    }
}

/// Whether the ids in the parameter file are the package's.
fn content_ids(parameters: &Opened, package: &Package) -> Settled {
    let own = package.header.content_id();
    let value = |name: &str| {
        let values = &parameters.told.parameters;
        values.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str()).unwrap_or_default().to_owned()
    };
    let (content_id, title_id) = (value("CONTENT_ID"), value("TITLE_ID"));
    let mut faults = Vec::new();
    if !content_id.is_empty() && content_id != own {
        faults.push(format!("{PARAMETERS} says {content_id}, the header {own}"));
    }
    let titled = crate::package::ps3::content_id::title_id(&own).unwrap_or_default();
    if !title_id.is_empty() && !titled.is_empty() && title_id != titled {
        faults.push(format!("{PARAMETERS} says {title_id}, the header {titled}"));
    }
    let settled = Settled::of("ids in parameter file and header", &faults, INSTALL);
    // An add-on is installed for a title of another id.
    if faults.is_empty() { settled } else { Settled { matters: None, ..settled } }
}

/// Whether the headers of the NPD-wrapped files in it are right, and say that they belong to it.
///
/// # Errors
/// What the machine is to blame for, and a stop.
fn wrapped(opened: &Opened, package: &Package) -> Result<Vec<Settled>> {
    let (mut broken, mut others, mut count) = (Vec::new(), Vec::new(), 0);
    let own = package.header.content_id();
    let nodes = opened.holds.tree.iter().flat_map(|tree| &tree.nodes);
    for (node, _) in nodes.zip(&package.items).filter(|(_, item)| matches!(item.flags & 0xff, EDAT | SDAT)) {
        let Some(Content::Whole(source)) = node.file().map(|f| &f.content) else { continue };
        count += 1;
        match npd::header::Header::read(source.as_ref()) {
            Err(e) if e.blame() == Blame::Source => broken.push(format!("{}: {e}", node.path)),
            Err(e) => return Err(e),
            Ok(header) if header.content_id() != own && !header.content_id().is_empty() => {
                others.push(format!("{} says {}, the package {own}", node.path, header.content_id()));
            }
            Ok(_) => {}
        }
    }
    if count == 0 {
        return Ok(Vec::new());
    }
    // The files of another title may be meant.
    let ids = Settled::of("content ids of NPD-wrapped files", &others, INSTALL);
    let ids = if others.is_empty() { ids } else { Settled { matters: None, ..ids } };
    Ok(vec![Settled::of("headers of NPD-wrapped files", &broken, FILES), ids])
}

/// How it is encrypted; debug packages are under a stream that anybody can make.
fn protection(package: &Package) -> Option<Protection> {
    if !package.header.is_finalized() || (package.closed.is_some() && package.key == KeyState::NotNeeded) {
        return None;
    }
    Some(Protection {
        state: State::Encrypted,
        evidence: "its revision says that it is finalized".into(),
        key: package.key.clone(),
        unseal: None,
        seal: None,
        has_clear_form: false,
        clear: None,
        clear_as_it_is: None,
    })
}
