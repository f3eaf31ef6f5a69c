//! The header of a container, and its table of entries.

use super::entry;
use super::raw::{Digests, Entry as Raw, Head, ImagePart};
use crate::package::ps3::content_id::text;
use crate::raw::read_at;
use decanter_core::source::{Source, read_array, read_vec};
use decanter_core::{Error, Result};
use zerocopy::{FromBytes, IntoBytes};

pub(super) const MAGIC: [u8; 4] = *b"\x7fCNT";
/// Where parts of the header stand.
pub(super) const DIGESTS_AT: u64 = 0x100;
pub(super) const IMAGE_AT: u64 = 0x400;
pub(super) const DIGEST_AT: u64 = 0xfe0;
pub(super) const CODE_AT: u64 = 0x1000;
/// Where the header ends: a code of 256 bytes follows its 4,096.
pub(super) const LEN: u64 = 0x1100;
/// Entries of a container.
const MOST_ENTRIES: u32 = 0x4000;
/// Bytes of the names of all entries.
const MOST_NAMES: u64 = 1 << 20;
/// Bits of the content flags that mark an update with nothing but changes.
const DELTA: u32 = 0x4100_0000;
/// In the flags of the image: its keys are made in the newer way.
pub(super) const SEEDED: u64 = 0x2000_0000_0000_0000;

/// An entry.
#[derive(Debug, Clone)]
pub struct Entry {
    /// What it is.
    pub id: u32,
    /// The name that the container gives it; empty where it gives none.
    pub name: String,
    pub(super) raw: Raw,
}

impl Entry {
    /// Where its bytes are.
    pub fn at(&self) -> u64 {
        self.raw.at.get().into()
    }

    /// How many there are.
    pub fn len(&self) -> u64 {
        self.raw.len.get().into()
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Whether it is encrypted.
    pub fn is_encrypted(&self) -> bool {
        self.raw.flags.get() & entry::ENCRYPTED != 0
    }

    /// Bytes that it takes: what is encrypted is filled up.
    pub(super) fn stored_len(&self) -> u64 {
        if self.is_encrypted() { self.len().next_multiple_of(16) } else { self.len() }
    }

    /// The number of the key that it is under.
    pub fn key(&self) -> u32 {
        self.raw.key.get() >> 12 & 0xf
    }

    /// Its path as a file; `None` for a part of the container.
    pub fn path(&self) -> Option<String> {
        if entry::is_part(self.id) {
            return None;
        }
        let known = || entry::name(self.id).unwrap_or_else(|| format!("entry-{:04x}.bin", self.id));
        Some(entry::path(&if self.name.is_empty() { known() } else { self.name.clone() }))
    }
}

/// A header that was read.
pub struct Header {
    pub(super) head: Head,
    pub(super) digests: Digests,
    pub(super) image: ImagePart,
    /// The entries, in the order of the table.
    pub entries: Vec<Entry>,
}

impl Header {
    /// Reads one.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right, and what reading fails with.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let malformed = |what: String, at: u64| Error::malformed(super::ID, what, at);
        let head: Head = read_at(source, 0)?;
        if head.magic != MAGIC {
            return Err(malformed("it does not begin with 7f CNT".into(), 0));
        }
        let (count, at) = (head.entries.get(), u64::from(head.table_at.get()));
        if count > MOST_ENTRIES {
            return Err(malformed(format!("{count} entries"), 0x10));
        }
        let len = u64::from(count) * size_of::<Raw>() as u64;
        if at < LEN || at + len > source.len() {
            return Err(malformed(format!("a table of {count} entries at {at:#x}"), 0x18));
        }
        let bytes = read_vec(source, at, len, "a table of entries", len)?;
        let (raws, _) = <[Raw]>::ref_from_prefix_with_elems(&bytes, count as usize)
            .map_err(|_| malformed("the table of entries is cut short".into(), at))?;
        let mut own = Self {
            head,
            digests: read_at(source, DIGESTS_AT)?,
            image: read_at(source, IMAGE_AT)?,
            entries: raws.iter().map(|raw| Entry { id: raw.id.get(), name: String::new(), raw: *raw }).collect(),
        };
        own.read_names(source)?;
        Ok(own)
    }

    fn read_names(&mut self, source: &dyn Source) -> Result<()> {
        let Some((at, len)) = self.entry(entry::NAMES).map(|e| (e.at(), e.len())) else { return Ok(()) };
        // Where they are not all there, entries are called by their ids.
        let len = len.min(MOST_NAMES).min(source.len().saturating_sub(at));
        let names = read_vec(source, at.min(source.len()), len, "names of entries", MOST_NAMES)?;
        for entry in self.entries.iter_mut().filter(|e| e.raw.name_at.get() > 0) {
            let name = names.get(entry.raw.name_at.get() as usize..).unwrap_or_default();
            entry.name = text(name).trim_matches('/').to_owned();
        }
        Ok(())
    }

    /// The entry with this id.
    pub fn entry(&self, id: u32) -> Option<&Entry> {
        self.entries.iter().find(|e| e.id == id)
    }

    /// The content id.
    pub fn content_id(&self) -> String {
        text(&self.head.content_id)
    }

    /// The content id as keys are made of it: with zeros behind it.
    pub(super) fn content_id_bytes(&self) -> [u8; 48] {
        let mut own = [0; 48];
        own[..36].copy_from_slice(&self.head.content_id);
        own
    }

    /// What its content is: number, and words.
    pub fn content_type(&self) -> (u32, &'static str) {
        let number = self.head.content_type.get();
        let words = match number {
            0x1a => "game",
            0x1b => "add-on with data",
            0x1c => "add-on without data",
            0x1e => "update with changes alone",
            _ => "content of another kind",
        };
        (number, words)
    }

    /// Whether it holds a game, or an update of one.
    pub fn is_game(&self) -> bool {
        self.content_type().0 == 0x1a
    }

    /// How it is protected, in words.
    pub(super) fn drm(&self) -> String {
        match self.head.drm.get() {
            0 => "none".into(),
            0xf => "PS4".into(),
            other => format!("kind {other:#x}"),
        }
    }

    /// Whether it holds nothing but what changed.
    pub fn is_delta(&self) -> bool {
        let has_entries = entry::DELTA.iter().all(|id| self.entry(*id).is_some());
        self.head.content_flags.get() & DELTA == DELTA || self.content_type().0 == 0x1e || has_entries
    }

    /// Where the image is, and how long; `None` where there is none.
    pub fn image(&self) -> Option<(u64, u64)> {
        let (at, len) = (self.image.at.get(), self.image.len.get());
        (self.image.images.get() > 0 && len > 0).then_some((at, len))
    }

    /// Where it ends, as it says itself, and at least where the image does.
    pub fn end(&self) -> u64 {
        let image = self.image().map_or(0, |(at, len)| at.saturating_add(len));
        let body = self.head.body_at.get().saturating_add(self.head.body_len.get());
        self.image.package_len.get().max(image).max(body)
    }

    /// Whether the keys of the image are made in the newer way.
    pub(super) fn is_seeded(&self) -> bool {
        self.image.flags.get() & SEEDED != 0
    }

    /// The digest at its end, as it is stored.
    pub(super) fn digest(source: &dyn Source) -> Result<[u8; 32]> {
        read_array(source, DIGEST_AT)
    }
}

/// The record of an entry, as keys are made of it.
pub(super) fn record(entry: &Raw) -> &[u8] {
    entry.as_bytes()
}
