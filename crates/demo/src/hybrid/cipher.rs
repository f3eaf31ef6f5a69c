//! Blocks under AES, each by itself.

use aes::Aes128Enc;
use aes::cipher::{Array, BlockCipherEncrypt, KeyInit};

/// The blocks of `bytes`, encrypted each by itself.
pub(crate) fn encrypt_blocks(key: &[u8; 16], bytes: &[u8]) -> Vec<u8> {
    let aes = Aes128Enc::new(&Array::from(*key));
    let mut out = Vec::with_capacity(bytes.len());
    for block in bytes.as_chunks::<16>().0 {
        let mut own = Array::from(*block);
        aes.encrypt_block(&mut own);
        out.extend(own);
    }
    out
}
