//! The header of an encrypted image.

use super::ID;
use crate::package::ps3::keys::{self, Role};
use crate::package::ps3::{cmac, mixed};
use crate::raw::{layouts, read_at};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::Source;
use decanter_core::tell::grouped;
use decanter_core::{Error, Result};
use zerocopy::byteorder::big_endian::{U16, U32, U64};
use zerocopy::{FromZeros, IntoBytes};

layouts! {
    /// Beginning of the file.
    Head: 0x100 {
        magic: [u8; 4],
        major: U16,
        minor: U16,
        license: U32,
        kind: U32,
        content_id: [u8; 0x30],
        digest: [u8; 16],
        title_hash: [u8; 16],
        header_hash: [u8; 16],
        valid_from: U64,
        valid_to: U64,
        flags: U32,
        segment_len: U32,
        image_len: U64,
        rest: [u8; 0x70],
    }
}

/// What it begins with.
pub const MAGIC: [u8; 4] = *b"PS2\0";
/// Bytes of a segment.
pub const SEGMENT: u64 = 0x4000;
/// Segments of the image that one table describes.
pub const IN_GROUP: u64 = 512;
/// Bytes of an entry of a table.
pub const ENTRY: usize = 0x20;
/// The longest image that is read: several times what a disc has.
const MOST_IMAGE: u64 = 1 << 36;
/// Bytes that the two hashes are of: content id, and header.
const HASHED_HEADER: usize = 0x60;
/// The name that the file has on the console.
const FILE: &[u8] = b"ISO.BIN.ENC";
const LOCAL: u32 = 2;

/// What the header says.
pub struct Header {
    raw: Head,
    /// Whose image it is.
    pub content_id: String,
    /// 1 network, 2 local, 3 free.
    pub license: u32,
    /// Bytes of the image.
    pub image_len: u64,
}

impl Header {
    /// Reads it.
    ///
    /// # Errors
    /// [`Error::Malformed`] for segments of another length, and an image that is longer than any.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let head: Head = read_at(source, 0)?;
        if head.magic != MAGIC {
            return Err(Error::malformed(ID, "it does not begin with PS2 and a zero", 0));
        }
        let segment = head.segment_len.get();
        if u64::from(segment) != SEGMENT {
            return Err(Error::malformed(ID, format!("segments of {segment:#x} bytes"), 0x84));
        }
        let image_len = head.image_len.get();
        if image_len > MOST_IMAGE {
            return Err(Error::malformed(ID, format!("an image of {} bytes", grouped(image_len)), 0x88));
        }
        let content_id = crate::package::ps3::content_id::text(&head.content_id);
        Ok(Self { raw: head, content_id, license: head.license.get(), image_len })
    }

    /// Whether the hashes that are there are those of these secrets: what each is of, and whether it holds.
    ///
    /// # Errors
    /// [`Error::Usage`] for a key that has not 16 bytes.
    pub fn held(&self, hashes: &Hashes) -> Result<Vec<(&'static str, bool)>> {
        let mut held = Vec::new();
        if let Some(key) = hashes.title.as_ref().filter(|_| self.raw.title_hash != [0; 16]) {
            held.push(("hash of content id and name", hash_of_title(&self.raw, key)? == self.raw.title_hash));
        }
        if let Some(key) = hashes.header.as_ref().filter(|_| self.raw.header_hash != [0; 16]) {
            held.push(("hash of the header", hash_of_header(&self.raw, key)? == self.raw.header_hash));
        }
        Ok(held)
    }

    /// Segments of the image.
    pub fn segments(&self) -> u64 {
        self.image_len.div_ceil(SEGMENT)
    }

    /// Bytes of the whole file.
    pub fn file_len(&self) -> u64 {
        SEGMENT * (1 + self.segments().div_ceil(IN_GROUP) + self.segments())
    }
}

/// Where a group's table stands; its segments follow it.
pub fn table_at(group: u64) -> u64 {
    SEGMENT * (1 + group * (IN_GROUP + 1))
}

/// Where a segment of the image stands.
pub fn segment_at(number: u64) -> u64 {
    table_at(number / IN_GROUP) + SEGMENT * (1 + number % IN_GROUP)
}

fn hash_of_title(head: &Head, key: &Key) -> Result<[u8; 16]> {
    cmac(key, &[&head.content_id, FILE].concat())
}

fn hash_of_header(head: &Head, key: &Key) -> Result<[u8; 16]> {
    cmac(key, &head.as_bytes()[..HASHED_HEADER])
}

/// Secrets for the hashes of a header, where they are known.
#[derive(Default)]
pub struct Hashes {
    /// For the content id and the name of the file.
    pub title: Option<Key>,
    /// For the header, already with the licence key in it.
    pub header: Option<Key>,
}

impl Hashes {
    /// Those of a ring, with this licence key.
    pub fn of(ring: &Keyring, licence: &Key) -> Self {
        let secret = |role| keys::find(ring, role, "").ok().map(|(key, _)| key);
        let header = secret(Role::NpdHeader).map(|key| mixed(&key, licence.bytes()));
        Self { title: secret(Role::NpdTitle), header }
    }
}

/// The first segment of a file.
///
/// # Errors
/// [`Error::Usage`] for a key that has not 16 bytes.
pub fn compose(content_id: &str, image_len: u64, hashes: &Hashes) -> Result<Vec<u8>> {
    let mut head = Head::new_zeroed();
    head.magic = MAGIC;
    head.major.set(1);
    head.minor.set(1);
    head.license.set(LOCAL);
    head.kind.set(1);
    let id = content_id.as_bytes();
    head.content_id[..id.len().min(0x30)].copy_from_slice(&id[..id.len().min(0x30)]);
    let seed = [head.content_id.as_slice(), &image_len.to_be_bytes()].concat();
    head.digest.copy_from_slice(&of_bytes(Algorithm::Sha1, &seed).bytes[..16]);
    if let Some(key) = &hashes.title {
        head.title_hash = hash_of_title(&head, key)?;
    }
    if let Some(key) = &hashes.header {
        head.header_hash = hash_of_header(&head, key)?;
    }
    head.segment_len.set(SEGMENT as u32);
    head.image_len.set(image_len);
    let mut bytes = head.as_bytes().to_vec();
    bytes.resize(SEGMENT as usize, 0);
    Ok(bytes)
}
