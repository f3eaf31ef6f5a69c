//! Two ways of packing: programs, packed from their end backwards, and banners (LZ11).
//! Layouts: docs/formats/n3ds-content.md and n3ds-label.md.

use crate::num::{le16, le32};
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::{Error, Result};
use std::sync::OnceLock;

const ID: &str = "ncch";
/// Bytes at the end of a packed program that say how it is packed.
const FOOTER: u64 = 8;
/// The largest program that is unpacked: more than the console has memory.
const MOST_CODE: u64 = 256 << 20;
/// The largest banner that is unpacked.
const MOST_BANNER: usize = 4 << 20;
/// The shortest match that is worth a mark, and what the marks add to lengths and distances.
const LEAST_MATCH: usize = 3;

/// Length of a packed program once it is unpacked, from its footer of eight bytes.
///
/// # Errors
/// [`Error::Malformed`] for a footer that cannot be right, with its offset in the member.
pub fn unpacked_len(packed: &dyn Source) -> Result<u64> {
    let len = packed.len();
    if len < FOOTER {
        return Err(Error::malformed(ID, "a packed program of fewer than 8 bytes", 0));
    }
    Ok(footer(&read_vec(packed, len - FOOTER, FOOTER, "the footer of a program", FOOTER)?, len)?.2)
}

/// Bytes of the packed part, of the footer, and of the whole once it is unpacked, from the last eight of `len` bytes.
fn footer(last: &[u8], len: u64) -> Result<(u64, u64, u64)> {
    let (sizes, growth) = (le32(last, 0), u64::from(le32(last, 4)));
    let (body, tail) = (u64::from(sizes & 0xff_ffff), u64::from(sizes >> 24));
    if tail < FOOTER || tail > body || body > len {
        let text = format!("a packed program with a footer of {tail} and a body of {body} bytes");
        return Err(Error::malformed(ID, text, len - FOOTER));
    }
    let unpacked = len + growth;
    if unpacked > MOST_CODE {
        return Err(Error::Limit { what: "a packed program", asked: unpacked, limit: MOST_CODE });
    }
    Ok((body, tail, unpacked))
}

/// Unpacks a program.
///
/// # Errors
/// [`Error::Malformed`] with the offset in the member at which the packed bytes make no sense.
pub fn unpack_code(packed: &[u8]) -> Result<Vec<u8>> {
    let Some(last) = packed.len().checked_sub(FOOTER as usize) else {
        return Err(Error::malformed(ID, "a packed program of fewer than 8 bytes", 0));
    };
    let (body, tail, unpacked) = footer(&packed[last..], packed.len() as u64)?;
    let mut out = packed.to_vec();
    out.resize(unpacked as usize, 0);
    let (first, mut from, mut to) = (packed.len() - body as usize, packed.len() - tail as usize, out.len());
    let bad = |what: &'static str, at: usize| Error::malformed(ID, what, at as u64);
    // Both ends walk towards the beginning; where they meet, the rest is as it was.
    while from > first {
        from -= 1;
        let marks = packed[from];
        for bit in (0..8).rev() {
            if from == first {
                break;
            }
            if marks >> bit & 1 == 0 {
                (from, to) = (from - 1, to.checked_sub(1).ok_or_else(|| bad("it unpacks to too much", from))?);
                out[to] = packed[from];
                continue;
            }
            if from < first + 2 {
                return Err(bad("a match is cut short", from));
            }
            from -= 2;
            let pair = le16(packed, from);
            let (len, back) = (usize::from(pair >> 12) + LEAST_MATCH, usize::from(pair & 0xfff) + LEAST_MATCH);
            for _ in 0..len {
                if to == first || to + back > out.len() {
                    return Err(bad("a match reaches outside", from));
                }
                to -= 1;
                out[to] = out[to + back];
            }
        }
    }
    if to != first {
        return Err(bad("it does not unpack to the length in its footer", packed.len() - 8));
    }
    Ok(out)
}

/// A packed program as it is unpacked; that happens when it is first read.
pub struct Unpacked {
    packed: SourceRef,
    len: u64,
    bytes: OnceLock<Vec<u8>>,
}

impl Unpacked {
    /// What `packed` unpacks to.
    ///
    /// # Errors
    /// As [`unpacked_len`].
    pub fn new(packed: SourceRef) -> Result<Self> {
        Ok(Self { len: unpacked_len(packed.as_ref())?, packed, bytes: OnceLock::new() })
    }
}

impl Source for Unpacked {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        let bytes = match self.bytes.get() {
            Some(bytes) => bytes,
            None => {
                let packed = read_vec(self.packed.as_ref(), 0, self.packed.len(), "a packed program", MOST_CODE)?;
                let bytes = unpack_code(&packed)?;
                self.bytes.get_or_init(|| bytes)
            }
        };
        buf.copy_from_slice(&bytes[offset as usize..offset as usize + buf.len()]);
        Ok(())
    }
}

