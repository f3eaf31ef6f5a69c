//! The keys of a package: made of its passcode and its content id, or out of the user's ring.

use super::entry;
use super::header::{Entry, Header, record};
use super::rsa::{self, Pair};
use crate::package::ps3::{cbc_decrypt, cbc_encrypt};
use crate::package::sha256;
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::protection::KeyState;
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};

/// What the ring calls a passcode.
pub const PASSCODE: &str = "ps4.pkg.passcode";
/// Where a passcode came from that was typed.
pub const TYPED: &str = "--passcode";
/// Characters of a passcode.
pub const PASSCODE_LEN: usize = 32;
/// The passcode of packages of one's own making.
pub const ZEROS: [u8; PASSCODE_LEN] = [b'0'; PASSCODE_LEN];
/// Keys that entries may be under.
pub const COUNT: u32 = 7;
/// The key that the image is under.
const IMAGE: u32 = 1;
/// The key that the image key is under, among others.
pub(super) const ENTRIES: u32 = 3;
/// Bytes of what the keys entry begins with: a digest of the content id, then a digest of each key.
const DIGESTS: usize = 32 * (COUNT as usize + 1);
/// Bytes of a key under RSA.
pub(super) const WRAPPED: usize = 256;
/// Bytes of the keys entry.
pub(super) const KEYS_LEN: u64 = DIGESTS as u64 + COUNT as u64 * WRAPPED as u64;

/// A key of the console that the user may have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// What key `n` of a package is under.
    Entry(u32),
    /// What the image key is under.
    ImageKey,
    /// What the digest of the header is under.
    Header,
}

impl Role {
    /// Its name in a keyring.
    pub fn name(self) -> String {
        match self {
            Self::Entry(number) => format!("ps4.pkg.rsa.{number}"),
            Self::ImageKey => "ps4.pkg.rsa.image".into(),
            Self::Header => "ps4.pkg.rsa.header".into(),
        }
    }

    /// All of them.
    pub fn all() -> impl Iterator<Item = Self> {
        (0..COUNT).map(Self::Entry).chain([Self::ImageKey, Self::Header])
    }

    /// The key in a ring; `None` where there is none, or none that can be one.
    pub(super) fn pair(self, keys: &Keyring) -> Option<Pair> {
        keys.named(&self.name()).and_then(|entry| Pair::new(&entry.key))
    }
}

/// Whether a name in a list is one of this family, and what it opens.
pub fn meaning(name: &str) -> Option<String> {
    if name.eq_ignore_ascii_case(PASSCODE) {
        return Some("PS4 packages that were made with this passcode".into());
    }
    if name.eq_ignore_ascii_case(super::pfs::KEY) {
        return Some("PFS images that stand by themselves".into());
    }
    let role = Role::all().find(|role| name.eq_ignore_ascii_case(&role.name()))?;
    Some(match role {
        Role::Entry(number) => format!("key {number} of PS4 packages"),
        Role::ImageKey => "image keys of PS4 packages".into(),
        Role::Header => "headers of new PS4 packages".into(),
    })
}

/// Key `index` of a package: SHA-256 of the SHA-256 of the index, that of the content id, and the passcode.
pub fn derived(content_id: &[u8; 48], passcode: &[u8], index: u32) -> Key {
    let message = [&sha256(&index.to_be_bytes())[..], &sha256(content_id), passcode].concat();
    let message = Key::new(message);
    Key::new(sha256(message.bytes()).to_vec())
}

/// What a package keeps of a key: its SHA-256 XORed with it.
pub(super) fn digest_of(key: &Key) -> [u8; 32] {
    let mut own = sha256(key.bytes());
    own.iter_mut().zip(key.bytes()).for_each(|(own, byte)| *own ^= byte);
    own
}

/// Key and initial vector of an encrypted entry.
fn of_entry(own: &super::raw::Entry, key: &Key) -> (Key, [u8; 16]) {
    let message = Key::new([record(own), key.bytes()].concat());
    let both = Key::new(sha256(message.bytes()).to_vec());
    let mut iv = [0; 16];
    iv.copy_from_slice(&both.bytes()[..16]);
    (Key::new(both.bytes()[16..].to_vec()), iv)
}

/// Decrypts an entry, as far as it has whole blocks.
///
/// # Errors
/// None that a key made here could cause.
pub(super) fn decrypt(own: &super::raw::Entry, key: &Key, bytes: &mut [u8]) -> Result<()> {
    let (key, iv) = of_entry(own, key);
    cbc_decrypt(&key, &iv, bytes)
}

/// Encrypts an entry, which has whole blocks.
///
/// # Errors
/// None that a key made here could cause.
pub(super) fn encrypt(own: &super::raw::Entry, key: &Key, bytes: &mut [u8]) -> Result<()> {
    let (key, iv) = of_entry(own, key);
    cbc_encrypt(&key, &iv, bytes)
}

/// What of a package can be opened.
pub(super) struct Access {
    /// The keys of entries, as far as they are known.
    pub(super) entries: [Option<Key>; COUNT as usize],
    /// The key of the image.
    pub(super) image: Option<Key>,
    /// How that is known.
    pub(super) state: KeyState,
    /// The passcode in words.
    pub(super) words: &'static str,
}

