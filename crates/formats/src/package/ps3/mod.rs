//! The PlayStation 3 generation: packages, and what is wrapped in them.

pub mod classics;
pub mod content_id;
pub mod keys;
pub mod licence;
pub mod npd;
pub mod pkg;

use aes::cipher::consts::U16;
use aes::cipher::{Array, BlockCipherEncrypt, BlockModeDecrypt, BlockModeEncrypt, InnerIvInit};
use aes::{Aes128, Aes128Dec, Aes128Enc};
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

/// Decrypts whole blocks of AES-128-CBC in place.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn cbc_decrypt(key: &Key, iv: &[u8; 16], bytes: &mut [u8]) -> Result<()> {
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(bytes);
    let aes = Aes128Dec::new(&Array::from(*key.bytes16()?));
    cbc::Decryptor::inner_iv_init(aes, &Array::from(*iv)).decrypt_blocks(blocks);
    Ok(())
}

/// Encrypts whole blocks with AES-128-CBC in place.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn cbc_encrypt(key: &Key, iv: &[u8; 16], bytes: &mut [u8]) -> Result<()> {
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(bytes);
    let aes = Aes128Enc::new(&Array::from(*key.bytes16()?));
    cbc::Encryptor::inner_iv_init(aes, &Array::from(*iv)).encrypt_blocks(blocks);
    Ok(())
}

/// Blocks that a processor encrypts at once where they do not wait for each other.
const ABREAST: usize = 8;

/// Encrypts stretches of `len` bytes, a multiple of 16, each with AES-128-CBC by itself, in place. Blocks of one stretch
/// wait for each other, those of several do not.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn cbc_encrypt_each(key: &Key, iv: &[u8; 16], len: usize, bytes: &mut [u8]) -> Result<()> {
    let aes = Aes128Enc::new(&Array::from(*key.bytes16()?));
    for some in bytes.chunks_mut(len * ABREAST) {
        let lanes = some.len() / len;
        let mut blocks = [Array::<u8, U16>::from(*iv); ABREAST];
        for at in (0..len).step_by(16) {
            for (lane, block) in blocks[..lanes].iter_mut().enumerate() {
                let plain = &some[lane * len + at..][..16];
                block.iter_mut().zip(plain).for_each(|(own, byte)| *own ^= byte);
            }
            aes.encrypt_blocks(&mut blocks[..lanes]);
            for (lane, block) in blocks[..lanes].iter().enumerate() {
                some[lane * len + at..][..16].copy_from_slice(block);
            }
        }
    }
    Ok(())
}

/// A key that is two others XORed.
pub fn mixed(one: &Key, other: &[u8]) -> Key {
    Key::new(one.bytes().iter().zip(other).map(|(a, b)| a ^ b).collect())
}

/// One block under AES-128, as a key that is made of it.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for a key that has not 16 bytes.
pub(crate) fn block_key(key: &Key, mut block: [u8; 16]) -> Result<Key> {
    cbc_encrypt(key, &[0; 16], &mut block)?;
    Ok(Key::new(block.to_vec()))
}
