//! The header of a content: what it is, under which keys, and where its sections stand. Layout: docs/formats/nca.md.

use super::ID;
use crate::package::nx::keys::{self, Area, Role};
use crate::package::nx::raw::{ContentHead, SectionHead};
use crate::raw::split;
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{Source, read_vec};
use decanter_core::view::Xts;
use decanter_core::{Error, Result};
use std::ops::Range;
use zerocopy::{FromBytes, IntoBytes};

/// Bytes of the header with the headers of all sections.
pub const LEN: u64 = 0xc00;
/// Bytes of a sector of the header, and of a media unit.
pub const UNIT: u64 = 0x200;
/// Where the layout begins, behind two signatures.
const HEAD_AT: usize = 0x200;
/// Where the headers of sections begin, and how many there is room for.
const SECTIONS_AT: usize = 0x400;
/// Sections that there is room for.
pub const SECTIONS: usize = 4;

/// What a content holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A program with its files.
    Program,
    /// The list of contents of a title.
    Meta,
    /// Names, icons, settings.
    Control,
    /// Manuals and legal texts.
    Manual,
    /// Files without a program: of an add-on.
    Data,
    /// Files that other programs may read.
    PublicData,
    /// Nothing that is known.
    Other(u8),
}

impl Kind {
    fn of(number: u8) -> Self {
        use Kind::{Control, Data, Manual, Meta, Program, PublicData};
        let known = [Program, Meta, Control, Manual, Data, PublicData];
        known.get(usize::from(number)).copied().unwrap_or(Self::Other(number))
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Program => "program",
            Self::Meta => "list of contents",
            Self::Control => "control data",
            Self::Manual => "manual",
            Self::Data => "data",
            Self::PublicData => "public data",
            Self::Other(_) => "content of unknown kind",
        }
    }
}

/// A header, decrypted.
#[derive(Clone)]
pub struct Header {
    /// Its bytes.
    pub raw: Vec<u8>,
    /// Whether it stands in the clear in its file.
    pub is_plain: bool,
    /// Where the header key came from, if one was used.
    pub origin: Option<String>,
    head: ContentHead,
}

/// A section as the header places it.
#[derive(Debug, Clone)]
pub(in crate::package::nx) struct Placed {
    pub(in crate::package::nx) index: usize,
    /// In bytes of the content.
    pub(in crate::package::nx) range: Range<u64>,
    pub(in crate::package::nx) head: SectionHead,
    /// Whether the header of the section has the hash that the content's has for it.
    pub(in crate::package::nx) holds: bool,
}

impl Header {
    /// Reads and decrypts the header of a content; `what` says what it is, for messages.
    ///
    /// # Errors
    /// [`Error::Key`] without the header key or with a wrong one, [`Error::Malformed`] for one that is damaged or places its
    /// sections wrongly, [`Error::Unsupported`] for older versions.
    pub fn read(source: &dyn Source, keys: &Keyring, what: &str) -> Result<Self> {
        let stored = read_vec(source, 0, LEN, "the header of a content", LEN)?;
        if is_magic(&stored) {
            return Self::parse(stored, true, None);
        }
        let (key, origin) = keys::find(keys, Role::Header, what)?;
        let mut raw = stored;
        Xts::new(&key, UNIT as usize)?.decrypt(0, &mut raw);
        if is_magic(&raw) {
            return Self::parse(raw, false, Some(origin));
        }
        // Sections' headers show whether the key is right where the mark itself is hit.
        if (0..SECTIONS).any(|index| looks_right(&raw, index)) {
            let why = "no NCA3 mark, though the header key fits: the header is damaged";
            return Err(Error::malformed(ID, why, HEAD_AT as u64));
        }
        Err(keys::wrong(keys, Role::Header, what, &origin).into())
    }

    fn parse(raw: Vec<u8>, is_plain: bool, origin: Option<String>) -> Result<Self> {
        let (head, _) = split::<ContentHead>(ID, "the header", &raw[HEAD_AT..], HEAD_AT as u64)?;
        if head.magic != *b"NCA3" {
            let version = char::from(head.magic[3]);
            return Err(Error::unsupported(
                ID,
                format!("a content of version {version}, as before the first release,"),
            ));
        }
        let head = *head;
        let own = Self { raw, is_plain, origin, head };
        own.placed()?;
        Ok(own)
    }

    /// The sections that are there.
    pub(in crate::package::nx) fn placed(&self) -> Result<Vec<Placed>> {
        let mut all: Vec<Placed> = Vec::new();
        for (index, place) in self.head.sections.iter().enumerate() {
            let (start, end) = (u64::from(place.start.get()) * UNIT, u64::from(place.end.get()) * UNIT);
            if (start, end) == (0, 0) {
                continue;
            }
            let field = (HEAD_AT + 0x40 + index * 0x10) as u64;
            if start < LEN || end <= start || end > self.len() {
                let what = format!("section {index} from {start:#x} to {end:#x} lies outside of the content");
                return Err(Error::malformed(ID, what, field));
            }
            if let Some(other) = all.iter().find(|p| p.range.start < end && start < p.range.end) {
                let what = format!("section {index} overlaps section {}", other.index);
                return Err(Error::malformed(ID, what, field));
            }
            let bytes = &self.raw[SECTIONS_AT + index * UNIT as usize..][..UNIT as usize];
            let holds = super::super::sha256(bytes) == self.head.hashes[index];
            let (head, _) = split::<SectionHead>(ID, "the header of a section", bytes, 0)?;
            all.push(Placed { index, range: start..end, head: *head, holds });
        }
        Ok(all)
    }

