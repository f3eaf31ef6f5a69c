use super::{Direction, extent_but, read_by_ranges};
use crate::error::{Error, Result};
use crate::keyring::Key;
use crate::source::{Extent, Source, SourceRef};
use crate::transform::Transform;
use aes::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, KeyInit, consts::U16};
use aes::{Aes128Dec, Aes128Enc};
use std::ops::Range;
use std::sync::Arc;

/// Blocks of one sector that are worked on at once.
const LANES: usize = 32;

/// AES-128-XTS (IEEE 1619). The tweak of a sector is its number as an integer of 128 bits: little-endian in the standard,
/// big-endian in some containers.
pub struct Xts {
    encrypt: Aes128Enc,
    decrypt: Aes128Dec,
    tweak: Aes128Enc,
    sector: usize,
    is_standard: bool,
}

impl Xts {
    /// One with sectors of `sector` bytes and **big-endian** numbers. The first half of the key is for the data, the second
    /// for the tweak.
    ///
    /// # Errors
    /// [`Error::Usage`] when `sector` is not a positive multiple of 16, or the key has not 32 bytes.
    pub fn new(key: &Key, sector: usize) -> Result<Self> {
        if sector == 0 || !sector.is_multiple_of(16) {
            return Err(Error::Usage("sectors under XTS have a multiple of 16 bytes".into()));
        }
        let bytes: &[u8; 32] = key.bytes().try_into().map_err(|_| {
            Error::Usage(format!("an AES-128-XTS key has 32 bytes, this one has {}", key.bytes().len()))
        })?;
        let half = |from: usize| {
            let mut own = Array::<u8, U16>::default();
            own.copy_from_slice(&bytes[from..from + 16]);
            own
        };
        let (data, tweak) = (half(0), half(16));
        let (encrypt, decrypt) = (Aes128Enc::new(&data), Aes128Dec::new(&data));
        Ok(Self { encrypt, decrypt, tweak: Aes128Enc::new(&tweak), sector, is_standard: false })
    }

    /// The same with little-endian numbers, as the standard has them.
    ///
    /// # Errors
    /// As [`Xts::new`].
    pub fn standard(key: &Key, sector: usize) -> Result<Self> {
        Ok(Self { is_standard: true, ..Self::new(key, sector)? })
    }

    /// Bytes of a sector.
    pub fn sector(&self) -> usize {
        self.sector
    }

    /// Decrypts whole sectors in place; the first of them has the number `number`.
    pub fn decrypt(&self, number: u64, sectors: &mut [u8]) {
        self.each(number, sectors, |blocks| self.decrypt.decrypt_blocks(blocks));
    }

    /// Encrypts whole sectors in place.
    pub fn encrypt(&self, number: u64, sectors: &mut [u8]) {
        self.each(number, sectors, |blocks| self.encrypt.encrypt_blocks(blocks));
    }

    fn each(&self, number: u64, sectors: &mut [u8], cipher: impl Fn(&mut [Array<u8, U16>])) {
        for (index, sector) in sectors.chunks_mut(self.sector).enumerate() {
            let number = u128::from(number + index as u64);
            let mut first = Array::from(if self.is_standard { number.to_le_bytes() } else { number.to_be_bytes() });
            self.tweak.encrypt_block(&mut first);
            let mut tweak = u128::from_le_bytes(first.into());
            let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(sector);
            for lane in blocks.chunks_mut(LANES) {
                let mut tweaks = [0u128; LANES];
                for slot in &mut tweaks[..lane.len()] {
                    *slot = tweak;
                    tweak = double(tweak);
                }
                mask(lane, &tweaks);
                cipher(lane);
                mask(lane, &tweaks);
            }
        }
    }
}

/// Times x in the field of 2^128 elements with x^128 = x^7 + x^2 + x + 1.
fn double(tweak: u128) -> u128 {
    (tweak << 1) ^ ((tweak >> 127) * 0x87)
}

fn mask(blocks: &mut [Array<u8, U16>], tweaks: &[u128]) {
    for (block, tweak) in blocks.iter_mut().zip(tweaks) {
        let mut own = [0; 16];
        own.copy_from_slice(block);
        block.copy_from_slice(&(u128::from_le_bytes(own) ^ tweak).to_le_bytes());
    }
}

/// Some ranges of a source under XTS, each with its own key; the sectors of each are counted from its beginning.
pub struct XtsRanges {
    ranges: Vec<Range<u64>>,
    ciphers: Vec<Arc<Xts>>,
    first: u64,
    direction: Direction,
}

