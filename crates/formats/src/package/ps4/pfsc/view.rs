//! What a PFSC holds, block by block.

use super::raw::Head;
use super::{ID, MAGIC};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::view::{Blocks, Cached};
use decanter_core::{Error, Result};
use libdeflater::Decompressor;
use std::cmp::Ordering;
use std::sync::Arc;

/// Bytes of a block.
const LEAST_BLOCK: u64 = 0x1000;
const MOST_BLOCK: u64 = 1 << 22;
/// Bytes of the table of places.
const MOST_TABLE: u64 = 256 << 20;
/// Bytes that are read and unpacked at once.
const STRETCH: u64 = 1 << 20;
/// Blocks that are kept for reads of parts of them.
const MOST_KEPT: usize = 8;

/// The bytes in a PFSC.
pub struct View {
    own: Arc<Inside>,
    parts: Cached<Parts>,
}

struct Inside {
    source: SourceRef,
    len: u64,
    block: u64,
    /// Where each block begins, and where the last one ends.
    places: Vec<u64>,
}

/// The same, block by block.
struct Parts(Arc<Inside>);

impl View {
    /// What is in `source`.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a header or table that cannot be right, and what reading fails with.
    pub fn new(source: SourceRef) -> Result<Self> {
        let malformed = |what: String, at: u64| Error::malformed(ID, what, at);
        let head: Head = crate::raw::read_at(source.as_ref(), 0)?;
        if &head.magic != MAGIC {
            return Err(malformed("it does not begin with PFSC".into(), 0));
        }
        let (len, block, table_at) = (head.len.get(), head.block_again.get(), head.table_at.get());
        if !block.is_power_of_two() || !(LEAST_BLOCK..=MOST_BLOCK).contains(&block) {
            return Err(malformed(format!("blocks of {block} bytes"), 0x10));
        }
        let count = len.div_ceil(block);
        let table_len = count.saturating_add(1).saturating_mul(8);
        let end = table_at.checked_add(table_len).filter(|end| *end <= source.len());
        if table_len > MOST_TABLE || end.is_none() {
            let what = format!("a table for {len} bytes at {table_at:#x}, which does not fit {} bytes", source.len());
            return Err(malformed(what, 0x18));
        }
        let mut bytes = vec![0; table_len as usize];
        source.read_at(table_at, &mut bytes)?;
        let places: Vec<u64> = bytes.as_chunks::<8>().0.iter().map(|b| u64::from_le_bytes(*b)).collect();
        let first = end.unwrap_or(0);
        for (index, pair) in places.windows(2).enumerate() {
            let at = table_at + index as u64 * 8;
            if pair[0] < first || pair[1] < pair[0] {
                return Err(malformed(format!("block {index} goes from {:#x} to {:#x}", pair[0], pair[1]), at));
            }
        }
        let own = Arc::new(Inside { source, len, block, places });
        Ok(Self { parts: Cached::new(Parts(own.clone()), MOST_KEPT), own })
    }

    /// How many blocks are stored as they are, and how many there are.
    pub(super) fn stored_blocks(&self) -> (u64, u64) {
        let stored = self.own.places.windows(2).filter(|w| w[1] - w[0] == self.own.block).count();
        (stored as u64, self.own.places.len() as u64 - 1)
    }

    /// Where its last block ends.
    pub(super) fn end(&self) -> u64 {
        self.own.places.last().copied().unwrap_or(0)
    }
}

impl Inside {
    fn len_of(&self, number: u64) -> u64 {
        self.block.min(self.len - number * self.block)
    }

    /// Bytes that a block takes.
    fn packed_len(&self, number: u64) -> u64 {
        self.places[number as usize + 1] - self.places[number as usize]
    }

