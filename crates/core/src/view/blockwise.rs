use crate::source::{Source, SourceRef, check_range};
use crate::{Error, Result};

/// Changes whole blocks in place; the slice is one block or several.
pub type Change = fn(&mut [u8]);

/// A source whose blocks are each changed by themselves: bytes swapped, interleaved, mirrored. What is left at the end
/// and is no whole block stays as it is.
pub struct Blockwise {
    inner: SourceRef,
    block: u64,
    change: Change,
}

impl Blockwise {
    /// `inner` in blocks of `block` bytes.
    ///
    /// # Errors
    /// [`Error::Usage`] for blocks of no bytes.
    pub fn new(inner: SourceRef, block: u64, change: Change) -> Result<Self> {
        if block == 0 {
            return Err(Error::Usage("blocks need at least one byte".into()));
        }
        Ok(Self { inner, block, change })
    }
}

impl Source for Blockwise {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let end = offset + buf.len() as u64;
        let whole = self.len() / self.block * self.block;
        let (first, last) = (offset / self.block * self.block, end.next_multiple_of(self.block));
        if first == offset && (last == end || end == self.len()) {
            self.inner.read_at(offset, buf)?;
            let changed = end.min(whole).saturating_sub(offset) as usize;
            (self.change)(&mut buf[..changed]);
            return Ok(());
        }
        let mut wide = vec![0; (last.min(self.len()) - first) as usize];
        self.read_at(first, &mut wide)?;
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

    fn swap(bytes: &mut [u8]) {
        bytes.chunks_exact_mut(2).for_each(|p| p.swap(0, 1));
    }

    #[test]
    fn any_range_is_that_of_the_changed_whole() {
        let view = Blockwise::new(Arc::new(Bytes((0..11).collect())), 2, swap).unwrap();
        let whole = [1, 0, 3, 2, 5, 4, 7, 6, 9, 8, 10];
        for from in 0..=whole.len() {
            for to in from..=whole.len() {
                let mut buf = vec![0; to - from];
                view.read_at(from as u64, &mut buf).unwrap();
                assert_eq!(buf, whole[from..to], "{from}..{to}");
            }
        }
    }
}
