use crate::error::{Error, Result};
use crate::keyring::Key;
use crate::source::{Source, SourceRef, check_range};
use aes::Aes128Dec;
use aes::cipher::{Array, BlockModeDecrypt, InnerIvInit, KeyInit, consts::U16};

/// Bytes of a cipher block.
const BLOCK: u64 = 16;

/// A source that is AES-128-CBC from its first byte to its last, decrypted. Reading in the middle costs one block more.
pub struct ChainedCbc {
    inner: SourceRef,
    aes: Aes128Dec,
    iv: [u8; 16],
}

impl ChainedCbc {
    /// `inner` decrypted under `key`, whose first block was chained to `iv`.
    ///
    /// # Errors
    /// [`Error::Usage`] when the key has not 16 bytes; [`Error::Unreadable`] for a length that is no multiple of 16.
    pub fn new(inner: SourceRef, key: &Key, iv: [u8; 16]) -> Result<Self> {
        if !inner.len().is_multiple_of(BLOCK) {
            return Err(Error::Unreadable {
                why: format!("{} bytes are no whole number of cipher blocks", inner.len()),
            });
        }
        Ok(Self { inner, aes: Aes128Dec::new(&Array::from(*key.bytes16()?)), iv })
    }

    /// Reads whole blocks from a block's edge on.
    fn read_blocks(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let mut iv = self.iv;
        if offset > 0 {
            self.inner.read_at(offset - BLOCK, &mut iv)?;
        }
        self.inner.read_at(offset, buf)?;
        let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(buf);
        cbc::Decryptor::inner_iv_init(self.aes.clone(), &Array::from(iv)).decrypt_blocks(blocks);
        Ok(())
    }
}

impl Source for ChainedCbc {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let end = offset.saturating_add(buf.len() as u64);
        check_range(self.len(), offset, buf.len() as u64)?;
        if offset.is_multiple_of(BLOCK) && end.is_multiple_of(BLOCK) {
            return self.read_blocks(offset, buf);
        }
        let first = offset / BLOCK * BLOCK;
        let mut wide = vec![0; (end.next_multiple_of(BLOCK) - first) as usize];
        self.read_blocks(first, &mut wide)?;
        let from = (offset - first) as usize;
        buf.copy_from_slice(&wide[from..from + buf.len()]);
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use std::sync::Arc;

    /// NIST SP 800-38A, F.2.2: all four blocks, and any range of them.
    #[test]
    fn a_published_value() {
        let hex = |text: &str| Key::from_hex(text).unwrap();
        let coded = hex(
            "7649abac8119b246cee98e9b12e9197d5086cb9b507219ee95db113a917678b273bed6b8e3c1743b7116e69e222295163ff1caa1681fac09120eca307586e1a7",
        );
        let plain = hex(
            "6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e5130c81c46a35ce411e5fbc1191a0a52eff69f2445df4f9b17ad2b417be66c3710",
        );
        let iv = *hex("000102030405060708090a0b0c0d0e0f").bytes16().unwrap();
        let key = hex("2b7e151628aed2a6abf7158809cf4f3c");
        let view = ChainedCbc::new(Arc::new(Bytes(coded.bytes().to_vec())), &key, iv).unwrap();
        for (from, to) in [(0, 64), (16, 32), (5, 6), (15, 49), (63, 64), (64, 64)] {
            let mut part = vec![0; to - from];
            view.read_at(from as u64, &mut part).unwrap();
            assert_eq!(part, plain.bytes()[from..to], "{from}..{to}");
        }
    }
}