impl XtsRanges {
    /// These ranges, sorted and disjoint.
    ///
    /// # Errors
    /// [`Error::Usage`] when they overlap, or have not whole sectors.
    pub fn new(all: Vec<(Range<u64>, Arc<Xts>)>) -> Result<Self> {
        let whole = |(r, xts): &(Range<u64>, Arc<Xts>)| (r.end - r.start).is_multiple_of(xts.sector as u64);
        if all.windows(2).any(|w| w[0].0.end > w[1].0.start) || !all.iter().all(whole) {
            return Err(Error::Usage("ranges under XTS must be disjoint and have whole sectors".into()));
        }
        let (ranges, ciphers) = all.into_iter().unzip();
        Ok(Self { ranges, ciphers, first: 0, direction: Direction::Decrypt })
    }

    /// The same with `first` as the number of the first sector of each range.
    #[must_use]
    pub fn counted_from(self, first: u64) -> Self {
        Self { first, ..self }
    }

    /// The same from plaintext to what is stored.
    #[must_use]
    pub fn encrypting(self) -> Self {
        Self { direction: Direction::Encrypt, ..self }
    }

    /// Turns whole sectors of a range, the first of which is its sector `index`.
    fn turn(&self, xts: &Xts, index: u64, sectors: &mut [u8]) {
        match self.direction {
            Direction::Decrypt => xts.decrypt(self.first + index, sectors),
            Direction::Encrypt => xts.encrypt(self.first + index, sectors),
        }
    }
}

impl Transform for XtsRanges {
    fn touches(&self, range: Range<u64>) -> bool {
        let next = self.ranges.partition_point(|r| r.end <= range.start);
        self.ranges.get(next).is_some_and(|r| r.start < range.end)
    }

    fn apply(&self, offset: u64, bytes: &mut [u8]) {
        let end = offset + bytes.len() as u64;
        for (range, xts) in self.ranges.iter().zip(&self.ciphers).filter(|(r, _)| r.start < end && offset < r.end) {
            let (from, to) = (range.start.max(offset), range.end.min(end));
            let sectors = &mut bytes[(from - offset) as usize..(to - offset) as usize];
            self.turn(xts, (from - range.start) / xts.sector as u64, sectors);
        }
    }
}

/// A source seen through an [`XtsRanges`].
pub struct Tweaked {
    inner: SourceRef,
    xts: Arc<XtsRanges>,
}

impl Tweaked {
    /// `inner` through `xts`.
    pub fn new(inner: SourceRef, xts: Arc<XtsRanges>) -> Self {
        Self { inner, xts }
    }

    /// Reads a stretch that lies in one range.
    fn read_in(&self, index: usize, offset: u64, buf: &mut [u8]) -> Result<()> {
        let (range, xts) = (&self.xts.ranges[index], &self.xts.ciphers[index]);
        let sector = xts.sector as u64;
        let first = (offset - range.start) / sector;
        let end = (offset + buf.len() as u64 - range.start).next_multiple_of(sector) + range.start;
        let start = range.start + first * sector;
        if start == offset && end == offset + buf.len() as u64 {
            self.inner.read_at(offset, buf)?;
            self.xts.turn(xts, first, buf);
            return Ok(());
        }
        let mut wide = vec![0; (end - start) as usize];
        self.inner.read_at(start, &mut wide)?;
        self.xts.turn(xts, first, &mut wide);
        let from = (offset - start) as usize;
        buf.copy_from_slice(&wide[from..from + buf.len()]);
        Ok(())
    }
}

impl Source for Tweaked {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        read_by_ranges(&self.xts.ranges, self.len(), offset, buf, |range, offset, now| match range {
            Some(index) => self.read_in(index, offset, now),
            None => self.inner.read_at(offset, now),
        })
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.xts.ranges, &self.inner, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;
    use proptest::prelude::*;

    fn hex(text: &str) -> Vec<u8> {
        Key::from_hex(text).unwrap().bytes().to_vec()
    }

    /// IEEE 1619-2007, B, vector 1: all zeros, sector 0, where the byte order of the number does not show.
    #[test]
    fn a_published_value() {
        let xts = Xts::new(&Key::new(vec![0; 32]), 32).unwrap();
        let mut bytes = vec![0; 32];
        xts.encrypt(0, &mut bytes);
        assert_eq!(bytes, hex("917cf69ebd68b2ec9b9fe9a3eadda692cd43d2f59598ed858c02c2652fbf922e"));
        xts.decrypt(0, &mut bytes);
        assert_eq!(bytes, [0; 32]);
    }

