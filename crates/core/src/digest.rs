//! Digests: the four that preservation lists are made of, each on a thread of its own.

pub mod lanes;

use crate::error::{Error, Result};
use crate::pour::pipeline::{self, Piece, Plan};
use crate::source::SourceRef;
use crate::watch::Watch;
use crossbeam_channel::bounded;
use md5::Digest as _;
use serde::{Serialize, Serializer};
use std::fmt;
use std::io::Read;
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;

/// Bytes that are read for a CRC-32 in one go: they stay in a processor's own cache.
const CRC_BLOCK: u64 = 256 << 10;

/// A digest algorithm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Algorithm {
    /// CRC-32 as in zip and ITU-T V.42, written as eight hexadecimal digits.
    Crc32,
    /// MD5, RFC 1321.
    Md5,
    /// SHA-1, FIPS 180-4.
    Sha1,
    /// SHA-256, FIPS 180-4.
    Sha256,
    /// SHA-512, FIPS 180-4: bags have it. Lists of dumps do not, and so it is none of [`Algorithm::ALL`].
    Sha512,
}

impl Algorithm {
    /// Those that lists of dumps are made of, shortest first.
    pub const ALL: [Self; 4] = [Self::Crc32, Self::Md5, Self::Sha1, Self::Sha256];

    /// Name as in options and JSON.
    pub fn id(self) -> &'static str {
        match self {
            Self::Crc32 => "crc32",
            Self::Md5 => "md5",
            Self::Sha1 => "sha1",
            Self::Sha256 => "sha256",
            Self::Sha512 => "sha512",
        }
    }

    /// Name as it is written in text.
    pub fn name(self) -> &'static str {
        match self {
            Self::Crc32 => "CRC-32",
            Self::Md5 => "MD5",
            Self::Sha1 => "SHA-1",
            Self::Sha256 => "SHA-256",
            Self::Sha512 => "SHA-512",
        }
    }
}

impl FromStr for Algorithm {
    type Err = String;

    fn from_str(s: &str) -> std::result::Result<Self, String> {
        let plain = s.to_ascii_lowercase().replace('-', "");
        let found = Self::ALL.into_iter().find(|a| a.id() == plain);
        found.ok_or_else(|| "choose from crc32, md5, sha1, sha256".to_owned())
    }
}

/// The digest of some bytes.
#[derive(Clone, PartialEq, Eq)]
pub struct Digest {
    /// How it was computed.
    pub algorithm: Algorithm,
    /// Its bytes, in the order in which they are written (CRC-32: big-endian).
    pub bytes: Vec<u8>,
}

impl Digest {
    /// In lowercase hexadecimal digits.
    pub fn hex(&self) -> String {
        hex(&self.bytes)
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.algorithm.name(), self.hex())
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// As `{"algorithm": "sha1", "hex": "…"}`.
impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        use serde::ser::SerializeStruct;
        let mut s = serializer.serialize_struct("Digest", 2)?;
        s.serialize_field("algorithm", self.algorithm.id())?;
        s.serialize_field("hex", &self.hex())?;
        s.end()
    }
}

/// A digest in the making.
#[derive(Clone)]
pub enum Hasher {
    /// CRC-32.
    Crc32(crc32fast::Hasher),
    /// MD5.
    Md5(md5::Md5),
    /// SHA-1 and SHA-2, from a library that is nearly twice as fast on processors without SHA instructions.
    Sha(Algorithm, Box<aws_lc_rs::digest::Context>),
}

impl Hasher {
    /// One that has seen nothing yet.
    pub fn new(algorithm: Algorithm) -> Self {
        use aws_lc_rs::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA512};
        match algorithm {
            Algorithm::Crc32 => Self::Crc32(crc32fast::Hasher::new()),
            Algorithm::Md5 => Self::Md5(md5::Md5::new()),
            Algorithm::Sha1 => Self::Sha(algorithm, Box::new(Context::new(&SHA1_FOR_LEGACY_USE_ONLY))),
            Algorithm::Sha256 => Self::Sha(algorithm, Box::new(Context::new(&SHA256))),
            Algorithm::Sha512 => Self::Sha(algorithm, Box::new(Context::new(&SHA512))),
        }
    }

    /// Takes in more bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        match self {
            Self::Crc32(h) => h.update(bytes),
            Self::Md5(h) => h.update(bytes),
            Self::Sha(_, h) => h.update(bytes),
        }
    }

    /// The digest of everything that was taken in.
    pub fn finish(self) -> Digest {
        match self {
            Self::Crc32(h) => Digest { algorithm: Algorithm::Crc32, bytes: h.finalize().to_be_bytes().to_vec() },
            Self::Md5(h) => Digest { algorithm: Algorithm::Md5, bytes: h.finalize().to_vec() },
            Self::Sha(algorithm, h) => Digest { algorithm, bytes: h.finish().as_ref().to_vec() },
        }
    }
}

