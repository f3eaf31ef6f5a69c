//! The keys of an image: they are made of the image key and the seed in the header.

use super::header::Header;
use super::mac::Mac;
use decanter_core::digest::MacKey;
use decanter_core::keyring::Key;
use decanter_core::view::{Concat, Slice, Tweaked, Xts, XtsRanges};
use decanter_core::{Result, SourceRef};
use std::sync::Arc;

/// Bytes of a sector under XTS.
pub(super) const SECTOR: usize = 0x1000;
/// What the keys are for.
const ENCRYPTION: u32 = 1;
const SIGNATURES: u32 = 2;

/// How keys are made of an image key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Derivation {
    /// HMAC-SHA256 of purpose and seed under the image key.
    Plain,
    /// The same under the HMAC-SHA256 of the seed under the image key.
    Seeded,
}

impl Derivation {
    /// Both.
    pub const ALL: [Self; 2] = [Self::Plain, Self::Seeded];

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Plain => "made of the image key",
            Self::Seeded => "made of the image key and the seed, in the newer way",
        }
    }
}

fn derive(image_key: &Key, seed: &[u8; 16], purpose: u32, derivation: Derivation) -> Key {
    let own = match derivation {
        Derivation::Plain => image_key.clone(),
        Derivation::Seeded => Key::new(MacKey::new(image_key.bytes()).code(seed).to_vec()),
    };
    let message = [&purpose.to_le_bytes()[..], seed].concat();
    Key::new(MacKey::new(own.bytes()).code(&message).to_vec())
}

/// The key for the codes of blocks.
pub(super) fn signing(image_key: &Key, seed: &[u8; 16], derivation: Derivation) -> Mac {
    Mac::new(&derive(image_key, seed, SIGNATURES, derivation))
}

/// The cipher of everything behind the header.
///
/// # Errors
/// None that a key made here could cause.
pub(super) fn cipher(image_key: &Key, seed: &[u8; 16], derivation: Derivation) -> Result<Xts> {
    let made = derive(image_key, seed, ENCRYPTION, derivation);
    // The first half is for the tweak, the second for the data.
    let (tweak, data) = made.bytes().split_at(16);
    Xts::standard(&Key::new([data, tweak].concat()), SECTOR)
}

/// `image` decrypted, or encrypted: all but its first block, by sectors that are counted from its beginning.
///
/// # Errors
/// None, but for images that are shorter than a block.
pub(super) fn turned(image: &SourceRef, block: u64, xts: Xts, is_encrypting: bool) -> Result<SourceRef> {
    let whole = image.len() - image.len() % SECTOR as u64;
    let rest: SourceRef = Arc::new(Slice::new(image.clone(), block, whole.saturating_sub(block))?);
    let ranges = XtsRanges::new(vec![(0..rest.len(), Arc::new(xts))])?.counted_from(block / SECTOR as u64);
    let ranges = if is_encrypting { ranges.encrypting() } else { ranges };
    let head: SourceRef = Arc::new(Slice::new(image.clone(), 0, block)?);
    Ok(Arc::new(Concat::new(vec![head, Arc::new(Tweaked::new(rest, Arc::new(ranges)))])?))
}

/// How an image was closed, and with what.
pub(super) struct Opening {
    pub(super) plain: SourceRef,
    pub(super) mac: Option<Mac>,
    /// Whether the code of the header is right under that key.
    pub(super) is_header_right: bool,
    pub(super) derivation: Derivation,
}

/// Finds out how an image is closed: that way is taken under which the table of inodes has its code; where that is damaged,
/// the one under which the header has its own, or under which there are inodes at all. `None` where none fits.
///
/// # Errors
/// What reading fails with.
pub(super) fn open(image: &SourceRef, header: &Header, image_key: &Key) -> Result<Option<Opening>> {
    let mut first = vec![0; header.block as usize];
    let wanted = header.table.pointers[0].code;
    let (coded, code) = header.coded();
    let (mut second_best, mut third_best) = (None, None);
    for derivation in Derivation::ALL {
        let plain = match header.is_encrypted() {
            true => turned(image, header.block, cipher(image_key, &header.seed, derivation)?, false)?,
            false => image.clone(),
        };
        plain.read_at(header.block, &mut first)?;
        if !header.is_signed() && looks_like_inodes(&first, header) {
            return Ok(Some(Opening { plain, mac: None, is_header_right: true, derivation }));
        }
        for signs in Derivation::ALL.into_iter().filter(|_| header.is_signed()) {
            let mac = signing(image_key, &header.seed, signs);
            let is_header_right = mac.code(&coded) == code;
            let is_exact = wanted == Some(mac.code(&first));
            let opening = Opening { plain: plain.clone(), mac: Some(mac), is_header_right, derivation };
            match signs == derivation {
                _ if is_exact => return Ok(Some(opening)),
                true if is_header_right => second_best = Some(opening),
                true if looks_like_inodes(&first, header) => third_best = Some(opening),
                // Not this way.
                true | false => {}
            }
        }
    }
    Ok(second_best.or(third_best))
}

/// Whether a block may be the first of the table of inodes: nothing else tells where there are no codes.
fn looks_like_inodes(bytes: &[u8], header: &Header) -> bool {
    let count = header.inodes.min(header.inodes_in_block()).min(4) as usize;
    bytes.chunks(header.shape().len()).take(count).all(|inode| matches!(inode[1] & 0xf0, 0x40 | 0x80))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn hex(bytes: &[u8]) -> String {
        decanter_core::digest::hex(bytes)
    }

    /// Worked out with `openssl dgst -sha256 -mac HMAC -macopt hexkey:...` over the bytes that the page names.
    #[test]
    fn keys_are_made_as_the_page_says() {
        let key = Key::new((0..32).collect());
        let seed = [0x5a; 16];
        let of = |purpose, derivation| hex(derive(&key, &seed, purpose, derivation).bytes());
        assert_eq!(of(1, Derivation::Plain), "ee5ab734fa8dafc4a5735eb4e6604422b9cfdb0623c4a10be45ce8b20149df3e");
        assert_eq!(of(2, Derivation::Plain), "555c28b0ddb81cd36ef40f782597d0aa592e729b799331bd66a1c86e294662f4");
        assert_eq!(of(1, Derivation::Seeded), "30ed52f3be5a7ab48abab2715efd90e5f3c1a33272f16821c2a56d0c6bbbe571");
        assert_eq!(of(2, Derivation::Seeded), "a1f48088dcfd664e5f3e01c9f5d43cc7a4423de9e4251cc716f2d10fb2c16aac");
    }
}
