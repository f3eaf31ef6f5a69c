//! A program that is packed with LZX: blocks, each with the length and SHA-1 of the next one in front, of chunks of 32 KiB.

use crate::lzx::{FRAME, Lzx};
use crate::num::{be16, be32};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::watch;
use decanter_core::{Error, Result};
use std::ops::Range;

const ID: &str = "xex";
/// Bytes in front of a block: the length of the next one, and its SHA-1.
const LINK: usize = 24;
/// Bytes of a block.
const MOST_BLOCK: u64 = 16 << 20;

/// Where a packed program begins: bits of its window, length and SHA-1 of the first block.
pub(super) struct Packed {
    window: u32,
    first: [u8; LINK],
    /// Bytes of the program.
    len: u64,
}

impl Packed {
    /// What stands behind the header of how the program is stored; `len` bytes are packed.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for windows that there are not.
    pub(super) fn of(raw: &[u8; 4 + LINK], len: u32) -> Result<Self> {
        let window = be32(raw, 0);
        if !window.is_power_of_two() || !(15..=21).contains(&window.trailing_zeros()) {
            return Err(Error::unsupported(ID, format!("a window of {window} bytes")));
        }
        let mut first = [0; LINK];
        first.copy_from_slice(&raw[4..]);
        Ok(Self { window: window.trailing_zeros(), first, len: len.into() })
    }

    /// The bytes of the program in `wanted`, out of `data`, in which it is packed.
    ///
    /// # Errors
    /// [`Error::Checksum`] for a block that has not the SHA-1 that it should have: it is damaged, or the key is wrong;
    /// [`Error::Malformed`] for what cannot be unpacked.
    pub(super) fn read(&self, data: &SourceRef, wanted: Range<u64>) -> Result<Vec<u8>> {
        let (mut link, mut at, mut out) = (self.first, 0u64, 0u64);
        let mut decoder = Lzx::new(self.window);
        let (mut found, mut frame) = (Vec::new(), vec![0; FRAME]);
        while be32(&link, 0) > 0 {
            watch::going_on()?;
            let len = u64::from(be32(&link, 0));
            let block = read_vec(data.as_ref(), at, len, "a block of a program", MOST_BLOCK)?;
            let digest = of_bytes(Algorithm::Sha1, &block);
            if digest.bytes != link[4..] {
                return Err(Error::Checksum {
                    what: format!("the block at {at:#x} of the program"),
                    expected: format!("SHA-1 {}", decanter_core::digest::hex(&link[4..])),
                    found: digest.hex(),
                });
            }
            let malformed = |what: &'static str| Error::malformed(ID, what, at);
            let (next, mut rest) = block.split_at_checked(LINK).ok_or_else(|| malformed("a block is too short"))?;
            link.copy_from_slice(next);
            while let Some((head, behind)) = rest.split_at_checked(2) {
                let len = usize::from(be16(head, 0));
                if len == 0 {
                    break;
                }
                let (chunk, more) = behind.split_at_checked(len).ok_or_else(|| malformed("a chunk is cut short"))?;
                frame.resize(self.len.saturating_sub(out).min(FRAME as u64) as usize, 0);
                if frame.is_empty() {
                    return Err(malformed("there is more of it than it says"));
                }
                decoder.frame(chunk, &mut frame).map_err(malformed)?;
                let end = out + frame.len() as u64;
                let (from, to) = (wanted.start.max(out), wanted.end.min(end));
                if from < to {
                    found.extend(&frame[(from - out) as usize..(to - out) as usize]);
                }
                out = end;
                if out >= wanted.end {
                    return Ok(found);
                }
                rest = more;
            }
            at += len;
        }
        Err(Error::malformed(ID, format!("the program ends at {out:#x}, before {:#x}", wanted.end), at))
    }
}
