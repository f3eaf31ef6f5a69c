use super::{extent_but, in_ranges, read_by_ranges};
use crate::error::{Error, Result};
use crate::keyring::Key;
use crate::source::{Extent, Source, SourceRef};
use crate::transform::Transform;
use aes::cipher::{Array, BlockModeDecrypt, BlockModeEncrypt, InnerIvInit, KeyInit, consts::U16};
use aes::{Aes128Dec, Aes128Enc};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

/// Which way the cipher runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// The source below is ciphertext.
    Decrypt,
    /// The source below is plaintext.
    Encrypt,
}

/// What is done with sectors of zeros where ciphertext belongs.
enum Blank {
    Taken,
    Refused,
    Counted(Arc<AtomicU64>),
}

enum Cipher {
    Decrypt(Box<Aes128Dec>),
    Encrypt(Box<Aes128Enc>),
}

/// AES-128-CBC over each sector by itself, within some ranges of sectors only.
///
/// The initialisation vector of a sector is its number as a 128-bit big-endian integer.
pub struct SectorCbc {
    cipher: Cipher,
    sector: u64,
    ranges: Arc<[Range<u64>]>,
}

impl SectorCbc {
    /// Decrypts or encrypts the byte `ranges` (sorted, disjoint, on sector edges) under `key`, `sector` bytes
    /// at a time.
    ///
    /// # Errors
    /// [`Error::Usage`] when `sector` is not a positive multiple of 16, a range is not on sector edges, or the
    /// key has not 16 bytes.
    pub fn new(key: &Key, direction: Direction, sector: u64, ranges: Arc<[Range<u64>]>) -> Result<Self> {
        let off_edge = |r: &Range<u64>| !r.start.is_multiple_of(sector) || !r.end.is_multiple_of(sector);
        if sector == 0 || !sector.is_multiple_of(16) || ranges.iter().any(off_edge) {
            return Err(Error::Usage("encrypted ranges must begin and end on sector edges".into()));
        }
        let bytes = Array::from(*key.bytes16()?);
        let cipher = match direction {
            Direction::Decrypt => Cipher::Decrypt(Box::new(Aes128Dec::new(&bytes))),
            Direction::Encrypt => Cipher::Encrypt(Box::new(Aes128Enc::new(&bytes))),
        };
        Ok(Self { cipher, sector, ranges })
    }

    /// Runs the cipher over whole sectors in place; the first of them has the number `number`.
    fn transform(&self, mut number: u64, sectors: &mut [u8]) {
        for sector in sectors.chunks_exact_mut(self.sector as usize) {
            let iv = Array::from(u128::from(number).to_be_bytes());
            let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(sector);
            match &self.cipher {
                Cipher::Decrypt(aes) => {
                    cbc::Decryptor::inner_iv_init((**aes).clone(), &iv).decrypt_blocks(blocks);
                }
                Cipher::Encrypt(aes) => {
                    cbc::Encryptor::inner_iv_init((**aes).clone(), &iv).encrypt_blocks(blocks);
                }
            }
            number += 1;
        }
    }
}

impl Transform for SectorCbc {
    fn touches(&self, range: Range<u64>) -> bool {
        let next = self.ranges.partition_point(|r| r.end <= range.start);
        self.ranges.get(next).is_some_and(|r| r.start < range.end)
    }

    fn apply(&self, mut offset: u64, mut bytes: &mut [u8]) {
        let end = offset + bytes.len() as u64;
        while !bytes.is_empty() {
            let (ciphered, until) = in_ranges(&self.ranges, offset, end);
            let (now, later) = bytes.split_at_mut((until - offset) as usize);
            if ciphered {
                self.transform(offset / self.sector, now);
            }
            offset = until;
            bytes = later;
        }
    }
}

/// A source seen through a [`SectorCbc`]. What lies outside its ranges is passed through, so its physical
/// places stay known.
pub struct Ciphered {
    inner: SourceRef,
    cbc: Arc<SectorCbc>,
    blank: Blank,
}

impl Ciphered {
    /// `inner` through `cbc`.
    pub fn new(inner: SourceRef, cbc: Arc<SectorCbc>) -> Self {
        Self { inner, cbc, blank: Blank::Taken }
    }

    /// Takes a sector of zeros in an encrypted range for what it is: one that was never read, since no plaintext that
    /// anybody would write encrypts to it. Reading it is an error then.
    #[must_use]
    pub fn refusing_blank(self) -> Self {
        Self { blank: Blank::Refused, ..self }
    }

    /// Decrypts such sectors like all others, and counts them as they are read.
    #[must_use]
    pub fn counting_blank(self, count: Arc<AtomicU64>) -> Self {
        Self { blank: Blank::Counted(count), ..self }
    }

    /// Looks for blank ones among the whole sectors from `offset`.
    fn check_blank(&self, offset: u64, sectors: &[u8]) -> Result<()> {
        if matches!(self.blank, Blank::Taken) {
            return Ok(());
        }
        let is_blank = |s: &[u8]| s.iter().all(|&b| b == 0);
        let mut sectors = sectors.chunks_exact(self.cbc.sector as usize);
        if let Blank::Counted(count) = &self.blank {
            count.fetch_add(sectors.filter(|s| is_blank(s)).count() as u64, Ordering::Relaxed);
            return Ok(());
        }
        match sectors.position(is_blank) {
            Some(index) => Err(Error::Damaged {
                what: format!(
                    "sector {} holds zeros where encrypted bytes belong: it was not read when this was dumped",
                    offset / self.cbc.sector + index as u64
                ),
            }),
            None => Ok(()),
        }
    }

    /// Reads part of one sector.
    fn read_partial(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let number = offset / self.cbc.sector;
        let start = number * self.cbc.sector;
        // A source that was cut within a sector cannot be decrypted there.
        let mut whole = vec![0; self.cbc.sector as usize];
        self.inner.read_at(start, &mut whole)?;
        self.check_blank(start, &whole)?;
        self.cbc.transform(number, &mut whole);
        let from = (offset - start) as usize;
        buf.copy_from_slice(&whole[from..from + buf.len()]);
        Ok(())
    }

    /// Reads bytes that all lie in one encrypted range.
    fn read_ciphered(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        let sector = self.cbc.sector as usize;
        let into = (offset % self.cbc.sector) as usize;
        if into != 0 || buf.len() < sector {
            let (head, rest) = buf.split_at_mut(buf.len().min(sector - into));
            self.read_partial(offset, head)?;
            offset += head.len() as u64;
            buf = rest;
        }
        let (body, tail) = buf.split_at_mut(buf.len() / sector * sector);
        if !body.is_empty() {
            self.inner.read_at(offset, body)?;
            self.check_blank(offset, body)?;
            self.cbc.transform(offset / self.cbc.sector, body);
        }
        if tail.is_empty() { Ok(()) } else { self.read_partial(offset + body.len() as u64, tail) }
    }
}

impl Source for Ciphered {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        read_by_ranges(&self.cbc.ranges, self.len(), offset, buf, |range, offset, now| match range {
            Some(_) => self.read_ciphered(offset, now),
            None => self.inner.read_at(offset, now),
        })
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        extent_but(&self.cbc.ranges, &self.inner, offset)
    }

    fn prefers_sequential(&self) -> bool {
        self.inner.prefers_sequential()
    }
}
