//! The header of a gamecard image and its partitions.

use super::bad;
use crate::package::nx::beginnings::hashed;
use crate::package::nx::contents::Held;
use crate::package::nx::keys::{self, Role};
use crate::package::nx::partition::{Kinds, Partition};
use crate::package::nx::raw::{CardHead, CardInfo};
use crate::package::nx::sha256;
use crate::raw::split;
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::seal::Settled;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::view::{Direction, Slice};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;
use zerocopy::{FromBytes, FromZeros, IntoBytes};

/// Bytes of the key area that some images have before their header.
pub const KEY_AREA: u64 = 0x1000;
/// Bytes of the header.
pub const HEAD: u64 = 0x200;
/// Bytes of a media unit.
pub const UNIT: u64 = 0x200;
/// The largest header of a file system that is hashed.
const MOST_HASHED: u64 = 64 << 20;
const MATTERS: &str = "emulators and consoles may refuse the card: dump it again";

/// The size of a card.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Class {
    /// 1 GB.
    One,
    /// 2 GB.
    Two,
    /// 4 GB.
    Four,
    /// 8 GB.
    Eight,
    /// 16 GB.
    Sixteen,
    /// 32 GB.
    ThirtyTwo,
}

impl Class {
    /// All of them, the smallest first.
    pub const ALL: [Self; 6] = [Self::One, Self::Two, Self::Four, Self::Eight, Self::Sixteen, Self::ThirtyTwo];

    /// By its number in the header.
    pub fn of(number: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|c| c.number() == number)
    }

    /// Its number in the header.
    pub fn number(self) -> u8 {
        match self {
            Self::One => 0xfa,
            Self::Two => 0xf8,
            Self::Four => 0xf0,
            Self::Eight => 0xe0,
            Self::Sixteen => 0xe1,
            Self::ThirtyTwo => 0xe2,
        }
    }

    /// As it is printed on the card.
    pub fn gigabytes(self) -> u64 {
        match self {
            Self::One => 1,
            Self::Two => 2,
            Self::Four => 4,
            Self::Eight => 8,
            Self::Sixteen => 16,
            Self::ThirtyTwo => 32,
        }
    }

    /// Bytes that a card of it holds: 0x3B800000 for each GB.
    pub fn bytes(self) -> u64 {
        self.gigabytes() * 0x3b80_0000
    }

    /// The smallest card that holds so many bytes.
    pub fn for_len(len: u64) -> Option<Self> {
        Self::ALL.into_iter().find(|c| c.bytes() >= len)
    }
}

/// A partition of the root.
#[derive(Debug, Clone)]
pub struct Area {
    /// Its name.
    pub name: String,
    /// Where it is, in bytes of the image.
    pub range: Range<u64>,
    /// The files in it, or why they cannot be read.
    pub files: std::result::Result<Partition, String>,
}

/// What the encrypted part of the header says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Info {
    /// Version of the system update on the card.
    pub update: u32,
}

/// A gamecard image.
#[derive(Clone)]
pub struct Card {
    /// Where the header is: behind the key area, if there is one.
    pub at: u64,
    /// The header's 0x200 bytes.
    pub head: Vec<u8>,
    /// Size of the card.
    pub class: Option<Class>,
    /// What the encrypted part says: `None` where it is all zeros.
    pub info: std::result::Result<Option<Info>, KeyTrouble>,
    /// The partitions.
    pub partitions: Vec<Area>,
    /// What headers say of each other.
    pub settled: Vec<Settled>,
    valid_end: u32,
}

