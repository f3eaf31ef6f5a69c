//! The PlayStation 3 generation: packages, and what is wrapped in them.

pub mod keys;
pub mod pkg;

use aes::Aes128;
use cmac::{Cmac, KeyInit, Mac};
use decanter_core::Result;
use decanter_core::keyring::Key;

/// AES-CMAC (RFC 4493).
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn cmac(key: &Key, bytes: &[u8]) -> Result<[u8; 16]> {
    let mut mac = <Cmac<Aes128> as KeyInit>::new(&(*key.bytes16()?).into());
    mac.update(bytes);
    Ok(mac.finalize().into_bytes().into())
}
