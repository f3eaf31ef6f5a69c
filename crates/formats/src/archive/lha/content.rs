//! A member's content: unpacked forwards, held against its CRC-16.

use super::ID;
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use delharc::decode::{Decoder, Lh1Decoder, Lh5Decoder, Lh7Decoder, Lz5Decoder, LzsDecoder};
use delharc::stub_io::{Read, Take};
use std::sync::{Mutex, OnceLock, PoisonError};

/// Bytes that are read and unpacked at once.
const PIECE: usize = 64 << 10;

/// Whether members packed so are read here.
pub(super) fn is_known(method: &[u8; 5]) -> bool {
    matches!(
        method,
        b"-lh0-" | b"-lh1-" | b"-lh4-" | b"-lh5-" | b"-lh6-" | b"-lh7-" | b"-lz4-" | b"-lz5-" | b"-lzs-" | b"-pm0-"
    )
}

/// A member's content, unpacked from its beginning to wherever it is read.
pub(super) struct Content {
    packed: SourceRef,
    method: [u8; 5],
    len: u64,
    crc: u16,
    going: Mutex<Option<Going>>,
    /// What was found at the end, once somebody has come there: bytes that are known to be wrong are not handed on again.
    verdict: OnceLock<std::result::Result<(), String>>,
}

impl Content {
    /// `len` bytes that are packed in `packed`, and should have this CRC-16.
    pub(super) fn new(packed: SourceRef, method: [u8; 5], len: u64, crc: u16) -> Self {
        Self { packed, method, len, crc, going: Mutex::default(), verdict: OnceLock::new() }
    }

    fn verdict(&self) -> Result<()> {
        match self.verdict.get() {
            Some(Err(why)) => Err(Error::Unreadable { why: why.clone() }),
            _ => Ok(()),
        }
    }
}

/// How far unpacking has come.
struct Going {
    decoder: Unpacker,
    at: u64,
    crc: Crc16,
}

enum Unpacker {
    Stored(Bytes),
    Lh1(Lh1Decoder<Take<Bytes>>),
    Lh5(Lh5Decoder<Take<Bytes>>),
    Lh7(Lh7Decoder<Take<Bytes>>),
    Lz5(Box<Lz5Decoder<Take<Bytes>>>),
    Lzs(Box<LzsDecoder<Take<Bytes>>>),
}

impl Unpacker {
    fn new(method: &[u8; 5], packed: &SourceRef) -> Self {
        let bytes = Bytes { source: packed.clone(), at: 0, piece: Vec::new(), taken: 0 };
        let len = packed.len();
        match method[3] {
            _ if method == b"-lz5-" => Self::Lz5(Box::new(Lz5Decoder::new(bytes.take(len)))),
            _ if method == b"-lzs-" => Self::Lzs(Box::new(LzsDecoder::new(bytes.take(len)))),
            b'1' => Self::Lh1(Lh1Decoder::new(bytes.take(len))),
            b'4' | b'5' if method[2] == b'h' => Self::Lh5(Lh5Decoder::new(bytes.take(len))),
            b'6' | b'7' => Self::Lh7(Lh7Decoder::new(bytes.take(len))),
            _ => Self::Stored(bytes),
        }
    }

    fn fill(&mut self, buf: &mut [u8]) -> bool {
        match self {
            Self::Stored(bytes) => {
                let mut done = 0;
                while done < buf.len() {
                    match bytes.read_all(&mut buf[done..]) {
                        Ok(now) if now > 0 => done += now,
                        _ => return false,
                    }
                }
                true
            }
            Self::Lh1(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lh5(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lh7(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lz5(decoder) => decoder.fill_buffer(buf).is_ok(),
            Self::Lzs(decoder) => decoder.fill_buffer(buf).is_ok(),
        }
    }
}

impl Source for Content {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.verdict()?;
        let mut kept = self.going.lock().unwrap_or_else(PoisonError::into_inner);
        let fresh = || Going { decoder: Unpacker::new(&self.method, &self.packed), at: 0, crc: Crc16(0) };
        let mut going = kept.take().filter(|g| g.at <= offset).unwrap_or_else(fresh);
        let damaged = |at: u64| Error::Unreadable { why: format!("it is damaged: unpacking fails near its byte {at}") };
        let mut skipped = vec![0; if going.at < offset { PIECE } else { 0 }];
        while going.at < offset {
            let now = ((offset - going.at) as usize).min(PIECE);
            if !going.decoder.fill(&mut skipped[..now]) {
                return Err(damaged(going.at));
            }
            going.crc.update(&skipped[..now]);
            going.at += now as u64;
        }
        if !going.decoder.fill(buf) {
            return Err(damaged(going.at));
        }
        going.crc.update(buf);
        going.at += buf.len() as u64;
        if going.at == self.len {
            let told = || format!("it is damaged: its CRC-16 is {:04x} instead of {:04x}", going.crc.0, self.crc);
            let found = if going.crc.0 == self.crc { Ok(()) } else { Err(told()) };
            self.verdict.get_or_init(|| found);
        }
        *kept = Some(going);
        self.verdict()
    }

    fn is_checked(&self) -> bool {
        true
    }

    fn settle(&self, watch: &dyn Watch) -> Result<()> {
        let mut piece = vec![0; PIECE];
        while self.verdict.get().is_none() {
            watch::check(watch)?;
            let at = self.going.lock().unwrap_or_else(PoisonError::into_inner).as_ref().map_or(0, |g| g.at);
            let len = PIECE.min((self.len - at) as usize);
            self.read_at(at, &mut piece[..len])?;
            watch.advance(len as u64);
        }
        self.verdict()
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

/// Bytes one after the other, for the decoders.
struct Bytes {
    source: SourceRef,
    at: u64,
    piece: Vec<u8>,
    taken: usize,
}

impl Read for Bytes {
    type Error = Error;

    fn unexpected_eof() -> Error {
        Error::malformed(ID, "a member is cut short", 0)
    }

    fn read_all(&mut self, buf: &mut [u8]) -> Result<usize> {
        let mut done = 0;
        while done < buf.len() {
            if self.taken == self.piece.len() {
                let len = (self.source.len() - self.at).min(PIECE as u64) as usize;
                if len == 0 {
                    break;
                }
                self.piece.resize(len, 0);
                self.source.read_at(self.at, &mut self.piece)?;
                self.at += len as u64;
                self.taken = 0;
            }
            let now = (buf.len() - done).min(self.piece.len() - self.taken);
            buf[done..done + now].copy_from_slice(&self.piece[self.taken..self.taken + now]);
            (done, self.taken) = (done + now, self.taken + now);
        }
        Ok(done)
    }
}

/// x^16 + x^15 + x^2 + 1, the lowest bit first, begun with zero.
pub(super) struct Crc16(pub u16);

static TABLE: std::sync::LazyLock<[u16; 256]> = std::sync::LazyLock::new(|| {
    std::array::from_fn(|value| {
        (0..8).fold(value as u16, |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xa001 } else { crc >> 1 })
    })
});

impl Crc16 {
    pub(super) fn update(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.0 = self.0 >> 8 ^ TABLE[usize::from(self.0 as u8 ^ byte)];
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_check_value_of_the_crc() {
        let mut crc = Crc16(0);
        crc.update(b"123456789");
        assert_eq!(crc.0, 0xbb3d);
    }
}