    /// Fills `out`, which has the length of block `number`, with what `packed` becomes.
    fn unpack(&self, number: u64, packed: &[u8], inflate: &mut Decompressor, out: &mut [u8]) -> Result<()> {
        let damaged = |why: &str| {
            let at = self.places[number as usize];
            Error::malformed(ID, format!("block {number:#x} {why}"), at)
        };
        if packed.len() as u64 == self.block || packed.len() == out.len() {
            let len = out.len();
            out.copy_from_slice(&packed[..len]);
            return Ok(());
        }
        // A whole block comes out, and of the last one as much as there is.
        let mut whole = vec![0; self.block as usize];
        let found = inflate.zlib_decompress(packed, &mut whole).map_err(|_| damaged("cannot be unpacked"))?;
        if found != out.len() && found as u64 != self.block {
            return Err(damaged(&format!("unpacks to {found} bytes, not {}", out.len())));
        }
        out.copy_from_slice(&whole[..out.len()]);
        Ok(())
    }

    /// Reads whole blocks from `first` on.
    fn read_blocks(&self, mut first: u64, mut out: &mut [u8]) -> Result<()> {
        let mut inflate = Decompressor::new();
        let mut packed = Vec::new();
        while !out.is_empty() {
            let kind = self.packed_len(first).cmp(&self.block);
            let most = (out.len() as u64).div_ceil(self.block).min(STRETCH / self.block).max(1);
            let alike =
                (first..first + most).take_while(|n| self.packed_len(*n).cmp(&self.block) == kind).count() as u64;
            let len: u64 = (first..first + alike).map(|n| self.len_of(n)).sum();
            let (now, later) = out.split_at_mut(len as usize);
            let from = self.places[first as usize];
            match kind {
                Ordering::Greater => {
                    let what = format!("block {first:#x} takes {} bytes, more than it has", self.packed_len(first));
                    return Err(Error::malformed(ID, what, from));
                }
                Ordering::Equal => self.source.read_at(from, now)?,
                Ordering::Less => {
                    packed.resize((self.places[(first + alike) as usize] - from) as usize, 0);
                    self.source.read_at(from, &mut packed)?;
                    for (index, block) in now.chunks_mut(self.block as usize).enumerate() {
                        let number = first + index as u64;
                        let at = (self.places[number as usize] - from) as usize;
                        let end = at + self.packed_len(number) as usize;
                        self.unpack(number, &packed[at..end], &mut inflate, block)?;
                    }
                }
            }
            first += alike;
            out = later;
        }
        Ok(())
    }
}

impl Blocks for Parts {
    fn len(&self) -> u64 {
        self.0.len
    }

    fn count(&self) -> usize {
        self.0.places.len() - 1
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        ((offset / self.0.block) as usize, offset / self.0.block * self.0.block)
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let mut bytes = vec![0; self.0.len_of(index as u64) as usize];
        self.0.read_blocks(index as u64, &mut bytes)?;
        Ok(bytes)
    }
}

impl Source for View {
    fn len(&self) -> u64 {
        self.own.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.own.len, offset, buf.len() as u64)?;
        let (own, block) = (&self.own, self.own.block);
        while !buf.is_empty() {
            let (number, into) = (offset / block, offset % block);
            let here = own.len_of(number) - into;
            let is_stored = own.packed_len(number) == block;
            let whole = match buf.len() as u64 >= own.len - offset {
                true => own.len - offset,
                false => buf.len() as u64 / block * block,
            };
            let len = if into == 0 && whole > 0 { whole } else { here.min(buf.len() as u64) };
            let (now, later) = buf.split_at_mut(len as usize);
            if into == 0 && whole > 0 {
                own.read_blocks(number, now)?;
            } else if is_stored {
                own.source.read_at(own.places[number as usize] + into, now)?;
            } else {
                self.parts.read_at(offset, now)?;
            }
            offset += len;
            buf = later;
        }
        Ok(())
    }

    fn is_checked(&self) -> bool {
        self.own.source.is_checked()
    }

    fn prefers_sequential(&self) -> bool {
        self.own.source.prefers_sequential()
    }
}
