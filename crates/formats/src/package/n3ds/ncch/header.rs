//! The header of a content: where its parts are and how they are encrypted. Layout: docs/formats/n3ds-content.md.

use super::{ID, MAGIC};
use crate::num::{le16, le32, le64};
use crate::package::n3ds::UNIT;
use decanter_core::opened::TitlePart;
use decanter_core::source::{Source, read_array};
use decanter_core::{Error, Result};
use std::ops::Range;

/// Bytes of the header.
pub const LEN: u64 = 0x200;
/// Bytes of the extended header that its hash is of.
pub const EXTENDED_HASHED: u64 = 0x400;
/// Bytes of it with the access descriptor.
pub const EXTENDED: u64 = 0x800;
/// Where the flags stand.
pub const FLAGS_AT: usize = 0x188;
/// The most that the hash of the beginning of ExeFS or RomFS may be of.
const MOST_HASHED: u64 = 16 << 20;

/// Bit of flags[7]: the key is a fixed one.
pub const FIXED_KEY: u8 = 0x01;
/// Bit of flags[7]: there is no RomFS to mount.
pub const NO_ROMFS: u8 = 0x02;
/// Bit of flags[7]: nothing is encrypted.
pub const PLAIN: u8 = 0x04;
/// Bit of flags[7]: a seed is mixed into the key of the second slot.
pub const SEEDED: u8 = 0x20;

/// A part with a hash of its beginning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Area {
    /// Where it is, in bytes of the content.
    pub range: Range<u64>,
    /// Bytes at its beginning that the hash is of.
    pub hashed: u64,
    /// SHA-256 of them.
    pub hash: [u8; 32],
}

/// A header whose parts lie in the content, in order, without overlapping.
#[derive(Debug, Clone)]
pub struct Header {
    /// The 0x200 bytes.
    pub raw: [u8; LEN as usize],
    /// Bytes of a media unit.
    pub unit: u64,
    /// Bytes of the whole content.
    pub len: u64,
    /// The extended header with the access descriptor.
    pub extended: Option<Range<u64>>,
    /// Plain texts of the libraries in a program.
    pub plain: Option<Range<u64>>,
    /// The logo.
    pub logo: Option<Range<u64>>,
    /// Programs and icons.
    pub exefs: Option<Area>,
    /// Files.
    pub romfs: Option<Area>,
}

/// What a content is, by its flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A program, with or without files.
    Program,
    /// A manual.
    Manual,
    /// A download-play child.
    Child,
    /// A system update.
    Update,
    /// Files only.
    Data,
}

impl Kind {
    /// What people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Program => "program",
            Self::Manual => "manual",
            Self::Child => "download-play child",
            Self::Update => "system update",
            Self::Data => "data",
        }
    }

    /// What it is among those of the same title.
    pub fn part(self) -> TitlePart {
        match self {
            Self::Program => TitlePart::Program,
            Self::Manual => TitlePart::Manual,
            Self::Child | Self::Update | Self::Data => TitlePart::Other,
        }
    }
}

impl Header {
    /// Parses a header; `len` is the length of the source.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a wrong mark and for parts that overlap or lie outside, with the offset of the field.
    pub fn read(source: &dyn Source) -> Result<Self> {
        Self::parse(read_array(source, 0)?)
    }

    /// The same of bytes in memory.
    ///
    /// # Errors
    /// As [`Header::read`].
    pub fn parse(raw: [u8; LEN as usize]) -> Result<Self> {
        let bad = |what: String, at: u64| Err(Error::malformed(ID, what, at));
        if raw[0x100..0x104] != MAGIC {
            return bad("no NCCH mark".into(), 0x100);
        }
        let flags = &raw[FLAGS_AT..FLAGS_AT + 8];
        if flags[6] > 10 {
            return bad(format!("a media unit of 0x200 << {}", flags[6]), FLAGS_AT as u64 + 6);
        }
        let unit = UNIT << flags[6];
        let len = u64::from(le32(&raw, 0x104)) * unit;
        if len < LEN {
            return bad(format!("a content of {len} bytes"), 0x104);
        }
        let range = |at: usize| {
            let (start, size) = (u64::from(le32(&raw, at)) * unit, u64::from(le32(&raw, at + 4)) * unit);
            (size > 0).then(|| start..start + size)
        };
        let extended = match le32(&raw, 0x180) {
            0 => None,
            0x400 => Some(LEN..LEN + EXTENDED),
            other => return bad(format!("an extended header of {other:#x} bytes instead of 0x400"), 0x180),
        };
        let area = |at: usize, hash: usize| -> Result<Option<Area>> {
            let Some(range) = range(at) else { return Ok(None) };
            let hashed = u64::from(le32(&raw, at + 8)) * unit;
            if hashed > range.end - range.start || hashed > MOST_HASHED {
                return Err(Error::malformed(
                    ID,
                    format!("a hash of the first {hashed:#x} bytes of a part"),
                    at as u64 + 8,
                ));
            }
            let mut value = [0; 32];
            value.copy_from_slice(&raw[hash..hash + 32]);
            Ok(Some(Area { range, hashed, hash: value }))
        };
        let (exefs, romfs) = (area(0x1a0, 0x1c0)?, area(0x1b0, 0x1e0)?);
        let header = Self { raw, unit, len, extended, plain: range(0x190), logo: range(0x198), exefs, romfs };
        header.check()?;
        Ok(header)
    }

