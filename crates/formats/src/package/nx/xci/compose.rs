//! A gamecard image put together of the files of packages. Layout: docs/formats/xci.md.

use super::card::{self, Class, HEAD, UNIT};
use super::{FILLER, ID};
use crate::package::nx::keys::{self, Role};
use crate::package::nx::lay::{self, Table, Tables};
use crate::package::nx::load::Loaded;
use crate::package::nx::partition::{Item, Kinds, header};
use crate::package::nx::raw::CardHead;
use crate::package::nx::sha256;
use decanter_core::blueprint::Blueprint;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{Bytes, read_vec};
use decanter_core::{Error, Result};
use std::sync::Arc;
use zerocopy::{FromZeros, IntoBytes};

/// Where the root begins: behind the header, the card's certificate and what is reserved.
const ROOT_AT: u64 = 0xf000;
/// Bytes of a file that its hash is over.
const HASHED: u64 = 0x200;
/// What all headers of file systems are filled up to.
const ALIGN: u64 = 0x200;

/// What an image is made of.
pub struct Making<'a> {
    /// Files of the secure partition, in their order.
    pub secure: Vec<Loaded>,
    /// Whether the image is as long as the card.
    pub is_padded: bool,
    /// Whether contents are not held against their digests.
    pub is_unchecked: bool,
    /// The keyring: with the key for the encrypted part of the header, that is written.
    pub keys: &'a Keyring,
}

/// An image that is laid out.
pub struct Card {
    /// The image.
    pub blueprint: Blueprint,
    /// Whether the encrypted part of its header is written.
    pub has_info: bool,
    /// The size of the card.
    pub class: Class,
}

/// Lays an image out.
///
/// # Errors
/// [`Error::Unsupported`] for more bytes than the largest card holds, and what reading the files' beginnings fails with.
pub fn compose(making: Making<'_>) -> Result<Card> {
    let Making { secure, is_padded, is_unchecked, keys } = making;
    let hash = |file: &Loaded| {
        // Of a list that is put together anew these bytes stay: they are its first signature.
        let len = file.source.len().min(HASHED);
        let hash = sha256(&read_vec(file.source.as_ref(), 0, len, "the beginning of a file", HASHED)?);
        Ok(Some((len as u32, hash)))
    };
    let hashes = secure.iter().map(hash).collect::<Result<Vec<_>>>()?;
    let mut tables = Tables::new(secure);
    let files = Arc::new(tables.files().to_vec());
    let data: u64 = files.iter().map(|f| f.source.len()).sum();
    let secure_head: Table = Arc::new(move |names| lay::table(Kinds::Hashed, &files, names, &hashes, ALIGN));
    let names: Vec<String> = tables.files().iter().map(|f| f.name.clone()).collect();
    let head_len = secure_head(&names)?.len() as u64;
    let empty = header(Kinds::Hashed, &[], ALIGN)?;
    let secure_len = (head_len + data).next_multiple_of(UNIT);
    let root: Table = {
        let (secure_head, empty) = (secure_head.clone(), empty.clone());
        Arc::new(move |names| root(&secure_head(names)?, secure_len, &empty))
    };
    let root_len = root(&names)?.len() as u64;
    let secure_at = ROOT_AT + root_len + 3 * empty.len() as u64;
    let end = secure_at + secure_len;
    let Some(class) = Class::for_len(end) else {
        let most = decanter_core::tell::grouped(Class::ThirtyTwo.bytes());
        return Err(Error::unsupported(ID, format!("a card of more than {most} bytes")));
    };
    let info_key =
        keys::find(keys, Role::CardHeader, "the encrypted part of a gamecard's header").ok().map(|(key, _)| key);
    let has_info = info_key.is_some();
    let mut blueprint = Blueprint::new();
    {
        let root = root.clone();
        let place = Place { secure_at, end, class };
        tables.add(&mut blueprint, Arc::new(move |names| head(&root(names)?, &place, info_key.as_ref())))?;
    }
    blueprint.fill(FILLER, ROOT_AT - HEAD);
    tables.add(&mut blueprint, root)?;
    for _ in 0..3 {
        blueprint.source(Arc::new(Bytes(empty.clone())));
    }
    tables.add(&mut blueprint, secure_head)?;
    tables.finish(&mut blueprint, is_unchecked)?;
    blueprint.fill(0, secure_len - head_len - data);
    if is_padded {
        blueprint.fill(FILLER, class.bytes() - end);
    }
    Ok(Card { blueprint, has_info, class })
}

/// The header of the root: three empty partitions and the secure one.
fn root(secure_head: &[u8], secure_len: u64, empty: &[u8]) -> Result<Vec<u8>> {
    let item = |name: &str, head: &[u8], len: u64| Item {
        name: name.into(),
        len,
        hashed: Some((head.len() as u32, sha256(head))),
    };
    let small = |name: &str| item(name, empty, empty.len() as u64);
    let secure = item(super::SECURE, secure_head, secure_len);
    header(Kinds::Hashed, &[small("update"), small("logo"), small("normal"), secure], ALIGN)
}

/// Where the secure partition begins and ends, and on which card.
struct Place {
    secure_at: u64,
    end: u64,
    class: Class,
}

/// The header: its signature is a placeholder of 0xFF.
fn head(root: &[u8], place: &Place, info_key: Option<&Key>) -> Result<Vec<u8>> {
    let unit = |at: u64| u32::try_from(at / UNIT).map_err(|_| Error::unsupported(ID, "a card as large as that"));
    let mut own = CardHead::new_zeroed();
    own.magic = *b"HEAD";
    own.secure_start.set(unit(place.secure_at)?);
    own.backup_start.set(u32::MAX);
    own.size_class = place.class.number();
    own.valid_end.set(unit(place.end)? - 1);
    own.root_at.set(ROOT_AT);
    own.root_len.set(root.len() as u64);
    own.root_hash = sha256(root);
    own.secure_mode.set(1);
    own.title_key.set(2);
    own.normal_end.set(unit(place.secure_at)?);
    if let Some(key) = info_key {
        own.info = card::sealed_info(key, &own.iv)?;
    }
    let mut bytes = vec![FILLER; 0x100];
    bytes.extend(own.as_bytes());
    Ok(bytes)
}
