//! Licence keys: typed, filed under a content id, or made of a licence file (RAP). Layout: docs/formats/edat.md.

use super::keys::{self, Role};
use super::{cbc_decrypt, content_id};
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};

/// Rounds that turn a licence file into a key.
const ROUNDS: usize = 5;

/// What kind of licence a number stands for.
pub(super) fn kind(number: u32) -> String {
    match number {
        1 => "network".into(),
        2 => "local".into(),
        3 => "free".into(),
        other => format!("kind {other}"),
    }
}

/// The constants that turn licence files into keys.
struct Constants {
    key: Key,
    order: [u8; 16],
    first: [u8; 16],
    second: [u8; 16],
}

impl Constants {
    /// Those of the ring; `None` if one is missing, or is none.
    fn of(ring: &Keyring) -> Option<Self> {
        let bytes = |role| keys::find(ring, role, "").ok().and_then(|(key, _)| key.bytes16().ok().copied());
        let order = bytes(Role::RapOrder)?;
        let is_order = (0..16).all(|n| order.contains(&n));
        let key = keys::find(ring, Role::Rap, "").ok()?.0;
        is_order.then_some(Self { key, order, first: bytes(Role::RapFirst)?, second: bytes(Role::RapSecond)? })
    }

    /// The licence key in the 16 bytes of a licence file.
    fn licence_key(&self, file: &[u8; 16]) -> Option<Key> {
        let mut key = *file;
        cbc_decrypt(&self.key, &[0; 16], &mut key).ok()?;
        let place = |n: usize| usize::from(self.order[n]);
        for _ in 0..ROUNDS {
            for n in 0..16 {
                key[place(n)] ^= self.first[place(n)];
            }
            for n in (1..16).rev() {
                key[place(n)] ^= key[place(n - 1)];
            }
            let mut borrow = 0u8;
            for n in 0..16 {
                let (own, second) = (key[place(n)].wrapping_sub(borrow), self.second[place(n)]);
                if borrow != 1 || own != 0xff {
                    borrow = u8::from(own < second);
                }
                key[place(n)] = own.wrapping_sub(second);
            }
        }
        Some(Key::new(key.to_vec()))
    }
}

/// A licence key that may be the one.
pub struct Candidate {
    /// The key.
    pub key: Key,
    /// Where it was found.
    pub origin: String,
}

/// Licence keys that may be those of a title.
#[derive(Default)]
pub struct Candidates {
    /// They.
    pub found: Vec<Candidate>,
    /// Licence files that cannot be used, as the ring lacks their constants.
    pub closed: Vec<String>,
}

impl Candidates {
    /// The trouble where none of them is right; `wrong` are those that were tried.
    pub fn trouble(&self, ring: &Keyring, what: &str, wrong: Vec<String>) -> KeyTrouble {
        let need = match self.closed.first() {
            Some(file) => format!(
                "the licence key of {what} ({file} makes one with {}, {}, {} and {})",
                Role::Rap.name(),
                Role::RapOrder.name(),
                Role::RapFirst.name(),
                Role::RapSecond.name()
            ),
            None => format!("the licence key of {what}"),
        };
        let way = if self.closed.is_empty() { KeyWay::Alone } else { KeyWay::ByName };
        KeyTrouble { way, need, wrong, looked: ring.looked().to_vec() }
    }
}

/// The licence keys that may be those of a title: what was typed alone, else what is filed under its content id or title id,
/// or under one of `names`. A licence file is turned into its key; anything else may be either.
pub fn candidates(id: &str, names: &[String], ring: &Keyring) -> Candidates {
    let mut all = vec![id.to_owned()];
    all.extend(content_id::title_id(id).map(str::to_owned));
    all.extend_from_slice(names);
    let constants = Constants::of(ring);
    let mut candidates = Candidates::default();
    for entry in ring.candidates(&all) {
        let Ok(bytes) = entry.key.bytes16() else { continue };
        let is_file = entry.origin.to_ascii_lowercase().ends_with(".rap");
        if !is_file {
            candidates.found.push(Candidate { key: entry.key.clone(), origin: entry.origin.clone() });
        }
        match constants.as_ref().and_then(|c| c.licence_key(bytes)) {
            Some(key) => candidates.found.push(Candidate { key, origin: entry.origin.clone() }),
            None if is_file => candidates.closed.push(entry.origin.clone()),
            None => {}
        }
    }
    candidates
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ring() -> Keyring {
        let mut ring = Keyring::default();
        ring.add("ps3.rap.key", Key::new((0x10..0x20).collect()), "list");
        // Every place once, in an order of our own.
        ring.add("ps3.rap.pbox", Key::new((0..16).map(|n| n * 7 % 16).collect()), "list");
        ring.add("ps3.rap.e1", Key::new((0x60..0x70).collect()), "list");
        ring.add("ps3.rap.e2", Key::new((0xf0..=0xff).collect()), "list");
        ring
    }

    /// Worked out by a few lines in another language.
    #[test]
    fn fixed_bytes_of_a_licence_file() {
        let made = Constants::of(&ring()).unwrap().licence_key(b"moth-parade-rap!").unwrap();
        assert_eq!(decanter_core::digest::hex(made.bytes()), "fc5e8e925f3d8b4627ac9738b1e9051d");
    }

    #[test]
    fn files_are_turned_and_other_keys_may_be_either() {
        let mut all = ring();
        all.add("UP0001-DCNT10001_00-X", Key::new(vec![1; 16]), "keys/UP0001-DCNT10001_00-X.RAP");
        all.add("DCNT10001", Key::new(vec![2; 16]), "list");
        let found = candidates("UP0001-DCNT10001_00-X", &[], &all);
        assert_eq!((found.found.len(), found.closed.len()), (3, 0));
        assert_eq!(found.found[1].key.bytes(), [2; 16]);
        assert!(found.trouble(&all, "it", Vec::new()).way == KeyWay::Alone);
        let mut bare = Keyring::default();
        bare.add("DCNT10001", Key::new(vec![1; 16]), "x.rap");
        let found = candidates("UP0001-DCNT10001_00-X", &[], &bare);
        assert_eq!((found.found.len(), found.closed.len()), (0, 1));
        assert!(found.trouble(&bare, "it", Vec::new()).need.contains("ps3.rap.pbox"));
    }

    #[test]
    fn an_order_that_is_none_is_refused() {
        let mut wrong = Keyring::default();
        wrong.add("ps3.rap.pbox", Key::new(vec![3; 16]), "list");
        wrong.append(&ring());
        assert!(Constants::of(&wrong).is_none());
    }
}
