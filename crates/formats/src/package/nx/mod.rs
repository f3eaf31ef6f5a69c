//! The family of the hybrid console: contents (NCA), the two file systems that hold them (PFS0, HFS0), gamecard images, lists
//! of contents, control data, tickets. Layouts: docs/formats/nca.md and its neighbours.

mod beginnings;
pub mod bktr;
pub mod cnmt;
pub mod content;
pub mod contents;
pub mod keys;
pub mod lay;
pub mod load;
pub mod nacp;
pub mod nca;
pub mod nsp;
pub mod partition;
mod raw;
mod rebuild;
pub mod romfs;
mod tell;
pub mod ticket;
pub mod title;
pub mod xci;

pub(crate) use super::digest;
pub use super::sha256;
use aes::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, KeyInit, consts::U16};
use aes::{Aes128Dec, Aes128Enc};
use contents::Contents;
use decanter_core::format::{Format, likelihood};
use decanter_core::head::Head;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::SourceRef;
use decanter_core::{Error, Result};

/// The titles in a package or a gamecard image.
///
/// # Errors
/// [`Error::NotUnderstood`] for anything else, and what reading fails with.
pub fn open_contents(source: &SourceRef, keys: &Keyring) -> Result<Contents> {
    let head = Head::new(source.as_ref());
    if likelihood(&xci::CARD, &head)?.is_some() {
        return Contents::read(xci::Card::read(source, keys)?.files(xci::SECURE, source)?, keys);
    }
    match head.has_one_of(nsp::PACKAGE.marks())? {
        true => nsp::read(source, keys),
        false => Err(Error::NotUnderstood { seems: "it is neither a package nor a gamecard image".into() }),
    }
}

/// Decrypts whole blocks in place, each by itself.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn ecb_decrypt(key: &Key, bytes: &mut [u8]) -> Result<()> {
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(bytes);
    Aes128Dec::new(&Array::from(*key.bytes16()?)).decrypt_blocks(blocks);
    Ok(())
}

/// Encrypts whole blocks in place, each by itself.
///
/// # Errors
/// As [`ecb_decrypt`].
pub(crate) fn ecb_encrypt(key: &Key, bytes: &mut [u8]) -> Result<()> {
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(bytes);
    Aes128Enc::new(&Array::from(*key.bytes16()?)).encrypt_blocks(blocks);
    Ok(())
}