impl Card {
    /// Opens an image.
    ///
    /// # Errors
    /// [`Error::Malformed`] for a header or a root that cannot be right. A partition that cannot be read is a state.
    pub fn read(source: &SourceRef, keys: &Keyring) -> Result<Self> {
        let is_head = |at: u64| -> Result<bool> {
            Ok(source.len() >= at + HEAD
                && decanter_core::source::read_array::<4>(source.as_ref(), at + 0x100)? == *b"HEAD")
        };
        let at = match (is_head(0)?, is_head(KEY_AREA)?) {
            (true, _) => 0,
            (_, true) => KEY_AREA,
            _ => return bad("no HEAD mark", 0x100),
        };
        let head = read_vec(source.as_ref(), at, HEAD, "the header of a gamecard image", HEAD)?;
        let (card, _) = split::<CardHead>(super::ID, "the header", &head[0x100..], at + 0x100)?;
        let (root_at, root_len) = (card.root_at.get(), card.root_len.get());
        let root_start = root_at.checked_add(at).filter(|s| s.saturating_add(root_len) <= source.len());
        let Some(root_start) = root_start.filter(|_| root_len >= 0x10) else {
            return bad(format!("a root of {root_len} bytes at {root_at:#x}, behind the end of the file"), at + 0x130);
        };
        let rest: SourceRef = Arc::new(Slice::new(source.clone(), root_start, source.len() - root_start)?);
        let root = Partition::read(rest.as_ref(), Kinds::Hashed).map_err(|e| shifted(e, root_start))?;
        let head_bytes = read_vec(source.as_ref(), root_start, root_len, "the root of a card", MOST_HASHED)?;
        let mut settled = Vec::new();
        let is_root = sha256(&head_bytes) == card.root_hash;
        settled.push(holds_or(
            "the root of the card, by the header",
            is_root,
            "its SHA-256 is not the one that the header says",
        ));
        settled.extend(hashed(&root, &rest)?);
        let mut partitions = Vec::new();
        for entry in &root.entries {
            let range = root_start + entry.range.start..root_start + entry.range.end;
            let there = range.end.min(source.len()).saturating_sub(range.start);
            let own: SourceRef = Arc::new(Slice::new(source.clone(), range.start.min(source.len()), there)?);
            let files = match Partition::read(own.as_ref(), Kinds::Hashed) {
                Ok(files) => Ok(files),
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => Err(e.to_string()),
            };
            partitions.push(Area { name: entry.name.clone(), range, files });
        }
        let (class, valid_end) = (Class::of(card.size_class), card.valid_end.get());
        let info = info(card, keys);
        let (info, settled_secure) = (info, secure(card, &partitions, at));
        settled.extend(settled_secure);
        Ok(Self { at, class, info, partitions, settled, valid_end, head })
    }

    /// Where the bytes that are in use end: the length of a trimmed image.
    pub fn trimmed_len(&self) -> u64 {
        self.at + (u64::from(self.valid_end) + 1) * UNIT
    }

    /// Length of a full image.
    pub fn full_len(&self) -> Option<u64> {
        self.class.map(|c| self.at + c.bytes())
    }

    /// What stands on the card besides the titles: name, number of files and their bytes, of partitions with some.
    pub fn besides(&self) -> impl Iterator<Item = (&str, usize, u64)> {
        let others = self.partitions.iter().filter(|p| p.name != super::SECURE);
        others.filter_map(|p| {
            let files = &p.files.as_ref().ok()?.entries;
            let bytes = files.iter().map(|e| e.range.end - e.range.start).sum();
            (!files.is_empty()).then_some((p.name.as_str(), files.len(), bytes))
        })
    }

    /// The files of a partition, none where it is not there or cannot be read.
    ///
    /// # Errors
    /// When a slice cannot be made, which checked entries rule out.
    pub fn files(&self, name: &str, source: &SourceRef) -> Result<Vec<Held>> {
        let Some(area) = self.partitions.iter().find(|p| p.name == name) else { return Ok(Vec::new()) };
        let Ok(files) = &area.files else { return Ok(Vec::new()) };
        let place = |r: &Range<u64>| area.range.start + r.start..area.range.start + r.end;
        files.entries.iter().map(|e| Held::of(&e.name, source, &place(&e.range))).collect()
    }

