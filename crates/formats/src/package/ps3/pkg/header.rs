//! The header of a package, its metadata packets, and the digests of both.

use super::ID;
use super::raw::{Digests, Head, Packet};
use crate::num::{be16, be32};
use crate::raw::{read_at, split};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::keyring::Key;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};
use zerocopy::IntoBytes;

/// Bytes of the header.
pub const LEN: u64 = 0xc0;
/// What it begins with.
pub const MAGIC: [u8; 4] = *b"\x7fPKG";
/// Bytes of it that its digests are of.
const DIGESTED: usize = 0x80;
/// Bytes of a block of digests.
pub const DIGESTS: u64 = 0x40;
/// What the extended header begins with, and the byte that names its key.
const EXTENDED: [u8; 4] = *b"\x7fext";
const EXTENDED_KEY_AT: u64 = 0xe4;
/// Packages have about ten packets of a few dozen bytes.
const MOST_PACKETS: u32 = 256;
const MOST_METADATA: u64 = 1 << 20;
/// Revision of finalized packages.
pub const FINALIZED: u16 = 0x8000;
/// Platforms.
pub const PS3: u16 = 1;
/// PSP and PS Vita.
pub const HANDHELD: u16 = 2;

/// What a package contains, by its number in the metadata.
pub const CONTENT_TYPES: [(u32, &str); 21] = [
    (4, "game data"),
    (5, "game"),
    (6, "PS1 game"),
    (7, "PSP or PC Engine game"),
    (9, "theme"),
    (10, "widget"),
    (11, "licence"),
    (12, "module of the system's menu"),
    (13, "avatar"),
    (14, "PSP game"),
    (15, "minis"),
    (16, "NeoGeo game"),
    (17, "memory card"),
    (18, "PS2 classic"),
    (20, "PSP remaster"),
    (21, "PS Vita game"),
    (22, "PS Vita add-on"),
    (23, "PS Vita live area"),
    (24, "PSM program"),
    (25, "web video"),
    (31, "PS Vita theme"),
];

/// A metadata packet: id and value.
type Told = (u32, Vec<u8>);

/// The header of a package and what its metadata says.
pub struct Header {
    /// As it stands.
    pub(super) raw: Head,
    /// The packets.
    packets: Vec<Told>,
    /// The metadata's bytes, and the digests behind them, where there is room for some.
    metadata: Vec<u8>,
    digests: Option<Digests>,
    /// Number of the key on platform 2.
    pub key_number: u8,
}

/// Whether digests of some bytes hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Held {
    /// They do.
    Yes,
    /// They do not.
    No,
    /// There are none, or none that can be checked.
    Absent,
}

impl Header {
    /// Reads header and metadata.
    ///
    /// # Errors
    /// [`Error::Malformed`] for what cannot be right.
    pub fn read(source: &dyn Source) -> Result<Self> {
        let raw: Head = read_at(source, 0)?;
        if raw.magic != MAGIC {
            return Err(Error::malformed(ID, "it does not begin with 7F 50 4B 47", 0));
        }
        let (at, data_at) = (u64::from(raw.metadata_at.get()), raw.data_at.get());
        if data_at < LEN {
            return Err(Error::malformed(ID, format!("a data area at {data_at:#x}, inside the header"), 0x20));
        }
        if raw.data_at.get().checked_add(raw.data_len.get()).is_none_or(|end| end > u64::MAX / 2) {
            return Err(Error::malformed(ID, "a data area of an impossible length", 0x28));
        }
        let (packets, end) = if raw.packets.get() == 0 { (Vec::new(), at) } else { packets(source, &raw, at)? };
        // Metadata that stands somewhere else has no digests that are known here.
        let inside = (LEN..=end).contains(&at) && end + DIGESTS <= data_at && end + DIGESTS <= source.len();
        let metadata = match inside {
            true => read_vec(source, at, end - at, "metadata packets", MOST_METADATA)?,
            false => Vec::new(),
        };
        let digests = if inside && !packets.is_empty() { Some(read_at(source, end)?) } else { None };
        let mut key_number = 0;
        if raw.platform.get() == HANDHELD && source.len() > EXTENDED_KEY_AT + 4 {
            let extended: [u8; 4] = decanter_core::source::read_array(source, LEN)?;
            let word: [u8; 4] = decanter_core::source::read_array(source, EXTENDED_KEY_AT)?;
            key_number = if extended == EXTENDED { word[3] & 7 } else { 0 };
        }
        Ok(Self { raw, packets, metadata, digests, key_number })
    }

    /// Whether it is a finalized package, under a key.
    pub fn is_finalized(&self) -> bool {
        self.raw.revision.get() & FINALIZED != 0
    }

    /// Whether it is for the PSP or the PS Vita.
    pub fn is_handheld(&self) -> bool {
        self.raw.platform.get() == HANDHELD
    }

    /// The content id, up to its first zero; what is no ASCII is replaced.
    pub fn content_id(&self) -> String {
        crate::package::ps3::content_id::text(&self.raw.content_id)
    }

    /// The value of the first packet with this id.
    pub fn packet(&self, id: u32) -> Option<&[u8]> {
        self.packets.iter().find(|(known, _)| *known == id).map(|(_, value)| value.as_slice())
    }

