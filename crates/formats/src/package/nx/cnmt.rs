//! The list of contents of a title: what it is, its version, and a record for each content. Layout: docs/formats/cnmt.md.

use super::nca::Nca;
use super::nca::header::Kind as NcaKind;
use super::raw::{MetaContent, MetaHead};
use super::title;
use crate::num::{le32, le64};
use crate::raw::split;
use decanter_core::source::read_vec;
use decanter_core::tree::File;
use decanter_core::{Error, Result};

pub(crate) const ID: &str = "cnmt";
/// Bytes of the header.
const HEAD: usize = 0x20;
/// Bytes of a content's record, and of another title's.
const RECORD: usize = 0x38;
const OTHER: usize = 0x10;
/// Bytes at the end.
const DIGEST: usize = 0x20;
/// The longest list that is read.
pub const MOST: u64 = 16 << 20;

/// What a content is in its title.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// The list of contents itself.
    Meta,
    /// The program.
    Program,
    /// Data of an add-on.
    Data,
    /// Names, icons, settings.
    Control,
    /// The manual.
    Manual,
    /// Legal texts.
    Legal,
    /// The difference to a version before: what installs it does not need it.
    Delta,
    /// Nothing that is known.
    Other(u8),
}

impl Role {
    fn of(number: u8) -> Self {
        use Role::{Control, Data, Delta, Legal, Manual, Meta, Program};
        let known = [Meta, Program, Data, Control, Manual, Legal, Delta];
        known.get(usize::from(number)).copied().unwrap_or(Self::Other(number))
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Meta => "list of contents",
            Self::Program => "program",
            Self::Data => "data",
            Self::Control => "control",
            Self::Manual => "manual",
            Self::Legal => "legal texts",
            Self::Delta => "delta fragment",
            Self::Other(_) => "content of unknown kind",
        }
    }

    /// Whether a content of this kind may be listed as it.
    pub(super) fn fits(self, kind: NcaKind) -> bool {
        match self {
            Self::Meta => kind == NcaKind::Meta,
            Self::Program => kind == NcaKind::Program,
            Self::Control => kind == NcaKind::Control,
            Self::Manual | Self::Legal => kind == NcaKind::Manual,
            Self::Data | Self::Delta => matches!(kind, NcaKind::Data | NcaKind::PublicData),
            Self::Other(_) => true,
        }
    }

    /// The folder of its files.
    pub fn folder(self) -> &'static str {
        match self {
            Self::Legal => "legal",
            Self::Delta => "delta",
            Self::Other(_) => "other",
            role => role.name(),
        }
    }
}

/// The record of a content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// SHA-256 of the content as it stands in its file.
    pub hash: [u8; 32],
    /// Its id: the file is called so.
    pub id: [u8; 16],
    /// Its length in bytes.
    pub len: u64,
    /// What it is in its title.
    pub role: Role,
    /// Its number among those of the same role.
    pub offset: u8,
}

impl Record {
    /// What its file is called.
    pub fn file_name(&self) -> String {
        format!("{}.nca", super::keys::hex(&self.id))
    }

    /// What it is called in messages.
    pub fn name(&self) -> String {
        match self.offset {
            0 => self.role.name().to_owned(),
            n => format!("{} {}", self.role.name(), n + 1),
        }
    }

    /// Whether a package may be without it.
    pub fn may_be_missing(&self) -> bool {
        self.role == Role::Delta
    }
}

/// A list of contents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cnmt {
    /// Its bytes.
    pub raw: Vec<u8>,
    /// Id of the title.
    pub title_id: u64,
    /// Its version.
    pub version: u32,
    /// What it is.
    pub kind: title::Kind,
    /// The contents.
    pub records: Vec<Record>,
    /// Which title it goes with: the base of an update or an add-on.
    pub base: Option<u64>,
    /// The version of the system that it needs; an add-on says none.
    pub system: Option<u32>,
    /// The version of the base that it needs: of an add-on, that of an update.
    pub needs: Option<u32>,
    /// Where the records begin.
    records_at: usize,
}

impl Cnmt {
    /// Reads a list.
    ///
    /// # Errors
    /// [`Error::Malformed`] for one that is cut, or longer than what it lists.
    pub fn parse(raw: Vec<u8>) -> Result<Self> {
        let (head, rest) = split::<MetaHead>(ID, "the header", &raw, 0)?;
        let extended_len = usize::from(head.extended_len.get());
        let kind = title::Kind::of(head.kind);
        let extended = rest.get(..extended_len).ok_or_else(|| {
            Error::malformed(ID, format!("an extended header of {extended_len} bytes, behind the end"), 0xe)
        })?;
        let word = |at: usize| (extended_len >= at + 4).then(|| le32(extended, at));
        let id = || (extended_len >= 8).then(|| le64(extended, 0));
        let (base, system, needs) = match kind {
            title::Kind::Base => (None, word(8), None),
            title::Kind::Update => (id(), word(8), None),
            title::Kind::AddOn => (id(), None, word(8)),
            title::Kind::Delta => (id(), None, None),
            _ => (None, None, None),
        };
        if matches!(kind, title::Kind::Base | title::Kind::Update | title::Kind::AddOn) && extended_len < 0x10 {
            return Err(Error::malformed(ID, format!("an extended header of {extended_len} bytes"), 0xe));
        }
        let records_at = HEAD + extended_len;
        let (count, others) = (usize::from(head.contents.get()), usize::from(head.metas.get()));
        let mut at = records_at;
        let mut rest = &rest[extended_len..];
        let mut records = Vec::with_capacity(count);
        for _ in 0..count {
            let (record, more) = split::<MetaContent>(ID, "the record of a content", rest, at as u64)?;
            let mut len = [0; 8];
            len[..5].copy_from_slice(&record.len);
            records.push(Record {
                hash: record.hash,
                id: record.id,
                len: u64::from_le_bytes(len),
                role: Role::of(record.kind),
                offset: record.id_offset,
            });
            rest = more;
            at += RECORD;
        }
        if rest.len() < others * OTHER + DIGEST {
            return Err(Error::malformed(ID, "records of other titles, or the digest, are cut short", at as u64));
        }
        let (title_id, version) = (head.title_id.get(), head.version.get());
        Ok(Self { title_id, version, kind, records, base, system, needs, records_at, raw })
    }