    /// The hashes of the beginnings of all files.
    ///
    /// # Errors
    /// What the machine is to blame for.
    pub fn inspect(&self, source: &SourceRef) -> Result<Vec<Settled>> {
        let mut all = Vec::new();
        for area in &self.partitions {
            let start = area.range.start.min(source.len());
            let own: SourceRef = Arc::new(Slice::new(source.clone(), start, source.len() - start)?);
            match &area.files {
                Ok(files) => {
                    let found = hashed(files, &own)?;
                    all.extend(
                        found
                            .into_iter()
                            .map(|s| Settled { name: format!("partition {}: {}", area.name, s.name), ..s }),
                    );
                }
                Err(why) => all.push(Settled::fails(format!("partition {}", area.name), why, MATTERS)),
            }
        }
        Ok(all)
    }
}

/// An error of the root, with its offset in the image.
fn shifted(error: Error, by: u64) -> Error {
    match error {
        Error::Malformed { format, what, offset } => Error::Malformed { format, what, offset: offset + by },
        other => other,
    }
}

fn holds_or(name: &str, holds: bool, why: &str) -> Settled {
    match holds {
        true => Settled::holds(name).by_digests(),
        false => Settled::fails(name, why, MATTERS).by_digests(),
    }
}

/// The secure partition stands where the header says.
fn secure(card: &CardHead, partitions: &[Area], at: u64) -> Option<Settled> {
    let area = partitions.iter().find(|p| p.name == super::SECURE)?;
    let said = at + u64::from(card.secure_start.get()) * UNIT;
    let name = "where the secure partition begins, by the header";
    Some(match area.range.start == said {
        true => Settled::holds(name),
        false => Settled::fails(name, format!("the header says {said:#x}, the root {:#x}", area.range.start), MATTERS),
    })
}

/// AES-128-CBC over the encrypted part of the header; the vector stands in the header back to front.
fn turn(key: &Key, iv: &[u8; 16], direction: Direction, bytes: &mut [u8]) -> Result<()> {
    use aes::cipher::{Array, BlockModeDecrypt, BlockModeEncrypt, KeyIvInit, consts::U16};
    let mut back = *iv;
    back.reverse();
    let (key, iv) = (Array::from(*key.bytes16()?), Array::from(back));
    let (blocks, _) = Array::<u8, U16>::slice_as_chunks_mut(bytes);
    match direction {
        Direction::Decrypt => cbc::Decryptor::<aes::Aes128>::new(&key, &iv).decrypt_blocks(blocks),
        Direction::Encrypt => cbc::Encryptor::<aes::Aes128>::new(&key, &iv).encrypt_blocks(blocks),
    }
    Ok(())
}

fn info(card: &CardHead, keys: &Keyring) -> std::result::Result<Option<Info>, KeyTrouble> {
    const WHAT: &str = "the encrypted part of a gamecard's header";
    if card.info == [0; 0x70] {
        return Ok(None);
    }
    let (key, origin) = keys::find(keys, Role::CardHeader, WHAT)?;
    let mut bytes = card.info;
    let turned = turn(&key, &card.iv, Direction::Decrypt, &mut bytes);
    let own = CardInfo::read_from_bytes(&bytes[..]).ok().filter(|_| turned.is_ok());
    // The end of it is zeros, and the access word one of two.
    match own.filter(|own| own.rest == [0; 0x38] && own.reserved == [0; 3]) {
        Some(own) => Ok(Some(Info { update: own.update_version.get() })),
        None => Err(keys::wrong(keys, Role::CardHeader, WHAT, &origin)),
    }
}

/// What the encrypted part of a header is made of, for a card that was made of packages: 25 MHz, no system update.
pub(super) fn sealed_info(key: &Key, iv: &[u8; 16]) -> Result<[u8; 0x70]> {
    let mut own = CardInfo::new_zeroed();
    own.firmware.set(1);
    own.access.set(0x00a1_0011);
    let waits: [u32; 4] = [0x1388, 0, 0, 0];
    own.waits.copy_from_slice(waits.as_bytes());
    let mut bytes = [0; 0x70];
    bytes.copy_from_slice(own.as_bytes());
    turn(key, iv, Direction::Encrypt, &mut bytes)?;
    Ok(bytes)
}
