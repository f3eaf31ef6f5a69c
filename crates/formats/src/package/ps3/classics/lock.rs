//! Which keys an image is under: whatever the SHA-1 of its first segment proves.

use super::header::{ENTRY, Header, SEGMENT, segment_at, table_at};
use crate::package::ps3::keys::{self, Console, Part, Role};
use crate::package::ps3::{cbc_decrypt, cbc_encrypt, licence};
use decanter_core::Result;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::error::KeyTrouble;
use decanter_core::format::Opener;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{SourceRef, read_vec};

/// Bytes of a SHA-1.
pub const SHA1: usize = 20;
/// Bytes at the beginning of a table that its first SHA-1 is in.
const FIRST: usize = 32;
const _: () = assert!(FIRST >= SHA1 && FIRST <= ENTRY);

/// How an image is closed.
#[derive(Clone)]
pub struct Lock {
    /// The key of its tables; none where they are in the clear.
    pub meta: Option<Key>,
    /// The key of its segments; none where it is missing.
    pub data: Option<Key>,
    /// The initialisation vector of each.
    pub iv: [u8; 16],
    /// Whether the SHA-1 of a segment is that of its plaintext.
    pub of_plaintext: bool,
}

/// A lock with where its key is from.
pub struct Found {
    /// The lock.
    pub lock: Lock,
    /// Where the licence key was found; nothing is needed for tables in the clear.
    pub origin: Option<String>,
    /// For which consoles it is; `None` where that is not known.
    pub console: Option<Console>,
    /// The licence key.
    pub licence: Option<Key>,
}

/// The keys of tables and segments that a licence key makes.
///
/// # Errors
/// The trouble with what the ring lacks.
pub fn derived(ring: &Keyring, console: Console, licence: &Key, what: &str) -> std::result::Result<Lock, KeyTrouble> {
    let vector = keys::find(ring, Role::ClassicsVector, what)?;
    let make = |part| -> std::result::Result<Key, KeyTrouble> {
        let (secret, origin) = keys::find(ring, Role::Classics(console, part), what)?;
        let wrong = |_| keys::wrong(ring, Role::Classics(console, part), what, &origin);
        let mut key = *licence.bytes16().map_err(wrong)?;
        cbc_encrypt(&secret, vector.0.bytes16().map_err(wrong)?, &mut key).map_err(wrong)?;
        Ok(Key::new(key.to_vec()))
    };
    Ok(Lock { meta: Some(make(Part::Meta)?), data: Some(make(Part::Data)?), iv: [0; 16], of_plaintext: false })
}

/// Looks for the lock that fits.
///
/// # Errors
/// What reading fails with; inside, the trouble with the key.
pub fn find(
    source: &SourceRef,
    header: &Header,
    opener: &Opener<'_>,
) -> Result<std::result::Result<Found, KeyTrouble>> {
    let ring = opener.keys();
    let what = name(header);
    let first = match source.len() >= segment_at(1) && header.image_len > 0 {
        true => Some(First::read(source)?),
        false => None,
    };
    if let Some(first) = &first
        && first.table[..SHA1] == of_bytes(Algorithm::Sha1, &first.segment).bytes
    {
        let lock = Lock { meta: None, data: None, iv: [0; 16], of_plaintext: false };
        let with_data = first.with_data(ring, header, opener, what)?;
        return Ok(Ok(with_data.unwrap_or(Found { lock, origin: None, console: None, licence: None })));
    }
    let (mut wrong, mut lacks) = (Vec::new(), None);
    let candidates = licence::candidates(&header.content_id, opener.names(), ring);
    for candidate in &candidates.found {
        for console in [Console::Consumer, Console::Debug] {
            let lock = match derived(ring, console, &candidate.key, what) {
                Ok(lock) => lock,
                Err(trouble) => {
                    lacks = lacks.or(Some(trouble));
                    continue;
                }
            };
            let fitting = match &first {
                Some(first) => first.fitting(lock, ring)?,
                None => Some(lock),
            };
            if let Some(lock) = fitting {
                let origin = Some(candidate.origin.clone());
                let licence = Some(candidate.key.clone());
                return Ok(Ok(Found { lock, origin, console: Some(console), licence }));
            }
            if !wrong.contains(&candidate.origin) {
                wrong.push(candidate.origin.clone());
            }
        }
    }
    if let Some(trouble) = lacks.filter(|_| wrong.is_empty()) {
        return Ok(Err(trouble));
    }
    Ok(Err(candidates.trouble(ring, what, wrong)))
}

/// The trouble where the licence key was found nowhere.
pub fn missing(header: &Header, opener: &Opener<'_>) -> KeyTrouble {
    let candidates = licence::candidates(&header.content_id, opener.names(), opener.keys());
    candidates.trouble(opener.keys(), name(header), Vec::new())
}

/// What an image is called in messages.
fn name(header: &Header) -> &str {
    if header.content_id.is_empty() { "this image" } else { &header.content_id }
}

/// What a lock is proven by.
struct First {
    table: [u8; FIRST],
    segment: Vec<u8>,
}

impl First {
    fn read(source: &SourceRef) -> Result<Self> {
        let table = decanter_core::source::read_array(source.as_ref(), table_at(0))?;
        let segment = read_vec(source.as_ref(), segment_at(0), SEGMENT, "a segment", SEGMENT)?;
        Ok(Self { table, segment })
    }

    /// The lock with whatever vector and digest make its first SHA-1 right; `None` if none does.
    fn fitting(&self, lock: Lock, ring: &Keyring) -> Result<Option<Lock>> {
        let own = keys::find(ring, Role::ClassicsVector, "").ok().and_then(|(key, _)| key.bytes16().ok().copied());
        for iv in std::iter::once([0; 16]).chain(own) {
            let mut table = self.table;
            if let Some(meta) = &lock.meta {
                cbc_decrypt(meta, &iv, &mut table)?;
            }
            if table[..SHA1] == of_bytes(Algorithm::Sha1, &self.segment).bytes {
                return Ok(Some(Lock { iv, of_plaintext: false, ..lock }));
            }
            let Some(data) = &lock.data else { continue };
            let mut segment = self.segment.clone();
            cbc_decrypt(data, &iv, &mut segment)?;
            if table[..SHA1] == of_bytes(Algorithm::Sha1, &segment).bytes {
                return Ok(Some(Lock { iv, of_plaintext: true, ..lock }));
            }
        }
        Ok(None)
    }

    /// For tables in the clear: the first licence key that there is opens the segments, and nothing proves it.
    fn with_data(&self, ring: &Keyring, header: &Header, opener: &Opener<'_>, what: &str) -> Result<Option<Found>> {
        let candidates = licence::candidates(&header.content_id, opener.names(), ring);
        let Some(candidate) = candidates.found.into_iter().next() else { return Ok(None) };
        let Ok(lock) = derived(ring, Console::Consumer, &candidate.key, what) else { return Ok(None) };
        Ok(Some(Found {
            lock: Lock { meta: None, ..lock },
            origin: Some(candidate.origin),
            console: None,
            licence: Some(candidate.key),
        }))
    }
}
