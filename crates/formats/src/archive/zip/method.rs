//! The methods that entries are packed with (APPNOTE 4.4.5), beside those that are read at random. Well-known crates
//! unpack them; each goes forward only.

use super::ID;
use decanter_core::source::{Reader, SourceRef, read_array};
use decanter_core::view::{Begin, Forward};
use decanter_core::{Error, Result};
use std::io::{BufReader, Read};
use std::sync::Arc;

/// Memory that a method may ask for, in bytes.
const MOST_MEMORY: u32 = 256 << 20;

/// How an entry is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Method {
    Stored,
    Deflated,
    Deflate64,
    Bzip2,
    /// With a mark at its end, or without.
    Lzma {
        marked: bool,
    },
    Zstd,
    Xz,
    Ppmd,
}

impl Method {
    /// The method with this number; `flags` are those of the entry.
    pub(super) fn of(number: u16, flags: u16) -> Option<Self> {
        Some(match number {
            0 => Self::Stored,
            8 => Self::Deflated,
            9 => Self::Deflate64,
            12 => Self::Bzip2,
            14 => Self::Lzma { marked: flags & 2 != 0 },
            20 | 93 => Self::Zstd,
            95 => Self::Xz,
            98 => Self::Ppmd,
            _ => return None,
        })
    }

    /// What the other methods are called.
    pub(super) fn name(number: u16) -> String {
        let name = match number {
            1 => "shrink",
            2..=5 => "reduce",
            6 => "implode",
            10 => "old implode",
            18 => "terse",
            94 => "MP3",
            96 => "JPEG",
            97 => "WavPack",
            99 => "AES encryption",
            _ => return format!("method {number}"),
        };
        format!("{name} (method {number})")
    }

    /// The unpacked bytes of an entry that is read forwards: `len` bytes out of `packed`.
    pub(super) fn forward(self, packed: SourceRef, len: u64) -> SourceRef {
        let begin: Begin = Box::new(move || self.reader(&packed, len));
        Arc::new(Forward::new(ID, len, begin))
    }

    fn reader(self, packed: &SourceRef, len: u64) -> Result<Box<dyn Read + Send>> {
        let from = |at: u64| BufReader::with_capacity(64 << 10, Reader::new(packed.clone(), at));
        let wrong = |what: &str| Error::malformed(ID, what.to_owned(), 0);
        let failed = |e: std::io::Error| Error::malformed(ID, format!("the packed data cannot be read ({e})"), 0);
        Ok(match self {
            Self::Stored | Self::Deflated => return Err(Error::Usage("this method is read at random".into())),
            Self::Deflate64 => Box::new(deflate64::Deflate64Decoder::with_buffer(from(0))),
            Self::Bzip2 => Box::new(bzip2::read::BzDecoder::new(from(0))),
            Self::Zstd => {
                let mut decoder = zstd::stream::read::Decoder::with_buffer(from(0)).map_err(failed)?;
                decoder.window_log_max(28).map_err(failed)?;
                Box::new(decoder)
            }
            Self::Xz => Box::new(lzma_rust2::XzReader::new(from(0), true)),
            Self::Lzma { marked } => {
                // Version, length of the properties (5), and those: one byte, and the size of the dictionary.
                let head: [u8; 9] = read_array(packed.as_ref(), 0).map_err(|_| wrong("an LZMA entry cut short"))?;
                if head[2..4] != [5, 0] {
                    return Err(wrong("LZMA properties of another length than 5"));
                }
                let dictionary = u32::from_le_bytes([head[5], head[6], head[7], head[8]]);
                if dictionary > MOST_MEMORY {
                    let (asked, limit) = (dictionary.into(), MOST_MEMORY.into());
                    return Err(Error::Limit { what: "the dictionary of an LZMA entry", asked, limit });
                }
                let size = if marked { u64::MAX } else { len };
                let reader = lzma_rust2::LzmaReader::new_with_props(from(9), size, head[4], dictionary, None);
                Box::new(reader.map_err(failed)?)
            }
            Self::Ppmd => {
                // Order less one: 4 bits; memory in MiB less one: 8 bits; what happens when it is full: 4 bits.
                let head =
                    u16::from_le_bytes(read_array(packed.as_ref(), 0).map_err(|_| wrong("a PPMd entry cut short"))?);
                let (order, memory) = (u32::from(head & 15) + 1, (u32::from(head >> 4 & 0xff) + 1) << 20);
                let restore = match head >> 12 {
                    0 => ppmd_rust::RestoreMethod::Restart,
                    1 => ppmd_rust::RestoreMethod::CutOff,
                    _ => return Err(wrong("a PPMd entry whose model is restored by no known method")),
                };
                let decoder = ppmd_rust::Ppmd8Decoder::new(from(2), order, memory, restore);
                Box::new(
                    decoder
                        .map_err(|e| Error::malformed(ID, format!("a PPMd entry that cannot be read ({e:?})"), 0))?,
                )
            }
        })
    }
}