/// Unpacks LZ11. The result has at most the length in the header, which is bounded.
///
/// # Errors
/// [`Error::Malformed`] with the offset in the packed bytes.
pub fn unpack11(packed: &[u8]) -> Result<Vec<u8>> {
    let bad = |what: &'static str, at: usize| Error::malformed("smdh", what, at as u64);
    if packed.len() < 4 || packed[0] != 0x11 {
        return Err(bad("no LZ11 mark", 0));
    }
    let len = (le32(packed, 0) >> 8) as usize;
    if len > MOST_BANNER {
        return Err(Error::Limit { what: "a banner", asked: len as u64, limit: MOST_BANNER as u64 });
    }
    let mut at = 4;
    let mut take = || {
        at += 1;
        packed.get(at - 1).map(|&b| usize::from(b)).ok_or_else(|| bad("LZ11 data is cut short", at - 1))
    };
    let mut out: Vec<u8> = Vec::new();
    while out.len() < len {
        let marks = take()?;
        for bit in (0..8).rev() {
            if out.len() >= len {
                break;
            }
            if marks >> bit & 1 == 0 {
                out.push(take()? as u8);
                continue;
            }
            let first = take()?;
            let (run, upper) = match first >> 4 {
                0 => {
                    let second = take()?;
                    ((first << 4 | second >> 4) + 0x11, second & 0xf)
                }
                1 => {
                    let (second, third) = (take()?, take()?);
                    (((first & 0xf) << 12 | second << 4 | third >> 4) + 0x111, third & 0xf)
                }
                short => (short + 1, first & 0xf),
            };
            let back = (upper << 8 | take()?) + 1;
            if back > out.len() {
                return Err(bad("an LZ11 match reaches before the beginning", 4));
            }
            for _ in 0..run.min(len - out.len()) {
                out.push(out[out.len() - back]);
            }
        }
    }
    Ok(out)
}

/// Packs as LZ11, by the longest match among those with the same three bytes before.
pub fn pack11(bytes: &[u8]) -> Vec<u8> {
    const WINDOW: usize = 0x1000;
    const MOST_RUN: usize = 0x110;
    const MOST_TRIES: usize = 64;
    let mut out = (((bytes.len() as u32) << 8) | 0x11).to_le_bytes().to_vec();
    let mut chains: std::collections::HashMap<[u8; 3], Vec<usize>> = std::collections::HashMap::new();
    let (mut at, mut marks_at, mut mark) = (0, 0, 8);
    while at < bytes.len() {
        if mark == 8 {
            (marks_at, mark) = (out.len(), 0);
            out.push(0);
        }
        let key = bytes.get(at..at + LEAST_MATCH).map(|k| [k[0], k[1], k[2]]);
        let mut best = (0, 0);
        for &from in key.iter().filter_map(|k| chains.get(k)).flatten().rev().take(MOST_TRIES) {
            if at - from > WINDOW {
                break;
            }
            let run = bytes[at..].iter().zip(&bytes[from..]).take(MOST_RUN).take_while(|(a, b)| a == b).count();
            if run > best.0 {
                best = (run, at - from);
            }
        }
        let taken = if best.0 >= LEAST_MATCH { best.0 } else { 1 };
        if taken > 1 {
            out[marks_at] |= 0x80 >> mark;
            let back = best.1 - 1;
            if taken <= 0x10 {
                out.push(((taken - 1) << 4 | back >> 8) as u8);
            } else {
                let run = taken - 0x11;
                out.extend([(run >> 4) as u8, ((run & 0xf) << 4 | back >> 8) as u8]);
            }
            out.push(back as u8);
        } else {
            out.push(bytes[at]);
        }
        for i in at..at + taken {
            if let Some(k) = bytes.get(i..i + LEAST_MATCH) {
                chains.entry([k[0], k[1], k[2]]).or_default().push(i);
            }
        }
        at += taken;
        mark += 1;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// By hand, from the end: marks 0x10 (three literals, then a match), `z`, `y`, `x`, and 0xf000: 15 + 3 bytes at
    /// distance 0 + 3. "head" lies before the packed part and stays.
    #[test]
    fn a_packed_program_by_hand() {
        let mut packed = b"head\x00\xf0xyz\x10".to_vec();
        packed.extend(((6u32 + 8) | (8 << 24)).to_le_bytes());
        packed.extend(7u32.to_le_bytes());
        assert_eq!(unpack_code(&packed).unwrap(), [b"head".as_slice(), &b"xyz".repeat(7)].concat());
    }

    #[test]
    fn lz11_by_hand() {
        // Three literals, then a match of 5 at distance 3: "abcabcab".
        let packed = [0x11, 8, 0, 0, 0x10, b'a', b'b', b'c', 0x40, 2];
        assert_eq!(unpack11(&packed).unwrap(), b"abcabcab");
        assert_eq!(pack11(b"abcabcab"), packed);
    }

    proptest! {
        #[test]
        fn what_is_packed_comes_back(seed in proptest::collection::vec(0u8..4, 0..3000)) {
            prop_assert_eq!(unpack11(&pack11(&seed)).unwrap(), seed);
        }

        #[test]
        fn any_bytes_unpack_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..200), body in 8u32..64) {
            let _ = unpack11(&[&[0x11, 40, 0, 0], bytes.as_slice()].concat());
            let _ = unpack_code(&bytes);
            let _ = unpack_code(&[bytes.as_slice(), &(body | 8 << 24).to_le_bytes(), &[30, 0, 0, 0]].concat());
        }
    }
}