/// Bytes in lowercase hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// The bytes that pairs of hexadecimal digits stand for, as many as fit `room`; `None` for anything else.
pub fn unhex<'a>(digits: &str, room: &'a mut [u8]) -> Option<&'a [u8]> {
    let len = digits.len() / 2;
    if !digits.len().is_multiple_of(2) || len > room.len() {
        return None;
    }
    let digit = |d: u8| char::from(d).to_digit(16);
    for (byte, pair) in room.iter_mut().zip(digits.as_bytes().as_chunks::<2>().0) {
        *byte = (digit(pair[0])? << 4 | digit(pair[1])?) as u8;
    }
    Some(&room[..len])
}

/// The digest of bytes in memory.
pub fn of_bytes(algorithm: Algorithm, bytes: &[u8]) -> Digest {
    let mut hasher = Hasher::new(algorithm);
    hasher.update(bytes);
    hasher.finish()
}

/// HMAC-SHA1 (RFC 2104).
pub fn hmac_sha1(key: &[u8], bytes: &[u8]) -> [u8; 20] {
    use aws_lc_rs::hmac::{HMAC_SHA1_FOR_LEGACY_USE_ONLY, Key, sign};
    let tag = sign(&Key::new(HMAC_SHA1_FOR_LEGACY_USE_ONLY, key), bytes);
    let mut code = [0; 20];
    code.copy_from_slice(tag.as_ref());
    code
}

/// A key for HMAC-SHA256 (RFC 2104), set up once for many messages.
#[derive(Clone)]
pub struct MacKey(aws_lc_rs::hmac::Key);

impl MacKey {
    /// The key of these bytes.
    pub fn new(key: &[u8]) -> Self {
        Self(aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, key))
    }

    /// The code of `bytes`.
    pub fn code(&self, bytes: &[u8]) -> [u8; 32] {
        let mut code = [0; 32];
        code.copy_from_slice(aws_lc_rs::hmac::sign(&self.0, bytes).as_ref());
        code
    }
}