    /// Length of the content in bytes.
    pub fn len(&self) -> u64 {
        self.head.len.get()
    }

    /// True for one that says it has no bytes.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// What it holds.
    pub fn kind(&self) -> Kind {
        Kind::of(self.head.content)
    }

    /// Whether it was made for a gamecard.
    pub fn is_for_card(&self) -> bool {
        self.head.distribution == 1
    }

    /// Id of the title that it belongs to.
    pub fn program_id(&self) -> u64 {
        self.head.program_id.get()
    }

    /// The generation of its keys.
    pub fn generation(&self) -> u8 {
        self.head.generation.max(self.head.old_generation)
    }

    /// Version of the development kit that made it: major, minor, micro.
    pub fn sdk(&self) -> String {
        let n = self.head.sdk.get();
        format!("{}.{}.{}", n >> 24, n >> 16 & 0xff, n >> 8 & 0xff)
    }

    /// The rights under whose title key it stands; `None` where the key area has its keys.
    pub fn rights_id(&self) -> Option<[u8; 16]> {
        (self.head.rights_id != [0; 16]).then_some(self.head.rights_id)
    }

    /// Which key the key area is under.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a number that is none.
    pub fn area(&self) -> Result<Area> {
        let number = self.head.area_key;
        Area::of(number).ok_or_else(|| Error::malformed(ID, format!("key area of kind {number}"), 0x207))
    }

    /// The four keys of the key area, under the key `kek`.
    pub fn area_keys(&self, kek: &Key) -> Result<[Key; 4]> {
        let mut keys = self.head.area;
        super::super::ecb_decrypt(kek, keys.as_mut_bytes())?;
        Ok(keys.map(|key| Key::new(key.to_vec())))
    }

    /// The role of the key that the key area, or the title key, is under.
    pub fn kek(&self) -> Result<Role> {
        let revision = keys::revision(self.generation());
        Ok(match self.rights_id() {
            Some(_) => Role::TitleKek(revision),
            None => Role::Area(self.area()?, revision),
        })
    }

    /// The header under the header key, as it stands in files.
    ///
    /// # Errors
    /// The trouble with the key.
    pub fn sealed(&self, keys: &Keyring) -> Result<Vec<u8>> {
        let mut raw = self.raw.clone();
        if !self.is_plain {
            let (key, _) = keys::find(keys, Role::Header, "the header of a content").map_err(|e: KeyTrouble| e)?;
            Xts::new(&key, UNIT as usize)?.encrypt(0, &mut raw);
        }
        Ok(raw)
    }

    /// The same header with the key area in use: `keys` stand in it already under their key, and no rights are asked for.
    #[must_use]
    pub fn with_area(&self, area: [[u8; 16]; 4]) -> Self {
        let mut own = self.clone();
        own.head.area = area;
        own.head.rights_id = [0; 16];
        own.raw[HEAD_AT..HEAD_AT + size_of::<ContentHead>()].copy_from_slice(own.head.as_bytes());
        own
    }
}

/// Whether these decrypted bytes have the mark of a content of any version.
fn is_magic(raw: &[u8]) -> bool {
    raw.get(HEAD_AT..HEAD_AT + 4).is_some_and(|m| m.starts_with(b"NCA") && m[3].is_ascii_digit())
}

/// Whether the header of a section makes sense: all zeros, or of version 2 with zeros at its end. Noise does not.
fn looks_right(raw: &[u8], index: usize) -> bool {
    let bytes = &raw[SECTIONS_AT + index * UNIT as usize..][..UNIT as usize];
    let Ok((head, _)) = SectionHead::read_from_prefix(bytes) else { return false };
    bytes.iter().all(|&b| b == 0) || (head.version.get() == 2 && head.rest == [0; 0x60])
}

/// Whether what `source` begins with is a header that the header key opens, or one in the clear.
///
/// # Errors
/// What reading fails with.
pub fn is_content(source: &dyn Source, keys: &Keyring) -> Result<bool> {
    if source.len() < LEN {
        return Ok(false);
    }
    let mut sector = read_vec(source, HEAD_AT as u64, UNIT, "the header of a content", UNIT)?;
    let is_nca = |s: &[u8]| s.starts_with(b"NCA") && s[3].is_ascii_digit();
    if is_nca(&sector) {
        return Ok(true);
    }
    let Ok((key, _)) = keys::find(keys, Role::Header, "") else { return Ok(false) };
    Xts::new(&key, UNIT as usize)?.decrypt(1, &mut sector);
    Ok(is_nca(&sector))
}
