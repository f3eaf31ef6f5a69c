//! The header of an NPD-wrapped file.

use super::ID;
use crate::package::ps3::content_id;
use crate::raw::{layouts, read_at};
use decanter_core::source::Source;
use decanter_core::tell::grouped;
use decanter_core::{Error, Result};
use zerocopy::byteorder::big_endian::{U32, U64};

layouts! {
    /// Beginning of the file.
    Head: 0x100 {
        magic: [u8; 4],
        version: U32,
        license: U32,
        kind: U32,
        content_id: [u8; 0x30],
        digest: [u8; 16],
        title_hash: [u8; 16],
        header_hash: [u8; 16],
        valid_from: U64,
        valid_to: U64,
        flags: U32,
        block_len: U32,
        content_len: U64,
        entries_code: [u8; 16],
        header_code: [u8; 16],
        signatures: [u8; 0x50],
    }
}

/// What it begins with.
pub const MAGIC: [u8; 4] = *b"NPD\0";
/// Bytes of the header.
pub const LEN: u64 = 0x100;
/// Bytes of it that its code is of, and those that the hash with the licence key is of.
pub const CODED: usize = 0xa0;
/// See [`CODED`].
pub const HASHED: usize = 0x60;
/// Blocks are no longer than this.
const MOST_BLOCK: u32 = 1 << 20;
/// The longest content.
const MOST_CONTENT: u64 = 1 << 40;

/// Flags.
pub const COMPRESSED: u32 = 0x01;
/// Blocks are not encrypted.
pub const CLEAR: u32 = 0x02;
/// Keys are encrypted themselves.
pub const CLOSED_KEYS: u32 = 0x08;
/// Codes are HMAC-SHA1.
pub const HMAC: u32 = 0x10;
/// Entries stand before their blocks, with longer codes.
pub const LONG: u32 = 0x20;
/// There is no licence.
pub const SDAT: u32 = 0x0100_0000;
/// Nothing is encrypted or hashed.
pub const DEBUG: u32 = 0x8000_0000;
/// Licences.
pub const FREE: u32 = 3;

/// What the header says, with its bytes.
#[derive(Clone)]
pub struct Header {
    pub(super) raw: Head,
}

impl Header {
    /// Reads it.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right, [`Error::Unsupported`] for versions after 4.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let raw: Head = read_at(source, 0)?;
        if raw.magic != MAGIC {
            return Err(Error::malformed(ID, "it does not begin with NPD and a zero", 0));
        }
        let (version, block) = (raw.version.get(), raw.block_len.get());
        if version > 4 {
            return Err(Error::unsupported(ID, format!("version {version}")));
        }
        if block == 0 || block > MOST_BLOCK || !block.is_multiple_of(16) {
            return Err(Error::malformed(ID, format!("blocks of {} bytes", grouped(block.into())), 0x84));
        }
        let len = raw.content_len.get();
        if len > MOST_CONTENT {
            return Err(Error::malformed(ID, format!("a content of {} bytes", grouped(len)), 0x88));
        }
        Ok(Self { raw })
    }

    /// Whether all these flags are set.
    pub fn has(&self, flags: u32) -> bool {
        self.raw.flags.get() & flags == flags
    }

    /// Whose it is.
    pub fn content_id(&self) -> String {
        content_id::text(&self.raw.content_id)
    }

    /// 1 network, 2 local, 3 free.
    pub fn license(&self) -> u32 {
        self.raw.license.get() & 3
    }

    /// Bytes of the content.
    pub fn content_len(&self) -> u64 {
        self.raw.content_len.get()
    }

    /// Bytes of a block.
    pub fn block_len(&self) -> u64 {
        self.raw.block_len.get().into()
    }

    /// Number of blocks.
    pub fn blocks(&self) -> u64 {
        self.content_len().div_ceil(self.block_len())
    }

    /// Bytes of an entry.
    pub fn entry_len(&self) -> u64 {
        if self.raw.flags.get() & (COMPRESSED | LONG) != 0 { 0x20 } else { 0x10 }
    }

    /// Whether entries stand before their blocks.
    pub fn is_interleaved(&self) -> bool {
        self.has(LONG) && !self.has(COMPRESSED)
    }

    /// Where the entry of a block stands.
    pub fn entry_at(&self, block: u64) -> u64 {
        let step = if self.is_interleaved() { self.entry_len() + self.block_len() } else { self.entry_len() };
        LEN + block * step
    }

    /// Where a block stands, if none is compressed.
    pub fn block_at(&self, block: u64) -> u64 {
        match self.is_interleaved() {
            true => self.entry_at(block) + self.entry_len(),
            false => LEN + self.blocks() * self.entry_len() + block * self.block_len(),
        }
    }

    /// Bytes of the content in a block.
    pub fn len_of(&self, block: u64) -> u64 {
        self.block_len().min(self.content_len() - block * self.block_len())
    }

    /// Where the last block ends, if none is compressed; of compressed ones, where the entries end.
    pub fn end(&self) -> u64 {
        match self.blocks().checked_sub(1) {
            Some(last) if !self.has(COMPRESSED) => self.block_at(last) + self.len_of(last).next_multiple_of(16),
            _ => LEN + self.blocks() * self.entry_len(),
        }
    }
}
