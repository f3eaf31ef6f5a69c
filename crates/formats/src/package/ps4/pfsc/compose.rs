//! New PFSC images: with stored blocks, or with deflated ones.

use super::MAGIC;
use super::raw::Head;
use decanter_core::source::{Bytes, Source, SourceRef, check_range};
use decanter_core::threads::{Shares, available, on_all};
use decanter_core::view::{Blocks, Cached, Concat};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use libdeflater::{CompressionLvl, Compressor};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::IntoBytes;

/// Bytes of a block.
pub(crate) const BLOCK: u64 = 0x1_0000;
/// Where the table stands.
const TABLE_AT: u64 = 0x400;
/// What images have in this field.
const KIND: u32 = 6;
/// Effort of deflate.
const LEVEL: i32 = 6;
/// Blocks that are packed before they are handed on, for each processor.
const AT_ONCE: u64 = 32;
/// Packed blocks that are kept: readers of neighbouring bytes share them.
const MOST_KEPT: usize = 64;

/// Where the data begins of an image of `len` bytes: behind the table, at a block.
fn data_at(len: u64) -> u64 {
    (TABLE_AT + (len.div_ceil(BLOCK) + 1) * 8).next_multiple_of(BLOCK)
}

/// Header and table, up to where the data begins.
fn front(len: u64, places: impl Iterator<Item = u64>) -> Vec<u8> {
    let head = Head {
        magic: *MAGIC,
        reserved: 0.into(),
        kind: KIND.into(),
        block: (BLOCK as u32).into(),
        block_again: BLOCK.into(),
        table_at: TABLE_AT.into(),
        data_at: data_at(len).into(),
        len: len.into(),
    };
    let mut bytes = head.as_bytes().to_vec();
    bytes.resize(TABLE_AT as usize, 0);
    bytes.extend(places.flat_map(u64::to_le_bytes));
    bytes.resize(data_at(len) as usize, 0);
    bytes
}

/// `image`, which has whole blocks, with all of them stored as they are.
///
/// # Errors
/// None that an image in memory's means could cause.
pub fn stored(image: &SourceRef) -> Result<SourceRef> {
    let (len, at) = (image.len(), data_at(image.len()));
    let front = front(len, (0..=len.div_ceil(BLOCK)).map(|n| at + n * BLOCK));
    Ok(Arc::new(Concat::new(vec![Arc::new(Bytes(front)), image.clone()])?))
}

/// How long each block of an image is once it is deflated.
pub struct Plan {
    image: SourceRef,
    places: Vec<u64>,
}

/// Deflates all blocks of `image`, which has whole blocks, to see how long they become. What they become is shown to `see`
/// in order, and not kept.
///
/// # Errors
/// What reading fails with, and [`Error::Cancelled`].
pub fn plan(image: &SourceRef, see: &mut dyn FnMut(&[u8]) -> Result<()>, watch: &dyn Watch) -> Result<Plan> {
    let count = image.len().div_ceil(BLOCK);
    let mut places = Vec::with_capacity(count as usize + 1);
    let mut end = data_at(image.len());
    places.push(end);
    let batch = AT_ONCE * available() as u64;
    for first in (0..count).step_by(batch as usize) {
        watch::check(watch)?;
        let shares = Shares::new(batch.min(count - first), 1);
        let packed = Mutex::new(vec![Vec::new(); batch.min(count - first) as usize]);
        on_all(|| {
            for index in (&shares).flatten() {
                let own = pack(image, first + index)?;
                packed.lock().unwrap_or_else(PoisonError::into_inner)[index as usize] = own;
            }
            Ok(())
        })?;
        for block in packed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            end += block.len() as u64;
            places.push(end);
            see(&block)?;
        }
        watch.advance(batch.min(count - first) * BLOCK);
    }
    Ok(Plan { image: image.clone(), places })
}

/// A block as it is stored: deflated, or as it is where that is no gain.
fn pack(image: &SourceRef, number: u64) -> Result<Vec<u8>> {
    let mut raw = vec![0; BLOCK as usize];
    image.read_at(number * BLOCK, &mut raw)?;
    let level =
        CompressionLvl::new(LEVEL).map_err(|_| Error::Usage("an effort of deflate that there is not".into()))?;
    let mut compressor = Compressor::new(level);
    let mut packed = vec![0; BLOCK as usize - 1];
    match compressor.zlib_compress(&raw, &mut packed) {
        Ok(len) => {
            packed.truncate(len);
            Ok(packed)
        }
        // There is no room for it, as it would be no shorter.
        Err(_) => Ok(raw),
    }
}