    /// The list in the content that holds one.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a content with another number of lists, and what reading fails with.
    pub fn of(nca: &Nca) -> Result<Self> {
        let nodes = nca.nodes("", None, &mut Vec::new())?;
        let lists: Vec<&File> = nodes.iter().filter(|n| n.path.ends_with(".cnmt")).filter_map(|n| n.file()).collect();
        let [list] = lists.as_slice() else {
            return Err(Error::malformed(ID, format!("{} lists in a content that holds one", lists.len()), 0));
        };
        Self::parse(read_vec(list.source()?.as_ref(), 0, list.len, "a list of contents", MOST)?)
    }

    /// Id of the base: its own for a base.
    pub fn base_id(&self) -> u64 {
        match self.kind {
            title::Kind::Base => self.title_id,
            _ => self.base.unwrap_or_else(|| title::base_of(self.title_id)),
        }
    }

    /// Where the record of a content stands.
    pub fn record_at(&self, index: usize) -> usize {
        self.records_at + index * RECORD
    }

    /// The same list with another hash and id of a content.
    #[must_use]
    pub fn with_content(&self, index: usize, hash: [u8; 32]) -> Self {
        let mut own = self.clone();
        let at = self.record_at(index);
        own.raw[at..at + 0x20].copy_from_slice(&hash);
        own.raw[at + 0x20..at + 0x30].copy_from_slice(&hash[..16]);
        own.records[index].hash = hash;
        own.records[index].id.copy_from_slice(&hash[..16]);
        own
    }

    /// Where the version of the system that it needs stands, if it says one.
    pub fn system_at(&self) -> Option<usize> {
        self.system.map(|_| HEAD + 8)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// An update with one program, written field by field from the layout.
    fn by_hand() -> Vec<u8> {
        let mut own = 0x0500_9a3e_11d2_0800_u64.to_le_bytes().to_vec();
        own.extend(0x2_0000_u32.to_le_bytes());
        own.extend([0x81, 0]);
        own.extend(0x18u16.to_le_bytes());
        own.extend([1, 0, 0, 0, 0, 0, 0, 0]);
        own.extend([0; 8]);
        own.extend(0x0500_9a3e_11d2_0000_u64.to_le_bytes());
        own.extend(0x1410_0000_u32.to_le_bytes());
        own.extend([0; 12]);
        own.extend([7; 32]);
        own.extend([8; 16]);
        own.extend([0x00, 0x40, 0x01, 0, 0, 0, 1, 2]);
        own.extend([0; 32]);
        own
    }

    #[test]
    fn a_list_by_hand() {
        let own = Cnmt::parse(by_hand()).unwrap();
        assert_eq!((own.title_id, own.version, own.kind), (0x0500_9a3e_11d2_0800, 0x2_0000, title::Kind::Update));
        assert_eq!((own.base_id(), own.system, own.needs), (0x0500_9a3e_11d2_0000, Some(0x1410_0000), None));
        let record = &own.records[0];
        assert_eq!((record.len, record.role, record.offset, record.hash[0]), (0x14000, Role::Program, 2, 7));
        assert_eq!((record.name(), record.file_name()), ("program 3".into(), format!("{}.nca", "08".repeat(16))));
        let other = own.with_content(0, [9; 32]);
        assert_eq!((&other.raw[0x38..0x58], &other.raw[0x58..0x68]), (&[9; 32][..], &[9; 16][..]));
        assert_eq!(Cnmt::parse(other.raw.clone()).unwrap(), other);
    }

    #[test]
    fn lists_that_are_cut_say_where() {
        for cut in [0x1f, 0x30, 0x40, 0x80] {
            assert!(Cnmt::parse(by_hand()[..cut].to_vec()).is_err(), "{cut:#x}");
        }
        let mut short = by_hand();
        short[0xe] = 8;
        assert!(Cnmt::parse(short).unwrap_err().to_string().contains("extended header of 8 bytes at offset 0xe"));
    }

    proptest! {
        #[test]
        fn any_bytes_are_refused_or_read(noise in proptest::collection::vec((0usize..0x90, any::<u8>()), 0..6), len in 0usize..0xa0) {
            let mut bytes = by_hand();
            noise.iter().for_each(|(at, byte)| if let Some(slot) = bytes.get_mut(*at) { *slot = *byte });
            bytes.truncate(len);
            if let Ok(own) = Cnmt::parse(bytes) {
                (0..own.records.len()).for_each(|i| assert!(own.record_at(i) + RECORD <= own.raw.len()));
            }
        }
    }
}