    /// The number in a packet of four bytes.
    pub fn number(&self, id: u32) -> Option<u32> {
        self.packet(id).filter(|value| value.len() == 4).map(|value| be32(value, 0))
    }

    /// Content type and what it stands for.
    pub fn content_type(&self) -> Option<(u32, &'static str)> {
        let number = self.number(2)?;
        let name = CONTENT_TYPES.iter().find(|(known, _)| *known == number).map_or("content", |(_, name)| *name);
        Some((number, name))
    }

    /// DRM in words.
    pub fn drm(&self) -> Option<String> {
        Some(format!("{} licence", crate::package::ps3::licence::kind(self.number(1)?)))
    }

    /// Version of the package, as `01.00`.
    pub fn version(&self) -> Option<String> {
        let value = self.packet(5).filter(|value| value.len() >= 4)?;
        let version = be16(value, 2);
        (version != 0).then(|| format!("{:02x}.{:02x}", version >> 8, version & 0xff))
    }

    /// Version of the system that it needs, as `04.2000`.
    pub fn system(&self) -> Option<String> {
        let value = self.packet(8).filter(|value| value.len() >= 4)?;
        (value[1..4] != [0; 3]).then(|| format!("{:02x}.{:02x}{:02x}", value[1], value[2], value[3]))
    }

    /// The folder that it is installed to.
    pub fn folder(&self) -> Option<String> {
        let value = self.packet(10).filter(|value| value.len() > 8)?;
        Some(crate::package::ps3::content_id::text(&value[8..])).filter(|folder| !folder.is_empty())
    }

    /// The title id in a packet, or in the content id.
    pub fn title_id(&self) -> Option<String> {
        let told = self.packet(6).map(crate::package::ps3::content_id::text).filter(|id| !id.is_empty());
        told.or_else(|| crate::package::ps3::content_id::title_id(&self.content_id()).map(str::to_owned))
    }

    /// Whether the digests of the header hold.
    pub fn holds(&self) -> Held {
        held(&self.raw.as_bytes()[..DIGESTED], &self.raw.digests, self.is_finalized())
    }

    /// Whether the digests of the metadata hold.
    pub fn metadata_holds(&self) -> Held {
        self.digests.map_or(Held::Absent, |digests| held(&self.metadata, &digests, self.is_finalized()))
    }

    /// Whether the CMACs that are there hold under `key`; `None` in debug packages, and where there is none.
    ///
    /// # Errors
    /// [`Error::Usage`] for a key that has not 16 bytes.
    pub fn mac_holds(&self, key: &Key) -> Result<Option<bool>> {
        let own = self.raw.digests.mac;
        if !self.is_finalized() || own == [0; 16] {
            return Ok(None);
        }
        Ok(Some(super::super::cmac(key, &self.raw.as_bytes()[..DIGESTED])? == own))
    }
}

/// The packets, and where they end.
fn packets(source: &dyn Source, raw: &Head, at: u64) -> Result<(Vec<Told>, u64)> {
    let count = raw.packets.get();
    if count > MOST_PACKETS {
        return Err(Error::malformed(ID, format!("{count} metadata packets"), 0x0c));
    }
    let room = source.len().saturating_sub(at).min(MOST_METADATA);
    let bytes = read_vec(source, at, room, "metadata packets", MOST_METADATA)?;
    let (mut rest, mut packets) = (bytes.as_slice(), Vec::new());
    for _ in 0..count {
        let here = at + (bytes.len() - rest.len()) as u64;
        let (packet, after) = split::<Packet>(ID, "a metadata packet", rest, here)?;
        let len = packet.len.get() as usize;
        let Some((value, after)) = after.split_at_checked(len) else {
            let what = format!("metadata packet {} of {len} bytes, which are not there", packet.id);
            return Err(Error::malformed(ID, what, here + 4));
        };
        packets.push((packet.id.get(), value.to_vec()));
        rest = after;
    }
    let end = at + (bytes.len() - rest.len()) as u64;
    Ok((packets, end.next_multiple_of(16)))
}

/// Whether a block of digests is that of `bytes`: by the end of their SHA-1, or as debug packages have it.
fn held(bytes: &[u8], digests: &Digests, is_finalized: bool) -> Held {
    let found = of_bytes(Algorithm::Sha1, bytes).bytes;
    if digests.hash == found[12..] || (!is_finalized && digests.mac == found[3..19]) {
        return Held::Yes;
    }
    let is_empty = digests.hash == [0; 8] && (is_finalized || digests.mac == [0; 16]);
    if is_empty { Held::Absent } else { Held::No }
}

/// The block of digests of `bytes`: under `key`, or as debug packages have it. The signature is zeros.
///
/// # Errors
/// [`Error::Usage`] for a key that has not 16 bytes.
pub fn digests_of(bytes: &[u8], key: Option<&Key>) -> Result<[u8; DIGESTS as usize]> {
    let found = of_bytes(Algorithm::Sha1, bytes).bytes;
    let mut block = [0; DIGESTS as usize];
    match key {
        Some(key) => block[..16].copy_from_slice(&super::super::cmac(key, bytes)?),
        None => block[..16].copy_from_slice(&found[3..19]),
    }
    block[0x38..].copy_from_slice(&found[12..]);
    Ok(block)
}
