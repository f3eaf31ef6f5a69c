//! Headers of new packages.

use super::header::{BLOCK, HASHED_FROM, HEAD_AT, Header, NAME, NAMES_AT, PICTURE_PLACES, PICTURES_AT};
use super::header::{LANGUAGES, PUBLISHER_AT, SHORT_NAME, Signer, TITLE_AT, TRANSFER_AT};
use super::raw::{Head, License};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::{Error, Result};
use std::ops::Range;
use zerocopy::{FromZeros, IntoBytes};

/// Where the descriptions stand.
const DESCRIPTIONS_AT: u64 = 0xd11;
/// The layout that is written: with three more languages.
const LAYOUT: u32 = 2;
/// Places of the three more names and descriptions.
const MORE_AT: [u64; 2] = [0x541a, 0x941a];
/// Bytes of a picture.
pub const MOST_PICTURE: usize = 0x3d00;
/// Bytes of a certificate, which is all zeros.
const CERTIFICATE: u16 = 0x1a8;
/// The signature of a console, behind its certificate.
const CONSOLE_SIGNATURE: Range<usize> = 0x1ac..HEAD_AT as usize;
/// Bytes of a header without an installer area, and with one.
const SHORT: u32 = 0x971a;
const LONG: u32 = 0xad0e;

/// What a new package says of itself.
#[derive(Debug, Clone)]
pub struct Making {
    /// Who should have signed it: the signature is zeros.
    pub signer: Signer,
    /// Content type.
    pub content_type: u32,
    /// Title id.
    pub title_id: u32,
    /// Media id.
    pub media_id: u32,
    /// Version, and base version.
    pub versions: [u32; 2],
    /// Platform, and kind of executable.
    pub platform: [u8; 2],
    /// Disc, and discs of the set.
    pub discs: [u8; 2],
    /// Console id.
    pub console_id: [u8; 5],
    /// Profile id.
    pub profile_id: [u8; 8],
    /// Device id.
    pub device_id: [u8; 20],
    /// The name, in every language that has no other.
    pub name: String,
    /// Names in other languages than English, by their number.
    pub names: Vec<(usize, String)>,
    /// The description, in English.
    pub description: String,
    /// The publisher.
    pub publisher: String,
    /// The title that it belongs to.
    pub title: String,
    /// Transfer flags.
    pub transfer: u8,
    /// Pictures of the content and of the title: PNG.
    pub pictures: [Vec<u8>; 2],
}

impl Default for Making {
    fn default() -> Self {
        Self {
            signer: Signer::Console,
            content_type: super::kind::SAVED_GAME,
            title_id: 0,
            media_id: 0,
            versions: [0; 2],
            platform: [2, 0],
            discs: [0; 2],
            console_id: [0; 5],
            profile_id: [0; 8],
            device_id: [0; 20],
            name: String::new(),
            names: Vec::new(),
            description: String::new(),
            publisher: String::new(),
            title: String::new(),
            transfer: 0,
            pictures: Default::default(),
        }
    }
}

/// What of a header is another one in a copy with other files: all else is kept.
#[derive(Debug, Clone, Copy, Default)]
pub struct Change {
    /// Console id, of the header and of the certificate.
    pub console_id: Option<[u8; 5]>,
    /// Profile id.
    pub profile_id: Option<[u8; 8]>,
    /// Device id.
    pub device_id: Option<[u8; 20]>,
}

/// A volume that a header describes.
pub(super) struct Described {
    pub(super) descriptor: [u8; 0x24],
    pub(super) kind: u32,
    pub(super) content_len: u64,
    pub(super) data_files: u32,
    pub(super) data_len: u64,
}