/// An image with deflated blocks, which are made whenever they are read.
pub struct Stream {
    front: Vec<u8>,
    data: Cached<Packed>,
    len: u64,
}

struct Packed {
    plan: Plan,
}

impl Stream {
    /// The image of a plan.
    pub fn new(plan: Plan) -> Self {
        let len = plan.places.last().copied().unwrap_or(0);
        let front = front(plan.image.len(), plan.places.iter().copied());
        Self { front, data: Cached::new(Packed { plan }, MOST_KEPT), len }
    }

    /// Header and table, up to where the data begins.
    pub fn front(&self) -> &[u8] {
        &self.front
    }
}

impl Packed {
    fn base(&self) -> u64 {
        self.plan.places[0]
    }
}

impl Blocks for Packed {
    fn len(&self) -> u64 {
        self.plan.places.last().map_or(0, |end| end - self.base())
    }

    fn count(&self) -> usize {
        self.plan.places.len() - 1
    }

    fn find(&self, offset: u64) -> (usize, u64) {
        let index = self.plan.places.partition_point(|at| *at <= offset + self.base()) - 1;
        (index, self.plan.places[index] - self.base())
    }

    fn make(&self, index: usize) -> Result<Vec<u8>> {
        let packed = pack(&self.plan.image, index as u64)?;
        let wanted = self.plan.places[index + 1] - self.plan.places[index];
        match packed.len() as u64 == wanted {
            true => Ok(packed),
            false => Err(Error::Damaged { what: "its bytes were others when they were read first".into() }),
        }
    }
}

impl Source for Stream {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let front = self.front.get(offset as usize..).unwrap_or_default();
        let (now, later) = buf.split_at_mut(front.len().min(buf.len()));
        now.copy_from_slice(&front[..now.len()]);
        match later.is_empty() {
            true => Ok(()),
            false => self.data.read_at(offset + now.len() as u64 - self.front.len() as u64, later),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::View;
    use super::*;
    use proptest::prelude::*;

    /// Header and table of an image of two blocks, by hand.
    #[test]
    fn fixed_bytes() {
        let image: SourceRef = Arc::new(Bytes(vec![7; 2 * BLOCK as usize]));
        let made = stored(&image).unwrap();
        assert_eq!(made.len(), 3 * BLOCK);
        let mut head = [0; 0x30];
        made.read_at(0, &mut head).unwrap();
        let wanted =
            b"PFSC\0\0\0\0\x06\0\0\0\0\0\x01\0\0\0\x01\0\0\0\0\0\0\x04\0\0\0\0\0\0\0\0\x01\0\0\0\0\0\0\0\x02\0\0\0\0\0";
        assert_eq!(&head, wanted);
        let mut table = [0; 24];
        made.read_at(0x400, &mut table).unwrap();
        assert_eq!(&table, b"\0\0\x01\0\0\0\0\0\0\0\x02\0\0\0\0\0\0\0\x03\0\0\0\0\0");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn what_was_packed_comes_back(blocks in 1usize..9, noise in any::<u16>(), from in 0usize..400_000, len in 0usize..200_000) {
            let mut bytes = vec![0; blocks * BLOCK as usize];
            let mut state = u32::from(noise) | 1;
            for (index, byte) in bytes.iter_mut().enumerate() {
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                // Blocks of noise among others: those are stored.
                *byte = if noise >> (index >> 16) & 1 == 1 { (state >> 24) as u8 } else { (index >> 7) as u8 };
            }
            let image: SourceRef = Arc::new(Bytes(bytes.clone()));
            let mut seen: Vec<u8> = Vec::new();
            let planned = plan(&image, &mut |b| { seen.extend(b); Ok(()) }, &()).unwrap();
            let stream = Stream::new(planned);
            let mut all = vec![0; stream.len() as usize];
            stream.read_at(0, &mut all).unwrap();
            prop_assert_eq!(&all[stream.front().len()..], &seen[..]);
            for made in [Arc::new(stream) as SourceRef, stored(&image).unwrap()] {
                let view = View::new(made).unwrap();
                let from = from % bytes.len();
                let mut part = vec![0; len.min(bytes.len() - from)];
                view.read_at(from as u64, &mut part).unwrap();
                prop_assert_eq!(&part, &bytes[from..from + part.len()]);
            }
        }
    }
}
