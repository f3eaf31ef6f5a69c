//! Keys and codes of blocks.

use super::header::{CLEAR, CLOSED_KEYS, CODED, COMPRESSED, DEBUG, HMAC, Header, LONG};
use crate::package::ps3::{block_key, cbc_decrypt, cbc_encrypt, cmac};
use decanter_core::Result;
use decanter_core::digest::hmac_sha1;
use decanter_core::keyring::Key;
use zerocopy::IntoBytes;

/// Bytes of the longest code.
pub const MOST_CODE: usize = 20;
/// Bytes of the header's hash that are part of a block's key.
const OF_HASH: usize = 12;

/// What opens and closes the blocks of a file.
#[derive(Clone)]
pub struct Coding {
    header: Header,
    file_key: Key,
    /// What keys are under, where the flags say so.
    opener: Option<Key>,
}

impl Coding {
    /// The coding of a file with this key; `opener` is needed with [`CLOSED_KEYS`].
    pub fn new(header: Header, file_key: Key, opener: Option<Key>) -> Self {
        Self { header, file_key, opener }
    }

    /// The same for a header whose codes are known by now.
    pub fn with_header(self, header: Header) -> Self {
        Self { header, ..self }
    }

    /// The header.
    pub fn header(&self) -> &Header {
        &self.header
    }

    /// A key as it is used: opened, where the flags say that it is closed.
    fn opened(&self, key: &Key) -> Result<Key> {
        let mut bytes = *key.bytes16()?;
        if let Some(opener) = self.opener.as_ref().filter(|_| self.header.has(CLOSED_KEYS)) {
            cbc_decrypt(opener, &[0; 16], &mut bytes)?;
        }
        Ok(Key::new(bytes.to_vec()))
    }

    /// The key of a block, and that of its code.
    fn keys(&self, block: u64) -> Result<(Key, Key)> {
        let mut seed = [0; 16];
        if self.header.raw.version.get() > 1 {
            seed[..OF_HASH].copy_from_slice(&self.header.raw.header_hash[..OF_HASH]);
        }
        seed[OF_HASH..].copy_from_slice(&(block as u32).to_be_bytes());
        let key = block_key(&self.file_key, seed)?;
        let code = match self.header.has(HMAC) {
            true => block_key(&self.file_key, *key.bytes16()?)?,
            false => key.clone(),
        };
        Ok((self.opened(&key)?, self.opened(&code)?))
    }

    fn iv(&self) -> [u8; 16] {
        if self.header.raw.version.get() > 1 { self.header.raw.digest } else { [0; 16] }
    }

    /// Bytes of a code.
    pub fn code_len(&self) -> usize {
        if self.header.has(HMAC | LONG) && !self.header.has(COMPRESSED) { MOST_CODE } else { 16 }
    }

    fn code(&self, key: &Key, stored: &[u8]) -> Result<[u8; MOST_CODE]> {
        let mut code = [0; MOST_CODE];
        match self.header.has(HMAC) {
            true => code = hmac_sha1(key.bytes(), stored),
            false => code[..16].copy_from_slice(&cmac(key, stored)?),
        }
        Ok(code)
    }

    /// Decrypts a block in place, which has a multiple of 16 bytes; its code as it is found.
    ///
    /// # Errors
    /// [`decanter_core::Error::Usage`] for keys that have not 16 bytes.
    pub fn open(&self, block: u64, stored: &mut [u8]) -> Result<Option<[u8; MOST_CODE]>> {
        if self.header.has(DEBUG) {
            return Ok(None);
        }
        let (key, code_key) = self.keys(block)?;
        let code = self.code(&code_key, stored)?;
        if !self.header.has(CLEAR) {
            cbc_decrypt(&key, &self.iv(), stored)?;
        }
        Ok(Some(code))
    }

    /// Encrypts a block in place; its code.
    ///
    /// # Errors
    /// [`decanter_core::Error::Usage`] for keys that have not 16 bytes.
    pub fn close(&self, block: u64, plain: &mut [u8]) -> Result<[u8; MOST_CODE]> {
        let (key, code_key) = self.keys(block)?;
        if !self.header.has(CLEAR) {
            cbc_encrypt(&key, &self.iv(), plain)?;
        }
        self.code(&code_key, plain)
    }

    /// The CMAC of bytes of the header, or of all entries.
    ///
    /// # Errors
    /// [`decanter_core::Error::Usage`] for keys that have not 16 bytes.
    pub fn overall(&self, bytes: &[u8]) -> Result<[u8; 16]> {
        cmac(&self.opened(&self.file_key)?, bytes)
    }

    /// Whether the header's code is that of this key.
    ///
    /// # Errors
    /// [`decanter_core::Error::Usage`] for keys that have not 16 bytes.
    pub fn fits(&self) -> Result<bool> {
        Ok(self.overall(&self.header.raw.as_bytes()[..CODED])? == self.header.raw.header_code)
    }
}

/// The code in an entry, as far as it goes.
pub fn code_in(header: &Header, entry: &[u8]) -> [u8; MOST_CODE] {
    let mut code = [0; MOST_CODE];
    code[..16].copy_from_slice(&entry[..16]);
    if header.is_interleaved() {
        code[..16].iter_mut().zip(&entry[16..]).for_each(|(own, other)| *own ^= other);
        code[16..].copy_from_slice(&entry[16..20]);
    }
    code
}

/// The entry that has a code, if nothing is compressed.
pub fn entry_of(header: &Header, code: &[u8; MOST_CODE]) -> Vec<u8> {
    let mut entry = vec![0; header.entry_len() as usize];
    entry[..16].copy_from_slice(&code[..16]);
    if header.is_interleaved() {
        entry[16..20].copy_from_slice(&code[16..]);
        (0..16).for_each(|n| entry[n] ^= entry[n + 16]);
    }
    entry
}

/// Where a compressed block stands, its length, and whether it is compressed at all.
pub fn place_in(header: &Header, entry: &[u8]) -> (u64, u64, bool) {
    /// Bytes of the code that are XORed with what follows it, four at a time: two for each.
    const MIXED: [(usize, usize); 4] = [(12, 8), (4, 8), (12, 0), (4, 0)];
    let mut place: [u8; 16] = std::array::from_fn(|n| entry[n + 16]);
    if header.raw.version.get() > 1 {
        for (n, byte) in place.iter_mut().enumerate() {
            let (a, b) = MIXED[n / 4];
            *byte ^= entry[a + n % 4] ^ entry[b + n % 4];
        }
    }
    let word = |at| u64::from(crate::num::be32(&place, at));
    (word(0) << 32 | word(4), word(8), word(12) != 0)
}