/// The digests that a package keeps of its keys; `None` where it has none.
fn kept(source: &dyn Source, header: &Header) -> Result<Option<Vec<u8>>> {
    match header.entry(entry::KEYS).filter(|e| e.len() >= KEYS_LEN && e.at() + KEYS_LEN <= source.len()) {
        Some(own) => Ok(Some(read_vec(source, own.at(), KEYS_LEN, "keys of entries", KEYS_LEN)?)),
        None => Ok(None),
    }
}

fn kept_digest(kept: &[u8], index: u32) -> &[u8] {
    &kept[32 * (index as usize + 1)..][..32]
}

impl Access {
    /// Tries what the user has: passcodes, image keys under the content id, keys of the console; at last the passcode of
    /// zeros. Nothing is taken whose digest is not the one in the package.
    ///
    /// # Errors
    /// What reading fails with.
    pub(super) fn find(source: &dyn Source, header: &Header, keys: &Keyring) -> Result<Self> {
        let content_id = header.content_id();
        let kept = kept(source, header)?;
        let fits = |index: u32, key: &Key| kept.as_ref().map(|k| kept_digest(k, index) == digest_of(key));
        let wide = header.content_id_bytes();
        let mut wrong = Vec::new();
        let mut own = None;
        let given = keys.given.is_some();
        let passcodes = keys.all_named(PASSCODE).filter(|e| e.key.bytes().len() == PASSCODE_LEN);
        let zeros = Key::new(ZEROS.to_vec());
        let tried = passcodes.map(|e| (&e.key, e.origin.as_str())).chain([(&zeros, "")]);
        for (passcode, origin) in tried {
            // What was typed is meant: nothing else is tried instead of it.
            if origin.is_empty() && (given || wrong.iter().any(|o| o == TYPED)) {
                break;
            }
            match fits(0, &derived(&wide, passcode.bytes(), 0)) {
                Some(true) => {
                    own = Some(Self::of_passcode(&wide, passcode, origin));
                    break;
                }
                Some(false) if !origin.is_empty() => wrong.push(origin.to_owned()),
                // The zeros were a try; and without digests in the package nothing proves a passcode, so none is taken.
                Some(false) | None => {}
            }
        }
        if own.is_none() && !wrong.iter().any(|o| o == TYPED) {
            own = Self::of_image_key(keys, &content_id, &fits, &mut wrong);
        }
        if own.is_none() && !given && wrong.is_empty() {
            own = Self::of_console(source, header, keys, kept.as_deref(), &fits)?;
        }
        Ok(own.unwrap_or_else(|| {
            let need = match wrong.is_empty() {
                true => format!("the passcode, or the image key, of {content_id}"),
                false => format!("the passcode or image key of {content_id}, which has another digest of its key,"),
            };
            Self {
                entries: Default::default(),
                image: None,
                state: KeyState::Trouble(KeyTrouble {
                    need,
                    way: KeyWay::Passcode,
                    wrong,
                    looked: keys.looked().to_vec(),
                }),
                words: "not known",
            }
        }))
    }

    fn of_passcode(wide: &[u8; 48], passcode: &Key, origin: &str) -> Self {
        let key = |index: u32| derived(wide, passcode.bytes(), index);
        let is_zeros = passcode.bytes() == ZEROS;
        let origin = if origin.is_empty() { "the passcode of 32 zeros" } else { origin };
        let proof = Some("the digest of its first key".to_owned());
        Self {
            entries: std::array::from_fn(|index| Some(key(index as u32))),
            image: Some(key(IMAGE)),
            state: KeyState::Found { origin: origin.to_owned(), proof },
            words: if is_zeros { "32 zeros" } else { "known" },
        }
    }

    /// With an image key that the user has under the content id.
    fn of_image_key(
        keys: &Keyring,
        content_id: &str,
        fits: &dyn Fn(u32, &Key) -> Option<bool>,
        wrong: &mut Vec<String>,
    ) -> Option<Self> {
        let all = keys.candidates(&[content_id.to_owned()]).into_iter();
        for own in all.filter(|e| e.key.bytes().len() == super::pfs::KEY_LEN) {
            if fits(IMAGE, &own.key) == Some(false) {
                wrong.push(own.origin.clone());
                continue;
            }
            let mut entries: [Option<Key>; COUNT as usize] = Default::default();
            entries[IMAGE as usize] = Some(own.key.clone());
            let proof = fits(IMAGE, &own.key).map(|_| "the digest of its image key".to_owned());
            let state = KeyState::Found { origin: own.origin.clone(), proof };
            return Some(Self {
                entries,
                image: Some(own.key.clone()),
                state,
                words: "not needed: the image key is known",
            });
        }
        None
    }