    /// IEEE 1619-2007, B, vector 2 has sector 0x3333333333 with the number little-endian; with those bytes turned about, the
    /// big-endian tweak is the same: 0x33 five times at the end where the standard has it at the beginning. So the value
    /// must differ here, and be that of the tweak worked out block by block.
    #[test]
    fn the_number_is_big_endian() {
        let key = Key::new([vec![0x11; 16], vec![0x22; 16]].concat());
        let xts = Xts::new(&key, 32).unwrap();
        let mut bytes = vec![0x44; 32];
        xts.encrypt(0x33_3333_3333, &mut bytes);
        assert_ne!(bytes, hex("c454185e6a16936e39334038acef838bfb186fff7480adc4289382ecd6d394f0"));
        // By hand: T = E2(0 ... 0 33 33 33 33 33), C0 = E1(P0 ^ T) ^ T, C1 = E1(P1 ^ 2T) ^ 2T.
        let block = |aes: &Aes128Enc, bytes: u128| {
            let mut own = Array::from(bytes.to_le_bytes());
            aes.encrypt_block(&mut own);
            u128::from_le_bytes(own.into())
        };
        let one = Aes128Enc::new(&Array::from([0x11; 16]));
        let two = Aes128Enc::new(&Array::from([0x22; 16]));
        let tweak = block(&two, u128::from_le_bytes(0x33_3333_3333_u128.to_be_bytes()));
        let plain = u128::from_le_bytes([0x44; 16]);
        let next = if tweak >> 127 == 1 { tweak << 1 ^ 0x87 } else { tweak << 1 };
        let want = [block(&one, plain ^ tweak) ^ tweak, block(&one, plain ^ next) ^ next];
        assert_eq!(bytes, want.map(u128::to_le_bytes).concat());
    }

    /// IEEE 1619-2007, B, vector 2.
    #[test]
    fn the_standard_has_it_little_endian() {
        let key = Key::new([vec![0x11; 16], vec![0x22; 16]].concat());
        let xts = Arc::new(Xts::standard(&key, 32).unwrap());
        let want = hex("c454185e6a16936e39334038acef838bfb186fff7480adc4289382ecd6d394f0");
        let mut bytes = vec![0x44; 32];
        xts.encrypt(0x33_3333_3333, &mut bytes);
        assert_eq!(bytes, want);
        let over = XtsRanges::new(vec![(32..64, xts)]).unwrap().counted_from(0x33_3333_3333).encrypting();
        let view = Tweaked::new(Arc::new(Bytes(vec![0x44; 96])), Arc::new(over));
        let mut all = vec![0; 96];
        view.read_at(0, &mut all).unwrap();
        assert_eq!(all, [vec![0x44; 32], want, vec![0x44; 32]].concat());
    }

    #[test]
    fn wrong_keys_and_sectors_are_refused() {
        assert!(Xts::new(&Key::new(vec![0; 16]), 512).is_err() && Xts::new(&Key::new(vec![0; 32]), 500).is_err());
        let xts = Arc::new(Xts::new(&Key::new(vec![0; 32]), 512).unwrap());
        assert!(XtsRanges::new(vec![(0..512, xts.clone()), (256..768, xts.clone())]).is_err());
        assert!(XtsRanges::new(vec![(0..500, xts)]).is_err());
    }

    proptest! {
        #[test]
        fn any_range_is_that_of_the_whole(from in 0usize..3000, len in 0usize..3000) {
            let xts = Arc::new(Xts::new(&Key::new((0..32).collect()), 512).unwrap());
            let all = Arc::new(XtsRanges::new(vec![(100..1124, xts.clone()), (1200..2736, xts)]).unwrap());
            let bytes: Vec<u8> = (0..3000u32).map(|i| (i * 7) as u8).collect();
            let view = Tweaked::new(Arc::new(Bytes(bytes.clone())), all.clone());
            let mut whole = bytes;
            all.apply(0, &mut whole);
            let to = (from + len).min(3000);
            let mut part = vec![0; to - from];
            view.read_at(from as u64, &mut part).unwrap();
            prop_assert_eq!(&part, &whole[from..to]);
        }
    }
}
