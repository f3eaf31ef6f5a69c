//! The header of a content package: who may use it, what it is, what it is called.

use super::kind;
use super::raw::{Certificate, Head};
use crate::num::be32;
use crate::record::xbe::version;
use decanter_core::digest::{Algorithm, Hasher};
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::sync::Arc;
use zerocopy::FromBytes;

/// Where the parts of a header stand.
pub(super) const HEAD_AT: u64 = 0x22c;
pub(super) const HASHED_FROM: u64 = 0x344;
pub(super) const NAMES_AT: u64 = 0x411;
const DESCRIPTIONS_AT: u64 = 0xd11;
pub(super) const PUBLISHER_AT: u64 = 0x1611;
pub(super) const TITLE_AT: u64 = 0x1691;
pub(super) const TRANSFER_AT: u64 = 0x1711;
pub(super) const PICTURES_AT: u64 = 0x1712;
/// Places of the picture of the content, and of that of the title.
pub(super) const PICTURE_PLACES: [u64; 2] = [0x171a, 0x571a];
const MORE_NAMES_AT: u64 = 0x541a;
const MORE_DESCRIPTIONS_AT: u64 = 0x941a;
const INSTALLER_AT: u64 = 0x971a;
/// Bytes of a name or description, and how many there are in each layout.
pub(super) const NAME: usize = 0x100;
const NAMES: usize = 9;
const MORE_NAMES: usize = 3;
/// Bytes of publisher and title.
pub(super) const SHORT_NAME: usize = 0x80;
/// A header has at least what stands before the installer, and is no longer than this.
pub(super) const LEAST: u64 = INSTALLER_AT;
const MOST: u64 = 1 << 20;
/// Bytes of a block: the volume begins at a multiple.
pub(super) const BLOCK: u64 = 0x1000;

/// Languages of the names, in their order.
pub const LANGUAGES: [&str; 12] = [
    "English",
    "Japanese",
    "German",
    "French",
    "Spanish",
    "Italian",
    "Korean",
    "Traditional Chinese",
    "Portuguese",
    "Simplified Chinese",
    "Polish",
    "Russian",
];

/// By whom a package says that it is signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signer {
    /// A console.
    Console,
    /// The maker, for what is downloaded.
    Live,
    /// The maker, for what comes in other ways.
    Pirs,
}

impl Signer {
    /// The magic.
    pub const ALL: [([u8; 4], Self); 3] = [(*b"CON ", Self::Console), (*b"LIVE", Self::Live), (*b"PIRS", Self::Pirs)];

    /// As people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Console => "CON",
            Self::Live => "LIVE",
            Self::Pirs => "PIRS",
        }
    }
}

/// A header that was read.
pub struct Header {
    /// By whom it says that it is signed.
    pub signer: Signer,
    pub(super) head: Head,
    pub(super) bytes: Vec<u8>,
    certificate: Option<Certificate>,
}

