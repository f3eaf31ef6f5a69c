//! One cabinet: its header, its folders, its files; nothing of what is packed.

use super::ID;
use super::raw::{Block as RawBlock, File as RawFile, Folder as RawFolder, Head, Reserve};
use crate::raw::read_at;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::{Error, Result};
use encoding_rs::WINDOWS_1252;
use zerocopy::FromBytes;

pub(super) const MAGIC: &[u8; 4] = b"MSCF";
const HEAD: u64 = 36;
/// Flags of the header: a cabinet before, a cabinet after, reserved areas.
const HAS_PREVIOUS: u16 = 1;
const HAS_NEXT: u16 = 2;
const HAS_RESERVE: u16 = 4;
/// The name of a file is UTF-8.
const IS_UTF8: u16 = 0x80;
/// Names have at most 256 bytes with the zero behind them.
const MOST_NAME: u64 = 257;
/// Bytes of all entries of files: 65,535 with the longest names.
const MOST_FILES: u64 = 32 << 20;

/// Where the bytes of a file begin or go on, when that is another cabinet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Spans {
    pub(super) from_previous: bool,
    pub(super) into_next: bool,
}

/// A file as its entry describes it.
pub(super) struct File {
    pub(super) path: String,
    pub(super) len: u32,
    /// Where it begins in what its folder gives.
    pub(super) at: u32,
    /// Its folder in this cabinet.
    pub(super) folder: usize,
    pub(super) spans: Spans,
    pub(super) date: u16,
    pub(super) time: u16,
    pub(super) attributes: u16,
}

/// How a folder is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Method {
    Stored,
    MsZip,
    Quantum,
    /// With a window of so many bits.
    Lzx(u32),
    Unknown(u16),
}

impl Method {
    fn of(bits: u16) -> Self {
        match (bits & 15, u32::from(bits >> 8 & 31)) {
            (0, _) => Self::Stored,
            (1, _) => Self::MsZip,
            (2, _) => Self::Quantum,
            (3, window @ 15..=21) => Self::Lzx(window),
            _ => Self::Unknown(bits),
        }
    }

    /// As people call it.
    pub(super) fn name(self) -> String {
        match self {
            Self::Stored => "stored".into(),
            Self::MsZip => "MSZIP".into(),
            Self::Quantum => "Quantum".into(),
            Self::Lzx(bits) => format!("LZX, window of {} KiB", 1 << (bits - 10)),
            Self::Unknown(bits) => format!("method {bits:#06x}"),
        }
    }
}

/// Where the blocks of a folder begin.
pub(super) struct Folder {
    pub(super) data_at: u64,
    pub(super) blocks: u16,
    pub(super) method: Method,
}

/// A data block of one cabinet.
#[derive(Debug, Clone, Copy)]
pub(super) struct Block {
    /// Where its header begins.
    pub(super) at: u64,
    /// Where its packed bytes begin.
    pub(super) data_at: u64,
    pub(super) sum: u32,
    pub(super) packed: u16,
    /// 0 where it goes on in the next cabinet.
    pub(super) unpacked: u16,
}

/// One cabinet.
pub(super) struct Cabinet {
    pub(super) source: SourceRef,
    pub(super) len: u64,
    pub(super) set: u16,
    pub(super) number: u16,
    pub(super) previous: Option<String>,
    pub(super) next: Option<String>,
    pub(super) reserved: u64,
    block_reserve: u64,
    pub(super) folders: Vec<Folder>,
    pub(super) files: Vec<File>,
}

impl Cabinet {
    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right, and what reading fails with.
    pub(super) fn read(source: SourceRef) -> Result<Self> {
        let malformed = |what: String, at: u64| Error::malformed(ID, what, at);
        let head: Head = read_at(source.as_ref(), 0)?;
        if &head.magic != MAGIC {
            return Err(malformed("it does not begin with MSCF".into(), 0));
        }
        if head.major != 1 {
            return Err(malformed(format!("version {}.{} of the layout", head.major, head.minor), 24));
        }
        let (flags, mut at) = (head.flags.get(), HEAD);
        let mut reserve = Reserve { header: 0.into(), folder: 0, block: 0 };
        if flags & HAS_RESERVE != 0 {
            reserve = read_at(source.as_ref(), at)?;
            at += size_of::<Reserve>() as u64 + u64::from(reserve.header.get());
        }
        let mut neighbour = |flag: u16| -> Result<Option<String>> {
            if flags & flag == 0 {
                return Ok(None);
            }
            let name = text(source.as_ref(), at)?;
            at += name.len() as u64 + 1;
            let disk = text(source.as_ref(), at)?;
            at += disk.len() as u64 + 1;
            Ok(Some(words(&name, false)))
        };
        let (previous, next) = (neighbour(HAS_PREVIOUS)?, neighbour(HAS_NEXT)?);
        let mut folders = Vec::new();
        for _ in 0..head.folders.get() {
            let raw: RawFolder = read_at(source.as_ref(), at)?;
            folders.push(Folder {
                data_at: raw.data_at.get().into(),
                blocks: raw.blocks.get(),
                method: Method::of(raw.method.get()),
            });
            at += size_of::<RawFolder>() as u64 + u64::from(reserve.folder);
        }
        let files = files(source.as_ref(), head.files_at.get().into(), head.files.get(), folders.len())?;
        Ok(Self {
            len: head.len.get().into(),
            set: head.set.get(),
            number: head.number.get(),
            previous,
            next,
            reserved: reserve.header.get().into(),
            block_reserve: reserve.block.into(),
            folders,
            files,
            source,
        })
    }