    /// With the console's own keys: out of the package itself.
    fn of_console(
        source: &dyn Source,
        header: &Header,
        keys: &Keyring,
        kept: Option<&[u8]>,
        fits: &dyn Fn(u32, &Key) -> Option<bool>,
    ) -> Result<Option<Self>> {
        let Some(kept) = kept else { return Ok(None) };
        let mut own = Self {
            entries: Default::default(),
            image: None,
            state: KeyState::NotNeeded,
            words: "not needed: keys of the console are known",
        };
        for index in 0..COUNT {
            let Some(pair) = Role::Entry(index).pair(keys) else { continue };
            let wrapped = &kept[DIGESTS + index as usize * WRAPPED..][..WRAPPED];
            own.entries[index as usize] = pair.unwrap(wrapped).filter(|key| fits(index, key) == Some(true));
        }
        if own.entries[IMAGE as usize].is_none()
            && let (Some(entry), Some(key), Some(pair)) =
                (header.entry(entry::IMAGE_KEY), &own.entries[ENTRIES as usize], Role::ImageKey.pair(keys))
        {
            let mut wrapped = read_vec(source, entry.at(), WRAPPED as u64, "an image key", WRAPPED as u64)?;
            decrypt(&entry.raw, key, &mut wrapped)?;
            own.entries[IMAGE as usize] = pair.unwrap(&wrapped).filter(|key| fits(IMAGE, key) == Some(true));
        }
        own.image = own.entries[IMAGE as usize].clone();
        if own.image.is_none() {
            return Ok(None);
        }
        let origin = keys.named(&Role::Entry(ENTRIES).name()).map_or("the keyring".into(), |e| e.origin.clone());
        own.state = KeyState::Found { origin, proof: Some("the digest of its image key".into()) };
        Ok(Some(own))
    }

    /// The key of an entry, if it is known.
    pub(super) fn of(&self, entry: &Entry) -> Option<&Key> {
        self.entries.get(entry.key() as usize)?.as_ref()
    }
}

/// The keys entry of a new package.
pub(super) fn keys_entry(content_id: &[u8; 48], passcode: &[u8], keys: &Keyring) -> Result<Vec<u8>> {
    let all: Vec<Key> = (0..COUNT).map(|index| derived(content_id, passcode, index)).collect();
    let mut bytes = sha256(content_id).to_vec();
    all.iter().for_each(|key| bytes.extend(digest_of(key)));
    for (index, key) in all.iter().enumerate() {
        bytes.extend(wrapped(Role::Entry(index as u32), key, keys)?);
    }
    Ok(bytes)
}

/// The image key of a new package, as its entry has it.
pub(super) fn image_key_entry(content_id: &[u8; 48], passcode: &[u8], keys: &Keyring) -> Result<Vec<u8>> {
    wrapped(Role::ImageKey, &image_key(content_id, passcode), keys)
}

/// The image key that a passcode makes.
pub(super) fn image_key(content_id: &[u8; 48], passcode: &[u8]) -> Key {
    derived(content_id, passcode, IMAGE)
}

/// Bytes under a key of the console; zeros where the user has not got it.
pub(super) fn wrapped(role: Role, key: &Key, keys: &Keyring) -> Result<Vec<u8>> {
    match (role.pair(keys), keys.named(&role.name())) {
        (Some(pair), _) => Ok(pair.wrap(key.bytes())),
        (None, None) => Ok(vec![0; WRAPPED]),
        (None, Some(entry)) => Err(Error::Key(KeyTrouble {
            need: format!("{} ({})", role.name(), rsa::FORM),
            way: KeyWay::ByName,
            wrong: vec![entry.origin.clone()],
            looked: keys.looked().to_vec(),
        })),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out with `openssl dgst -sha256`, step by step, over the bytes that the page names.
    #[test]
    fn keys_are_made_of_index_content_id_and_passcode() {
        let mut id = [0; 48];
        id[..36].copy_from_slice(b"UP0000-DCNT40001_00-PIERNINE00000000");
        let hex = |bytes: &[u8]| decanter_core::digest::hex(bytes);
        assert_eq!(
            hex(derived(&id, &ZEROS, 0).bytes()),
            "ca515d296cf12e92a364ed97a183c9532e9f1e030bc706789860475a6e6b1302"
        );
        assert_eq!(
            hex(derived(&id, &ZEROS, 1).bytes()),
            "a0e6b192184be66c712783e3d0d9fcc78c86bb671310fdaad5c2905bf6c7aeff"
        );
        assert_eq!(
            hex(derived(&id, b"saltmarsh-pier-arcade-museum-001", 6).bytes()),
            "bc2cbc964ed2756bd80ecea020a06352156b3aa4f437f881ded50c33cbc35ee1"
        );
        assert_eq!(
            hex(&digest_of(&derived(&id, &ZEROS, 0))),
            "57bc42e29b29b4ddb9c06f4844e1d544b99a1de861ac0c84d2d16997e2213397"
        );
    }

    #[test]
    fn every_name_has_a_meaning() {
        for role in Role::all() {
            assert!(meaning(&role.name().to_uppercase()).is_some());
        }
        assert!(meaning(PASSCODE).is_some() && meaning("ps4.pkg.rsa.7").is_none());
    }
}
