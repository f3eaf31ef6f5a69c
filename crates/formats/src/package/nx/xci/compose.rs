//! A gamecard image put together of the files of packages. Layout: docs/formats/xci.md.

use super::card::{self, Class, HEAD, UNIT};
use super::{FILLER, ID};
use crate::package::nx::keys::{self, Role};
use crate::package::nx::partition::{Item, Kinds, header};
use crate::package::nx::raw::CardHead;
use crate::package::nx::sha256;
use decanter_core::blueprint::{Blueprint, PartId};
use decanter_core::keyring::Keyring;
use decanter_core::source::{Bytes, SourceRef, read_vec};
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
    pub secure: Vec<(String, SourceRef)>,
    /// Whether the image is as long as the card.
    pub is_padded: bool,
    /// The keyring: with the key for the encrypted part of the header, that is written.
    pub keys: &'a Keyring,
}

/// An image that is laid out.
pub struct Card {
    /// The image.
    pub blueprint: Blueprint,
    /// The part of each file of the secure partition.
    pub parts: Vec<PartId>,
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
    let Making { secure, is_padded, keys } = making;
    let items = secure.iter().map(|(name, source)| {
        let len = source.len().min(HASHED);
        let hash = sha256(&read_vec(source.as_ref(), 0, len, "the beginning of a file", HASHED)?);
        Ok(Item { name: name.clone(), len: source.len(), hashed: Some((len as u32, hash)) })
    });
    let secure_head = header(Kinds::Hashed, &items.collect::<Result<Vec<_>>>()?, ALIGN)?;
    let empty_head = header(Kinds::Hashed, &[], ALIGN)?;
    let data: u64 = secure.iter().map(|(_, s)| s.len()).sum();
    let secure_len = (secure_head.len() as u64 + data).next_multiple_of(UNIT);
    let root_item = |name: &str, head: &[u8], len: u64| Item {
        name: name.into(),
        len,
        hashed: Some((head.len() as u32, sha256(head))),
    };
    let small = |name: &str| root_item(name, &empty_head, empty_head.len() as u64);
    let secure_item = root_item(super::SECURE, &secure_head, secure_len);
    let root = header(Kinds::Hashed, &[small("update"), small("logo"), small("normal"), secure_item], ALIGN)?;
    let secure_at = ROOT_AT + root.len() as u64 + 3 * empty_head.len() as u64;
    let end = secure_at + secure_len;
    let Some(class) = Class::for_len(end) else {
        let most = decanter_core::tell::grouped(Class::ThirtyTwo.len());
        return Err(Error::unsupported(ID, format!("a card of more than {most} bytes")));
    };
    let (head, has_info) = head(&root, secure_at, end, class, keys)?;
    let mut blueprint = Blueprint::new();
    blueprint.source(Arc::new(Bytes(head)));
    blueprint.fill(FILLER, ROOT_AT - HEAD);
    blueprint.source(Arc::new(Bytes(root)));
    for _ in 0..3 {
        blueprint.source(Arc::new(Bytes(empty_head.clone())));
    }
    let head_len = secure_head.len() as u64;
    blueprint.source(Arc::new(Bytes(secure_head)));
    let parts = secure.into_iter().map(|(_, source)| blueprint.source(source)).collect();
    blueprint.fill(0, secure_len - head_len - data);
    if is_padded {
        blueprint.fill(FILLER, class.len() - end);
    }
    Ok(Card { blueprint, parts, has_info, class })
}

/// The header: its signature is a placeholder of 0xFF.
fn head(root: &[u8], secure_at: u64, end: u64, class: Class, keys: &Keyring) -> Result<(Vec<u8>, bool)> {
    let unit = |at: u64| u32::try_from(at / UNIT).map_err(|_| Error::unsupported(ID, "a card as large as that"));
    let mut own = CardHead::new_zeroed();
    own.magic = *b"HEAD";
    own.secure_start.set(unit(secure_at)?);
    own.backup_start.set(u32::MAX);
    own.size_class = class.number();
    own.valid_end.set(unit(end)? - 1);
    own.root_at.set(ROOT_AT);
    own.root_len.set(root.len() as u64);
    own.root_hash = sha256(root);
    own.secure_mode.set(1);
    own.title_key.set(2);
    own.normal_end.set(unit(secure_at)?);
    let mut has_info = false;
    if let Ok((key, _)) = keys::find(keys, Role::CardHeader, "the encrypted part of a gamecard's header") {
        own.info = card::sealed_info(&key, &own.iv)?;
        has_info = true;
    }
    let mut bytes = vec![FILLER; 0x100];
    bytes.extend(own.as_bytes());
    Ok((bytes, has_info))
}
