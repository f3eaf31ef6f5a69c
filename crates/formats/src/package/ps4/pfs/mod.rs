//! PFS: the file system of packages of the fourth PlayStation generation. Layout, checks and what is not sure:
//! docs/formats/pfs.md.

pub mod compose;
mod header;
mod inode;
pub mod key;
mod mac;
pub mod paths;
mod proof;
mod raw;
mod stored;
mod walk;

pub use header::Header;

use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Key;
use decanter_core::opened::Opened;
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::source::SourceRef;
use decanter_core::tell::{count, grouped};
use decanter_core::{Error, Result};
use stored::Volume;
use walk::Inodes;

const ID: &str = "pfs";
/// Bytes of an image key.
pub const KEY_LEN: usize = 32;
/// What the ring calls the image key of an image that stands by itself.
pub const KEY: &str = "ps4.pfs.key";

/// The format.
pub struct Pfs;
/// The one instance.
pub static IMAGE: Pfs = Pfs;

/// Opens an image with what is in it; an encrypted or signed one with its image key.
///
/// # Errors
/// For a header that cannot be right, for a key that is not the one, and what reading fails with.
pub(super) fn open(source: &SourceRef, image_key: Option<&Key>, opener: &Opener<'_>) -> Result<Opened> {
    let header = Header::read(source.as_ref())?;
    let mut opened = Opened::new(ID, kind(&header));
    let words = format!("{} of {} bytes", count(header.blocks, "block", "blocks"), grouped(header.block));
    opened.fact("volume", words);
    opened.extent.promised_len = header.blocks.checked_mul(header.block);
    let opening = match image_key {
        Some(key) => key::open(source, &header, key)?,
        None => None,
    };
    if let Some(opening) = opening.as_ref().filter(|_| header.is_encrypted()) {
        opened.fact("keys", opening.derivation.words());
    }
    let (plain, mac) = match &opening {
        Some(opening) => (opening.plain.clone(), opening.mac.clone()),
        None if image_key.is_none() && !header.is_encrypted() => (source.clone(), None),
        None => return Err(Error::Unreadable { why: "it cannot be opened with its image key".into() }),
    };
    let asked = mac.clone().filter(|_| !opener.is_unchecked());
    let volume = Volume::new(plain.clone(), &header, asked);
    let inodes = Inodes::new(&header, &volume);
    let found = walk::walk(&header, &volume, &inodes, opener)?;
    opened.told.notices.extend(found.walked.notices.iter().cloned());
    proof::add(&mut opened, &header, opening.as_ref(), &volume, (&found, inodes), source);
    opened.holds.tree = Some(found.walked.tree);
    Ok(opened)
}

fn kind(header: &Header) -> String {
    let words = match (header.is_signed(), header.is_encrypted()) {
        (true, true) => "signed, encrypted",
        (true, false) => "signed",
        (false, true) => "encrypted",
        (false, false) => "plain",
    };
    format!("PFS image, {words}")
}

impl Format for Pfs {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PFS image"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["pfs"]
    }

    fn reads(&self) -> &'static str {
        "plain, signed and encrypted: folders, signatures of blocks, table of paths"
    }

    fn least_len(&self) -> u64 {
        2 << 16
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark { at: 8, bytes: &header::MAGIC.to_le_bytes() }] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        let version: [u8; 8] = decanter_core::source::read_array(head, 0)?;
        Ok((u64::from_le_bytes(version) <= 2).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let header = Header::read(source.as_ref())?;
        if !header.is_encrypted() && !header.is_signed() {
            return open(&source, None, opener);
        }
        let need = || format!("{KEY} (the image key of this image)");
        let found = opener.keys().of_names(&[KEY.to_owned()], KEY_LEN, &need);
        let given = opener.keys().given.as_ref().filter(|given| given.key.bytes().len() == KEY_LEN);
        let found = given.map(|given| Ok((given.key.clone(), given.origin.clone()))).unwrap_or(found);
        let trouble = match found {
            Ok((key, origin)) => match open(&source, Some(&key), opener) {
                Ok(mut opened) => {
                    let proof = header.is_signed().then(|| "the signatures of its first blocks".to_owned());
                    opened.protection = Some(protection(&header, KeyState::Found { origin, proof }));
                    return Ok(opened);
                }
                Err(Error::Unreadable { .. }) => {
                    let looked = opener.keys().looked().to_vec();
                    KeyTrouble { need: need(), way: KeyWay::ByName, wrong: vec![origin], looked }
                }
                Err(e) => return Err(e),
            },
            Err(_) if !header.is_encrypted() => return open(&source, None, opener),
            Err(trouble) => trouble,
        };
        let mut opened = Opened::new(ID, kind(&header));
        opened.extent.promised_len = header.blocks.checked_mul(header.block);
        opened.protection = Some(protection(&header, KeyState::Trouble(trouble)));
        Ok(opened)
    }
}

/// How an image is closed.
pub(super) fn protection(header: &Header, key: KeyState) -> Protection {
    let is_encrypted = header.is_encrypted();
    Protection {
        state: if is_encrypted { State::Encrypted } else { State::Decrypted },
        evidence: "the mode in its header".into(),
        key,
        unseal: None,
        seal: None,
        has_clear_form: false,
        clear: None,
        clear_as_it_is: None,
    }
}
