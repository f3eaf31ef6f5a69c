//! Which key opens a file: whatever the code of its header proves.

use super::coding::Coding;
use super::header::{CLOSED_KEYS, DEBUG, FREE, HASHED, Header, SDAT};
use crate::package::ps3::keys::{self, EdatKey, Role};
use crate::package::ps3::licence::{self, Candidate};
use crate::package::ps3::{cmac, mixed};
use decanter_core::Result;
use decanter_core::error::KeyTrouble;
use decanter_core::format::Opener;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::protection::KeyState;
use zerocopy::IntoBytes;

/// The coding of a file, if its key is there, and what is known of that.
pub struct Unlocked {
    /// The coding.
    pub coding: Option<Coding>,
    /// The key.
    pub key: KeyState,
}

/// The key that opens keys of files of a version.
pub fn opener_of(version: u32) -> Role {
    Role::Edat(if version == 4 { EdatKey::New } else { EdatKey::Old })
}

/// What a file is called in messages.
fn name(header: &Header) -> String {
    match header.content_id() {
        id if id.is_empty() => "this file".into(),
        id => id,
    }
}

/// Looks for the key of a file.
///
/// # Errors
/// [`decanter_core::Error::Usage`] for keys that have not 16 bytes, which the ring rules out.
pub fn unlock(header: &Header, opener: &Opener<'_>) -> Result<Unlocked> {
    let ring = opener.keys();
    if header.has(DEBUG) {
        let coding = Coding::new(header.clone(), Key::new(vec![0; 16]), None);
        return Ok(Unlocked { coding: Some(coding), key: KeyState::NotNeeded });
    }
    let trouble = |trouble| Ok(Unlocked { coding: None, key: KeyState::Trouble(trouble) });
    let what = name(header);
    let own = match header.has(CLOSED_KEYS) {
        true => match keys::find(ring, opener_of(header.raw.version.get()), &what) {
            Ok((key, _)) => Some(key),
            Err(missing) => return trouble(missing),
        },
        false => None,
    };
    let (candidates, missing) = match candidates(header, opener, ring, &what) {
        Ok(candidates) => candidates,
        Err(missing) => return trouble(missing),
    };
    let mut wrong = Vec::new();
    for Candidate { key, origin } in candidates {
        let coding = Coding::new(header.clone(), key.clone(), own.clone());
        let proof = match coding.fits()? {
            true => Some("the code of its header"),
            // What says the same of fewer bytes tells a header that is damaged from a key that is wrong.
            false if is_hashed_with(header, &key, ring)? => Some("the hash of its header"),
            false => None,
        };
        if let Some(proof) = proof {
            let key = KeyState::Found { origin, proof: Some(proof.to_owned()) };
            return Ok(Unlocked { coding: Some(coding), key });
        }
        if !wrong.contains(&origin) {
            wrong.push(origin);
        }
    }
    trouble(KeyTrouble { wrong, ..missing })
}

/// Whether the hash of the header's first bytes is the one with this licence key, so far as the ring has what it takes.
fn is_hashed_with(header: &Header, licence: &Key, ring: &Keyring) -> Result<bool> {
    let Ok((secret, _)) = keys::find(ring, Role::NpdHeader, "") else { return Ok(false) };
    Ok(cmac(&mixed(&secret, licence.bytes()), &header.raw.as_bytes()[..HASHED])? == header.raw.header_hash)
}

/// The file keys that may be the one, and the trouble if none is.
fn candidates(
    header: &Header,
    opener: &Opener<'_>,
    ring: &Keyring,
    what: &str,
) -> std::result::Result<(Vec<Candidate>, KeyTrouble), KeyTrouble> {
    if header.has(SDAT) {
        let (secret, origin) = keys::find(ring, Role::Sdat, what)?;
        let key = mixed(&secret, &header.raw.header_hash);
        let missing = keys::wrong(ring, Role::Sdat, what, &origin);
        return Ok((vec![Candidate { key, origin }], missing));
    }
    let filed = licence::candidates(&header.content_id(), opener.names(), ring);
    let missing = filed.trouble(ring, what, Vec::new());
    let mut all = filed.found;
    if header.license() == FREE {
        match keys::find(ring, Role::NpdFree, what) {
            Ok((key, origin)) => all.push(Candidate { key, origin }),
            Err(missing) if all.is_empty() => return Err(missing),
            Err(_) => {}
        }
    }
    Ok((all, missing))
}