    /// The headers of the blocks of a folder, as far as they are there; and where the first one stands that is not.
    ///
    /// # Errors
    /// What reading fails with.
    pub(super) fn blocks(&self, folder: &Folder) -> Result<(Vec<Block>, Option<u64>)> {
        let (mut blocks, mut at) = (Vec::new(), folder.data_at);
        for _ in 0..folder.blocks {
            let data_at = at + size_of::<RawBlock>() as u64 + self.block_reserve;
            if data_at > self.source.len() {
                return Ok((blocks, Some(at)));
            }
            let raw: RawBlock = read_at(self.source.as_ref(), at)?;
            let packed = raw.packed.get();
            if data_at + u64::from(packed) > self.source.len() {
                return Ok((blocks, Some(at)));
            }
            blocks.push(Block { at, data_at, sum: raw.sum.get(), packed, unpacked: raw.unpacked.get() });
            at = data_at + u64::from(packed);
        }
        Ok((blocks, None))
    }
}

/// A text that ends with a zero.
fn text(source: &dyn Source, at: u64) -> Result<Vec<u8>> {
    let len = MOST_NAME.min(source.len().saturating_sub(at));
    let bytes = read_vec(source, at, len, "a name", MOST_NAME)?;
    match memchr::memchr(0, &bytes) {
        Some(end) => Ok(bytes[..end].to_vec()),
        None => Err(Error::malformed(ID, "a name without an end", at)),
    }
}

fn words(name: &[u8], is_utf8: bool) -> String {
    match std::str::from_utf8(name) {
        // Old names are in whatever code page their maker had; what is UTF-8 by chance is UTF-8 in all likelihood.
        Ok(name) => name.to_owned(),
        Err(_) if is_utf8 => String::from_utf8_lossy(name).into_owned(),
        Err(_) => WINDOWS_1252.decode_without_bom_handling(name).0.into_owned(),
    }
}

fn files(source: &dyn Source, at: u64, count: u16, folders: usize) -> Result<Vec<File>> {
    let most = (u64::from(count) * (size_of::<RawFile>() as u64 + MOST_NAME)).min(source.len().saturating_sub(at));
    let bytes = read_vec(source, at, most, "the entries of files", MOST_FILES)?;
    let mut rest = bytes.as_slice();
    let mut files = Vec::new();
    for _ in 0..count {
        let here = at + (bytes.len() - rest.len()) as u64;
        let cut = || Error::malformed(ID, "an entry of a file is cut short", here);
        let (raw, behind) = RawFile::ref_from_prefix(rest).map_err(|_| cut())?;
        let end = memchr::memchr(0, &behind[..behind.len().min(MOST_NAME as usize)]).ok_or_else(cut)?;
        let attributes = raw.attributes.get();
        let path = words(&behind[..end], attributes & IS_UTF8 != 0).replace('\\', "/");
        let number = raw.folder.get();
        let spans =
            Spans { from_previous: matches!(number, 0xfffd | 0xffff), into_next: matches!(number, 0xfffe | 0xffff) };
        let folder = match (spans.from_previous, spans.into_next) {
            (true, _) => 0,
            (false, true) => folders.saturating_sub(1),
            (false, false) => number.into(),
        };
        if folder >= folders {
            return Err(Error::malformed(ID, format!("{path} is in folder {folder} of {folders}"), here));
        }
        files.push(File {
            path,
            len: raw.len.get(),
            at: raw.at.get(),
            folder,
            spans,
            date: raw.date.get(),
            time: raw.time.get(),
            attributes,
        });
        rest = &behind[end + 1..];
    }
    Ok(files)
}