/// Computes several digests of a source in one read, each on a thread of its own. Calls
/// [`Watch::advance`], not [`Watch::begin`].
///
/// # Errors
/// What reading fails with, and [`crate::Error::Cancelled`].
pub fn of_source(source: &SourceRef, algorithms: &[Algorithm], watch: &dyn Watch) -> Result<Vec<Digest>> {
    let mut hashers: Vec<Hasher> = algorithms.iter().map(|&a| Hasher::new(a)).collect();
    let plan = Plan::over(source.clone(), 0..source.len());
    let consumers = hashers
        .iter_mut()
        .map(|h| Box::new(move |p: &Piece| p.each_slice(|bytes| h.update(bytes))) as pipeline::Consumer<'_>);
    pipeline::read_into(plan, consumers.collect(), watch)?;
    Ok(hashers.into_iter().map(Hasher::finish).collect())
}

/// Computes several digests of what a stream has until its end, each on a thread of its own; its length, too. Calls
/// [`Watch::advance`], not [`Watch::begin`].
///
/// # Errors
/// What reading fails with, under the name `name`, and [`crate::Error::Cancelled`].
pub fn of_stream(
    stream: &mut dyn Read,
    name: &str,
    algorithms: &[Algorithm],
    watch: &dyn Watch,
) -> Result<(u64, Vec<Digest>)> {
    std::thread::scope(|scope| {
        let begin = |&algorithm: &Algorithm| {
            // A block is being hashed while the next one is read.
            let (give, take) = bounded::<Arc<Vec<u8>>>(2);
            let hash = scope.spawn(move || {
                let mut hasher = Hasher::new(algorithm);
                take.iter().for_each(|block| hasher.update(&block));
                hasher.finish()
            });
            (give, hash)
        };
        let (give, hashing): (Vec<_>, Vec<_>) = algorithms.iter().map(begin).unzip();
        let mut len = 0;
        loop {
            crate::watch::check(watch)?;
            let mut block = Vec::with_capacity(pipeline::BLOCK);
            let failed = |e| Error::io_at("read", Path::new(name), len, e);
            stream.take(pipeline::BLOCK as u64).read_to_end(&mut block).map_err(failed)?;
            if block.is_empty() {
                break;
            }
            len += block.len() as u64;
            watch.advance(block.len() as u64);
            let block = Arc::new(block);
            // Whoever hashes is there until all has been given.
            give.iter().for_each(|give| drop(give.send(block.clone())));
        }
        drop(give);
        let lost = |_| Error::Usage("a hashing thread ended early".into());
        let digests = hashing.into_iter().map(|thread| thread.join().map_err(lost)).collect::<Result<_>>()?;
        Ok((len, digests))
    })
}

/// The CRC-32 of a source, stretch by stretch on all processors: for a quick look before the work begins.
///
/// # Errors
/// What reading fails with, and [`crate::Error::Cancelled`].
pub fn crc32(source: &SourceRef, watch: &dyn Watch) -> Result<u32> {
    let threads = match source.prefers_sequential() {
        true => 1,
        false => crate::threads::available() as u64,
    };
    let share = source.len().div_ceil(threads).next_multiple_of(CRC_BLOCK).max(CRC_BLOCK);
    let stretch = |number: u64| -> Result<crc32fast::Hasher> {
        let mut hasher = crc32fast::Hasher::new();
        let mut block = vec![0; CRC_BLOCK as usize];
        let (mut at, end) = ((number * share).min(source.len()), ((number + 1) * share).min(source.len()));
        while at < end {
            crate::watch::check(watch)?;
            let here = CRC_BLOCK.min(end - at) as usize;
            source.read_at(at, &mut block[..here])?;
            hasher.update(&block[..here]);
            at += here as u64;
        }
        Ok(hasher)
    };
    let parts: Vec<Result<crc32fast::Hasher>> = std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|number| scope.spawn(move || stretch(number))).collect();
        let mut parts = vec![stretch(0)];
        let lost = |_| Err(crate::Error::Usage("a reading thread ended early".into()));
        parts.extend(others.into_iter().map(|t| t.join().unwrap_or_else(lost)));
        parts
    });
    let mut whole = crc32fast::Hasher::new();
    for part in parts {
        whole.combine(&part?);
    }
    Ok(whole.finalize())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::source::Bytes;

    /// Test values of RFC 1321, FIPS 180-4 and the CRC catalogue ("check" of CRC-32/ISO-HDLC).
    #[test]
    fn published_values() {
        let hex = |a, b: &[u8]| of_bytes(a, b).hex();
        assert_eq!(hex(Algorithm::Crc32, b"123456789"), "cbf43926");
        for len in [0, 1, CRC_BLOCK as usize, 3 * CRC_BLOCK as usize + 5] {
            let bytes: Vec<u8> = (0..len).map(|i| (i * 7 + i / 251) as u8).collect();
            let found = crc32(&(Arc::new(Bytes(bytes.clone())) as SourceRef), &()).unwrap();
            assert_eq!(found, crc32fast::hash(&bytes), "{len}");
        }
        assert_eq!(hex(Algorithm::Md5, b"message digest"), "f96b697d7cb7938d525a2f31aaf161d0");
        assert_eq!(hex(Algorithm::Sha1, b"abc"), "a9993e364706816aba3e25717850c26c9cd0d89d");
        let sha512 = "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a\
                      2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f";
        assert_eq!(hex(Algorithm::Sha512, b"abc"), sha512);
        assert_eq!(hex(Algorithm::Sha256, b"abc"), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    }

    /// RFC 2202, test case 2.
    #[test]
    fn a_published_code() {
        let code = hmac_sha1(b"Jefe", b"what do ya want for nothing?");
        assert_eq!(super::hex(&code), "effcdf6ae5eb2fa2d27416d5f184df9c259a7c79");
    }

    /// RFC 4231, test case 2.
    #[test]
    fn another_published_code() {
        let code = MacKey::new(b"Jefe").code(b"what do ya want for nothing?");
        assert_eq!(super::hex(&code), "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
    }

    #[test]
    fn a_source_of_many_blocks_has_the_digest_of_its_bytes() {
        let data: Vec<u8> = (0..5_000_001u32).map(|i| (i ^ i >> 9) as u8).collect();
        let want: Vec<_> = Algorithm::ALL.iter().map(|&a| of_bytes(a, &data)).collect();
        let source: SourceRef = Arc::new(Bytes(data));
        assert_eq!(of_source(&source, &Algorithm::ALL, &()).ok(), Some(want.clone()));
        let mut stream = crate::source::Reader::new(source, 0);
        let found = of_stream(&mut stream, "a stream", &Algorithm::ALL, &()).unwrap();
        assert_eq!(found, (5_000_001, want));
    }
}