    /// Parts lie in the content and apart from each other.
    fn check(&self) -> Result<()> {
        let area = |a: &Option<Area>| a.as_ref().map(|a| a.range.clone());
        let mut parts = vec![(0..LEN, 0x100u64, "the header")];
        let more = [
            (self.extended.clone(), 0x180, "the extended header"),
            (self.plain.clone(), 0x190, "the plain region"),
            (self.logo.clone(), 0x198, "the logo"),
            (area(&self.exefs), 0x1a0, "the ExeFS"),
            (area(&self.romfs), 0x1b0, "the RomFS"),
        ];
        parts.extend(more.into_iter().filter_map(|(range, at, name)| Some((range?, at, name))));
        parts.sort_by_key(|(range, ..)| range.start);
        for pair in parts.windows(2) {
            if pair[0].0.end > pair[1].0.start {
                return Err(Error::malformed(ID, format!("{} overlaps {}", pair[1].2, pair[0].2), pair[1].1));
            }
        }
        match parts.iter().find(|(range, ..)| range.end > self.len) {
            Some((range, at, name)) => {
                let text = format!("{name} ends at {:#x}, behind the content's end at {:#x}", range.end, self.len);
                Err(Error::malformed(ID, text, *at))
            }
            None => Ok(()),
        }
    }

    /// The eight flags.
    pub fn flags(&self) -> &[u8] {
        &self.raw[FLAGS_AT..FLAGS_AT + 8]
    }

    /// Key Y: the first bytes of the signature.
    pub fn key_y(&self) -> [u8; 16] {
        let mut key = [0; 16];
        key.copy_from_slice(&self.raw[..16]);
        key
    }

    /// Id of the partition; it is in the counter.
    pub fn partition_id(&self) -> u64 {
        le64(&self.raw, 0x108)
    }

    /// Id of the program.
    pub fn program_id(&self) -> u64 {
        le64(&self.raw, 0x118)
    }

    /// Version of the layout: it decides about the counter.
    pub fn version(&self) -> u16 {
        le16(&self.raw, 0x112)
    }

    /// The product code.
    pub fn product_code(&self) -> String {
        crate::cartridge::text::ascii(&self.raw[0x150..0x160])
    }

    /// The maker's code.
    pub fn maker(&self) -> String {
        crate::cartridge::text::ascii(&self.raw[0x110..0x112])
    }

    /// What it is.
    pub fn kind(&self) -> Kind {
        match self.flags()[5] {
            kind if kind & 0x2 != 0 => Kind::Program,
            kind if kind & 0xc == 0xc => Kind::Child,
            kind if kind & 0x8 != 0 => Kind::Manual,
            kind if kind & 0x4 != 0 => Kind::Update,
            _ => Kind::Data,
        }
    }

    /// First value of the counter of a part that begins at byte `start`; `part` is 1 for the extended header, 2 for
    /// the ExeFS, 3 for the RomFS.
    pub fn counter(&self, part: u8, start: u64) -> u128 {
        let id = self.partition_id();
        match self.version() {
            1 => u128::from(id.swap_bytes()) << 64 | u128::from(start as u32),
            _ => u128::from(id) << 64 | u128::from(part) << 56,
        }
    }

    /// The flags of the same content with nothing encrypted in it.
    pub fn plain_flags(&self) -> [u8; 8] {
        let mut flags = [0; 8];
        flags.copy_from_slice(self.flags());
        flags[3] = 0;
        flags[7] = flags[7] & !(FIXED_KEY | SEEDED) | PLAIN;
        flags
    }

    /// Whether its flags say that nothing is encrypted.
    pub fn says_plain(&self) -> bool {
        self.flags()[7] & PLAIN != 0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn raw(version: u16) -> [u8; 0x200] {
        let mut raw = [0; 0x200];
        raw[0x100..0x104].copy_from_slice(b"NCCH");
        raw[0x104] = 8;
        raw[0x108..0x110].copy_from_slice(&0x0004_0000_0f1e_2d00u64.to_le_bytes());
        raw[0x112..0x114].copy_from_slice(&version.to_le_bytes());
        raw
    }

    /// Written out by hand from the layout.
    #[test]
    fn counters() {
        let bytes = |version, part, start| Header::parse(raw(version)).unwrap().counter(part, start).to_be_bytes();
        let id = [0x00, 0x04, 0x00, 0x00, 0x0f, 0x1e, 0x2d, 0x00];
        assert_eq!(bytes(2, 3, 0x4000), [id.as_slice(), &[3, 0, 0, 0, 0, 0, 0, 0]].concat()[..]);
        assert_eq!(bytes(0, 1, 0x200), [id.as_slice(), &[1, 0, 0, 0, 0, 0, 0, 0]].concat()[..]);
        let stored = [0x00, 0x2d, 0x1e, 0x0f, 0x00, 0x00, 0x04, 0x00];
        assert_eq!(bytes(1, 2, 0x4a00), [stored.as_slice(), &[0, 0, 0, 0, 0, 0, 0x4a, 0]].concat()[..]);
    }

    #[test]
    fn parts_that_cannot_be_are_told_with_their_field() {
        let offset = |change: &dyn Fn(&mut [u8; 0x200])| {
            let mut bytes = raw(2);
            change(&mut bytes);
            match Header::parse(bytes) {
                Err(Error::Malformed { offset, .. }) => Some(offset),
                _ => None,
            }
        };
        assert_eq!(offset(&|_| ()), None);
        assert_eq!(offset(&|b| b[0x101] = 0), Some(0x100));
        assert_eq!(offset(&|b| b[0x18e] = 11), Some(0x18e));
        assert_eq!(offset(&|b| b[0x1a4] = 1), Some(0x1a0), "the ExeFS at the header's own place");
        assert_eq!(offset(&|b| (b[0x1b0], b[0x1b4]) = (7, 2)), Some(0x1b0), "past the end");
        assert_eq!(offset(&|b| (b[0x1a0], b[0x1a4], b[0x1a8]) = (1, 2, 3)), Some(0x1a8));
        assert_eq!(offset(&|b| b[0x180] = 1), Some(0x180));
    }
}