impl Header {
    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right, and what reading fails with.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let malformed = |what: String, at: u64| Error::malformed(super::ID, what, at);
        let least = read_vec(source, 0, LEAST, "a header", LEAST)?;
        let magic = &least[..4];
        let Some((_, signer)) = Signer::ALL.iter().find(|(own, _)| own == magic) else {
            return Err(malformed("it begins with neither CON, LIVE nor PIRS".into(), 0));
        };
        let (head, _) = Head::read_from_prefix(&least[HEAD_AT as usize..])
            .map_err(|_| malformed("the header is cut short".into(), HEAD_AT))?;
        let len = u64::from(head.len.get());
        if !(LEAST..=MOST).contains(&len) {
            return Err(malformed(format!("a header of {len} bytes"), 0x340));
        }
        if head.volume_kind.get() > 1 {
            return Err(malformed(format!("a volume of kind {}", head.volume_kind), 0x3a9));
        }
        check_range(source.len(), 0, len)?;
        let bytes = read_vec(source, 0, len, "a header", MOST)?;
        let certificate = match signer {
            Signer::Console => Certificate::read_from_prefix(&bytes[4..]).ok().map(|(own, _)| own),
            _ => None,
        };
        Ok(Self { signer: *signer, head, bytes, certificate })
    }

    /// Where the volume begins: behind the header, at a block.
    pub fn end(&self) -> u64 {
        u64::from(self.head.len.get()).next_multiple_of(BLOCK)
    }

    /// Whether the SHA-1 of the header holds; nothing where the file ends before the header does.
    ///
    /// # Errors
    /// What reading fails with.
    pub(super) fn holds(&self, source: &SourceRef) -> Result<Option<bool>> {
        let end = self.end();
        if source.len() < end {
            return Ok(None);
        }
        let mut hasher = Hasher::new(Algorithm::Sha1);
        hasher.update(&read_vec(source.as_ref(), HASHED_FROM, end - HASHED_FROM, "a header", MOST)?);
        Ok(Some(hasher.finish().bytes == self.head.digest))
    }

    /// The title id.
    pub fn title_id(&self) -> u32 {
        self.head.title_id.get()
    }

    /// The content type.
    pub fn content_type(&self) -> u32 {
        self.head.content_type.get()
    }

    /// Whether it has the newer layout.
    fn is_newer(&self) -> bool {
        self.head.layout.get() >= 2
    }

    /// A text of UTF-16 up to its first zero.
    fn text(&self, at: u64, len: usize) -> String {
        let bytes = &self.bytes[at as usize..at as usize + len];
        let units: Vec<u16> =
            bytes.chunks_exact(2).map(|c| u16::from_be_bytes([c[0], c[1]])).take_while(|u| *u != 0).collect();
        String::from_utf16_lossy(&units).trim().to_owned()
    }

    fn texts(&self, at: u64, more_at: u64) -> Vec<(&'static str, String)> {
        let first = (0..NAMES).map(|i| at + (i * NAME) as u64);
        let more = (0..MORE_NAMES).map(|i| more_at + (i * NAME) as u64).filter(|_| self.is_newer());
        let texts = LANGUAGES.iter().zip(first.chain(more)).map(|(language, at)| (*language, self.text(at, NAME)));
        texts.filter(|(_, text)| !text.is_empty()).collect()
    }

    /// Names, each with its language.
    pub fn names(&self) -> Vec<(&'static str, String)> {
        self.texts(NAMES_AT, MORE_NAMES_AT)
    }

    /// Descriptions, each with its language.
    pub fn descriptions(&self) -> Vec<(&'static str, String)> {
        self.texts(DESCRIPTIONS_AT, MORE_DESCRIPTIONS_AT)
    }

    /// The publisher.
    pub fn publisher(&self) -> String {
        self.text(PUBLISHER_AT, SHORT_NAME)
    }

    /// The title that it belongs to.
    pub fn title(&self) -> String {
        self.text(TITLE_AT, SHORT_NAME)
    }

    /// The pictures that it says it has, where they fit: of the content, of the title.
    ///
    /// # Errors
    /// None that a header that was read could cause.
    pub(super) fn pictures(&self, source: &SourceRef) -> Result<Vec<(&'static str, SourceRef)>> {
        let most = if self.is_newer() { 0x3d00 } else { 0x4000 };
        let mut found: Vec<(&'static str, SourceRef)> = Vec::new();
        for (index, what) in ["icon", "title icon"].into_iter().enumerate() {
            let len = u64::from(be32(&self.bytes, PICTURES_AT as usize + 4 * index));
            if (1..=most).contains(&len) {
                found.push((what, Arc::new(Slice::new(source.clone(), PICTURE_PLACES[index], len)?)));
            }
        }
        Ok(found)
    }

    /// How it may be moved, in words.
    pub(super) fn transfer(&self) -> Vec<&'static str> {
        const FLAGS: [(u8, &str); 6] = [
            (0x80, "with the profile"),
            (0x40, "with the device"),
            (0x20, "moved, not copied"),
            (0x10, "for the motion sensor"),
            (0x08, "not to network storage"),
            (0x04, "deep links"),
        ];
        let bits = self.bytes[TRANSFER_AT as usize];
        FLAGS.iter().filter(|(bit, _)| bits & bit != 0).map(|(_, words)| *words).collect()
    }

    /// Whom its licences are for, in words.
    pub(super) fn licences(&self) -> Vec<String> {
        let used = self.head.licences.iter().filter(|l| l.id.get() != 0);
        used.map(|l| {
            let id = l.id.get();
            let whom = match id >> 48 {
                0xffff => "everybody".to_owned(),
                0x0009 => format!("profile {id:016X}"),
                0xf000 => format!("console {:010X}", id & 0xff_ffff_ffff),
                _ => format!("{id:016X}"),
            };
            match l.flags.get() {
                0 => whom,
                flags => format!("{whom} (flags {flags:#x})"),
            }
        })
        .collect()
    }

    /// What stands in the installer area, in words.
    pub(super) fn installer(&self) -> Option<String> {
        let at = INSTALLER_AT as usize;
        let area = self.bytes.get(at..at + 12)?;
        let versions = || format!("{} over {}", version(be32(area, 8)), version(be32(area, 4)));
        Some(match &area[..4] {
            b"SUPD" => format!("system update, {}", versions()),
            b"TUPD" => format!("title update, {}", versions()),
            b"P$SU" => "a system update that was not finished".into(),
            b"P$TU" => "a title update that was not finished".into(),
            _ => return None,
        })
    }

    /// The console that signed it, as hexadecimal digits, and its part number.
    pub(super) fn console(&self) -> Option<String> {
        let certificate = self.certificate.as_ref()?;
        let id = hex(&certificate.console_id);
        let part: String =
            certificate.part_number.iter().take_while(|b| b.is_ascii_graphic()).map(|&b| char::from(b)).collect();
        Some(if part.is_empty() { id } else { format!("{id}, part {part}") })
            .filter(|_| certificate.console_id != [0; 5])
    }

    /// What it is, in words.
    pub fn what(&self) -> String {
        kind::of(self.content_type()).0
    }
}

/// Capital hexadecimal digits.
pub(super) fn hex(bytes: &[u8]) -> String {
    decanter_core::digest::hex(bytes).to_uppercase()
}