/// The header of a package with this volume, up to where that begins.
///
/// # Errors
/// [`Error::Unsupported`] for texts and pictures that do not fit.
pub(super) fn header(making: &Making, volume: &Described) -> Result<Vec<u8>> {
    let len = if volume.kind == 0 { SHORT } else { LONG };
    let mut bytes = vec![0; u64::from(len).next_multiple_of(BLOCK) as usize];
    let magic = Signer::ALL.iter().find(|(_, signer)| *signer == making.signer).map_or([0; 4], |(magic, _)| *magic);
    bytes[..4].copy_from_slice(&magic);
    if making.signer == Signer::Console {
        bytes[4..6].copy_from_slice(&CERTIFICATE.to_be_bytes());
        bytes[6..11].copy_from_slice(&making.console_id);
    }
    let mut head = Head::new_zeroed();
    head.licences[0] = License { id: u64::MAX.into(), bits: 0.into(), flags: 0.into() };
    head.len.set(len);
    head.content_type.set(making.content_type);
    head.layout.set(LAYOUT);
    head.content_len.set(volume.content_len);
    head.media_id.set(making.media_id);
    head.version.set(making.versions[0]);
    head.base_version.set(making.versions[1]);
    head.title_id.set(making.title_id);
    [head.platform, head.executable] = making.platform;
    [head.disc, head.discs] = making.discs;
    head.console_id = making.console_id;
    head.profile_id = making.profile_id;
    head.device_id = making.device_id;
    head.volume = volume.descriptor;
    head.data_files.set(volume.data_files);
    head.data_len.set(volume.data_len);
    head.volume_kind.set(volume.kind);
    bytes[HEAD_AT as usize..NAMES_AT as usize].copy_from_slice(head.as_bytes());
    for number in 0..LANGUAGES.len() {
        let other = making.names.iter().find(|(n, _)| *n == number).map(|(_, name)| name);
        put(&mut bytes, place(NAMES_AT, MORE_AT[0], number), NAME, other.unwrap_or(&making.name), "name")?;
    }
    put(&mut bytes, place(DESCRIPTIONS_AT, MORE_AT[1], 0), NAME, &making.description, "description")?;
    put(&mut bytes, PUBLISHER_AT, SHORT_NAME, &making.publisher, "publisher")?;
    put(&mut bytes, TITLE_AT, SHORT_NAME, &making.title, "title")?;
    bytes[TRANSFER_AT as usize] = making.transfer;
    for (index, picture) in making.pictures.iter().enumerate() {
        if picture.len() > MOST_PICTURE {
            let (own, most) = (picture.len(), MOST_PICTURE);
            return Err(Error::unsupported(super::ID, format!("a picture of {own} bytes (the most is {most})")));
        }
        let at = PICTURES_AT as usize + 4 * index;
        bytes[at..at + 4].copy_from_slice(&(picture.len() as u32).to_be_bytes());
        let at = PICTURE_PLACES[index] as usize;
        bytes[at..at + picture.len()].copy_from_slice(picture);
    }
    close(&mut bytes);
    Ok(bytes)
}

/// Makes the header of a package that of one with another volume: what is not changed stays, the signature becomes zeros.
pub(super) fn change(bytes: &mut [u8], old: &Header, change: &Change, volume: &Described) {
    let mut head = old.head;
    head.volume = volume.descriptor;
    head.content_len.set(volume.content_len);
    head.console_id = change.console_id.unwrap_or(head.console_id);
    head.profile_id = change.profile_id.unwrap_or(head.profile_id);
    head.device_id = change.device_id.unwrap_or(head.device_id);
    bytes[HEAD_AT as usize..NAMES_AT as usize].copy_from_slice(head.as_bytes());
    let signature = if old.signer == Signer::Console { CONSOLE_SIGNATURE } else { 4..HEAD_AT as usize };
    bytes[signature].fill(0);
    if let (Signer::Console, Some(id)) = (old.signer, change.console_id) {
        bytes[6..11].copy_from_slice(&id);
    }
    close(bytes);
}

/// Puts the digest of a header in its place.
pub(super) fn close(header: &mut [u8]) {
    let digest = of_bytes(Algorithm::Sha1, &header[HASHED_FROM as usize..]).bytes;
    header[0x32c..0x340].copy_from_slice(&digest);
}

fn place(first: u64, more: u64, number: usize) -> u64 {
    match number {
        0..9 => first + (number * NAME) as u64,
        _ => more + ((number - 9) * NAME) as u64,
    }
}

/// A text of UTF-16, with a zero behind it.
fn put(bytes: &mut [u8], at: u64, room: usize, text: &str, what: &str) -> Result<()> {
    let units: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
    if units.len() + 2 > room {
        let (own, most) = (units.len() / 2, room / 2 - 1);
        return Err(Error::unsupported(super::ID, format!("a {what} of {own} characters (the most is {most})")));
    }
    bytes[at as usize..at as usize + units.len()].copy_from_slice(&units);
    Ok(())
}
