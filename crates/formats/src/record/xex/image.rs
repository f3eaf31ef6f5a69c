//! The program itself, as a console loads it: where it is not under a key that is missing.

use super::Headers;
use super::unpack::Packed;
use crate::num::{be16, be32};
use aes::Aes128Dec;
use aes::cipher::{Array, BlockCipherDecrypt, KeyInit};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{SourceRef, check_range, read_array, read_vec};
use decanter_core::view::{ChainedCbc, Concat, Fill, Slice};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// What the key of encrypted programs is called in a keyring.
pub const KEY: &str = "x360.xex.key";
/// Header with how the program is stored.
const FORMAT: u32 = 0x0000_03ff;
/// Where the length of the program stands in the security information.
const LEN: u64 = 4;
/// Where the program's own key stands in the security information, under the key of all programs.
const OWN_KEY: u64 = 0x150;
/// Blocks of a program that is stored in pieces.
const MOST_PIECES: u64 = 4096;
/// Bytes of a resource.
const MOST_READ: u64 = 16 << 20;
/// Zeros between pieces, all together.
const MOST_ZEROS: u64 = 256 << 20;

/// How a program is stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Stored {
    pub(super) is_encrypted: bool,
    pub(super) packing: Packing,
    /// Where the header that says so stands.
    at: u64,
}

/// How it is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Packing {
    Whole,
    /// Without its zeros.
    Pieces,
    Lzx,
    /// Only what differs from another one.
    Delta,
    Unknown(u16),
}

impl Packing {
    /// In words.
    pub(super) fn words(self) -> String {
        match self {
            Self::Whole => "not compressed".into(),
            Self::Pieces => "zeros left out".into(),
            Self::Lzx => "compressed (LZX)".into(),
            Self::Delta => "differences to another program".into(),
            Self::Unknown(number) => format!("packed by method {number}"),
        }
    }
}

/// How the program is stored.
///
/// # Errors
/// What reading fails with.
pub(super) fn stored(source: &SourceRef, headers: &Headers) -> Result<Stored> {
    let Some(at) = headers.place(FORMAT) else {
        return Ok(Stored { is_encrypted: false, packing: Packing::Whole, at: 0 });
    };
    let raw: [u8; 8] = read_array(source.as_ref(), at)?;
    let packing = match be16(&raw, 6) {
        0 => Packing::Whole,
        1 => Packing::Pieces,
        2 => Packing::Lzx,
        3 => Packing::Delta,
        other => Packing::Unknown(other),
    };
    Ok(Stored { is_encrypted: be16(&raw, 4) != 0, packing, at })
}

/// `wanted` bytes of the program, counted from its base address; `None` where its key is not there, or it is packed in a way
/// that is not read.
///
/// # Errors
/// [`Error::Malformed`] for what cannot be right, and what reading fails with.
pub(super) fn read(
    source: &SourceRef,
    headers: &Headers,
    keys: &Keyring,
    wanted: Range<u64>,
) -> Result<Option<Vec<u8>>> {
    let stored = stored(source, headers)?;
    let from = u64::from(headers.data_at).min(source.len());
    let mut data: SourceRef = Arc::new(Slice::new(source.clone(), from, source.len() - from)?);
    if stored.is_encrypted {
        let Some(entry) = keys.named(KEY) else { return Ok(None) };
        let wrapped: [u8; 16] = read_array(source.as_ref(), u64::from(headers.security_at) + OWN_KEY)?;
        let mut own = Array::from(wrapped);
        Aes128Dec::new(&Array::from(*entry.key.bytes16()?)).decrypt_block(&mut own);
        let whole = data.len() / 16 * 16;
        data = Arc::new(ChainedCbc::new(Arc::new(Slice::new(data, 0, whole)?), &Key::new(own.to_vec()), [0; 16])?);
    }
    let image = match stored.packing {
        Packing::Whole => data,
        Packing::Pieces => pieces(source, stored.at, &data)?,
        Packing::Lzx => {
            let len = be32(&read_array::<4>(source.as_ref(), u64::from(headers.security_at) + LEN)?, 0);
            let packed = Packed::of(&read_array(source.as_ref(), stored.at + 8)?, len)?;
            check_range(MOST_READ, 0, wanted.end - wanted.start)?;
            return packed.read(&data, wanted).map(Some);
        }
        Packing::Delta | Packing::Unknown(_) => return Ok(None),
    };
    read_vec(image.as_ref(), wanted.start, wanted.end - wanted.start, "a resource of a program", MOST_READ).map(Some)
}

/// Pieces, each with zeros behind it; `at` is where they are listed.
fn pieces(source: &SourceRef, at: u64, data: &SourceRef) -> Result<SourceRef> {
    let len = u64::from(be32(&read_array::<4>(source.as_ref(), at)?, 0));
    let count = len.saturating_sub(8) / 8;
    let list = read_vec(source.as_ref(), at + 8, count * 8, "pieces of a program", MOST_PIECES * 8)?;
    let (mut parts, mut from, mut zeros): (Vec<SourceRef>, u64, u64) = (Vec::new(), 0, 0);
    for piece in list.chunks_exact(8) {
        let (len, blank) = (u64::from(be32(piece, 0)), u64::from(be32(piece, 4)));
        zeros += blank;
        if zeros > MOST_ZEROS {
            return Err(Error::Limit { what: "the zeros of a program", asked: zeros, limit: MOST_ZEROS });
        }
        // The last one may end with the file.
        let there = len.min(data.len().saturating_sub(from));
        parts.push(Arc::new(Slice::new(data.clone(), from, there)?));
        parts.push(Arc::new(Fill { byte: 0, len: blank }));
        from += there;
    }
    Ok(Arc::new(Concat::new(parts)?))
}
