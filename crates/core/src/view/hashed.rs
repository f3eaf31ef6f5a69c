use crate::digest::{Algorithm, Hasher};
use crate::error::{Error, Result};
use crate::source::{Source, SourceRef, check_range};
use std::sync::Arc;

/// Blocks that are read and hashed at once.
const AT_ONCE: u64 = 256;

/// What a block is called, by its number, for errors.
pub type BlockName = Arc<dyn Fn(u64) -> String + Send + Sync>;

/// A source in blocks that each have a digest: no byte is handed on whose block does not have its own.
pub struct Hashed {
    inner: SourceRef,
    len: u64,
    block: u64,
    algorithm: Algorithm,
    digest_len: usize,
    digests: SourceRef,
    name: BlockName,
}

impl Hashed {
    /// The first `len` bytes of `inner`, in blocks of `block` bytes. `digests` has the digest of each block, one after the
    /// other; the last block of `inner` may be shorter.
    ///
    /// # Errors
    /// [`Error::Usage`] for blocks of no bytes, [`Error::PastEnd`] for more bytes than there are.
    pub fn new(
        inner: SourceRef,
        len: u64,
        block: u64,
        algorithm: Algorithm,
        digests: SourceRef,
        name: BlockName,
    ) -> Result<Self> {
        if block == 0 {
            return Err(Error::Usage("blocks need at least one byte".into()));
        }
        check_range(inner.len(), 0, len)?;
        let digest_len = Hasher::new(algorithm).finish().bytes.len();
        Ok(Self { inner, len, block, algorithm, digest_len, digests, name })
    }

    /// Whole blocks from number `first` on, the last of which may be the shorter one at the end.
    fn read_blocks(&self, first: u64, bytes: &mut [u8]) -> Result<()> {
        self.inner.read_at(first * self.block, bytes)?;
        let count = bytes.len().div_ceil(self.block as usize);
        let mut digests = vec![0; count * self.digest_len];
        self.digests.read_at(first * self.digest_len as u64, &mut digests)?;
        for (index, block) in bytes.chunks(self.block as usize).enumerate() {
            let mut hasher = Hasher::new(self.algorithm);
            hasher.update(block);
            let found = hasher.finish();
            let expected = &digests[index * self.digest_len..][..self.digest_len];
            if found.bytes != expected {
                return Err(Error::Checksum {
                    what: (self.name)(first + index as u64),
                    expected: format!("{} {}", self.algorithm.name(), crate::digest::hex(expected)),
                    found: found.hex(),
                });
            }
        }
        Ok(())
    }
}

impl Source for Hashed {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let mut wide = Vec::new();
        while !buf.is_empty() {
            let (first, into) = (offset / self.block, (offset % self.block) as usize);
            let whole = buf.len() as u64 / self.block;
            if into == 0 && whole > 0 {
                let (now, later) = buf.split_at_mut((whole.min(AT_ONCE) * self.block) as usize);
                self.read_blocks(first, now)?;
                offset += now.len() as u64;
                buf = later;
                continue;
            }
            let here = self.block.min(self.inner.len() - first * self.block) as usize;
            wide.resize(here, 0);
            self.read_blocks(first, &mut wide)?;
            let len = buf.len().min(here - into);
            let (now, later) = buf.split_at_mut(len);
            now.copy_from_slice(&wide[into..into + len]);
            offset += len as u64;
            buf = later;
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }

    fn is_checked(&self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::of_bytes;
    use crate::source::Bytes;
    use proptest::prelude::*;

    fn view(bytes: &[u8], len: u64) -> Hashed {
        let digests = bytes.chunks(16).flat_map(|b| of_bytes(Algorithm::Sha1, b).bytes).collect();
        let digests: SourceRef = Arc::new(Bytes(digests));
        let name: BlockName = Arc::new(|n| format!("block {n}"));
        Hashed::new(Arc::new(Bytes(bytes.to_vec())), len, 16, Algorithm::Sha1, digests, name).unwrap()
    }

    #[test]
    fn a_block_that_differs_is_told_by_its_number_and_no_other_is_hit() {
        let bytes: Vec<u8> = (0..100).collect();
        let own = view(&bytes, 100);
        let mut other = bytes.clone();
        other[40] ^= 1;
        let damaged = Hashed { inner: Arc::new(Bytes(other)), ..own };
        let mut buf = [0; 16];
        assert!(damaged.read_at(16, &mut buf).is_ok() && damaged.read_at(48, &mut buf).is_ok());
        let told = damaged.read_at(31, &mut buf[..2]).unwrap_err().to_string();
        assert!(told.starts_with("block 2 should have SHA-1"), "{told}");
        assert!(damaged.is_checked());
    }

    proptest! {
        #[test]
        fn any_range_is_that_of_the_whole(len in 0usize..2000, from in 0usize..2000, to in 0usize..2000) {
            let bytes: Vec<u8> = (0..len).map(|i| (i * 31) as u8).collect();
            let own = view(&bytes, len as u64);
            let (from, to) = (from.min(to).min(len), to.max(from).min(len));
            let mut buf = vec![0; to - from];
            own.read_at(from as u64, &mut buf).unwrap();
            prop_assert_eq!(&buf, &bytes[from..to]);
        }
    }
}
