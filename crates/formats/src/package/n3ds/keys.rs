//! Keys of the 3DS family: names under which they are kept, and the generator that makes one of two.

use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};

/// A key that may be needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// The constant of the key generator.
    Scrambler,
    /// Key X of a slot.
    SlotX(u8),
    /// Key Y of the common key with this number.
    Common(u8),
    /// The key of system titles with a fixed key.
    FixedSystem,
    /// The seed of a title.
    Seed(u64),
    /// The key of the code that proves a save of the GBA mode.
    GbaSave,
}

impl Role {
    /// The names it may have in a keyring, ours first; others are those of widespread lists.
    fn names(self) -> Vec<String> {
        match self {
            Self::Scrambler => ["n3ds.scrambler", "generator"].map(str::to_owned).to_vec(),
            Self::SlotX(slot) => vec![format!("n3ds.slot0x{slot:02X}.x"), format!("slot0x{slot:02X}KeyX")],
            Self::Common(number) => vec![format!("n3ds.common.{number}"), format!("common{number}")],
            Self::FixedSystem => vec!["n3ds.fixed.system".into()],
            Self::Seed(id) => vec![format!("n3ds.seed.{id:016x}"), format!("{id:016x}")],
            Self::GbaSave => vec!["n3ds.agb.cmac".into(), "slot0x24KeyN".into()],
        }
    }
}

/// The key for `role`, with where it came from.
///
/// # Errors
/// The trouble when there is none, or one that has not 16 bytes; `what` says what it is for.
pub fn find(keys: &Keyring, role: Role, what: &str) -> Result<(Key, String), KeyTrouble> {
    let names = role.names();
    keys.of_names(&names, 16, &|| format!("{} (for {what})", names[0]))
}

/// What the generator makes of key X, key Y and its constant: ((X <<< 2) ^ Y) + C, all of it <<< 87.
pub fn generate(x: &[u8; 16], y: &[u8; 16], constant: &[u8; 16]) -> Key {
    let [x, y, constant] = [x, y, constant].map(|k| u128::from_be_bytes(*k));
    let key = ((x.rotate_left(2) ^ y).wrapping_add(constant)).rotate_left(87);
    Key::new(key.to_be_bytes().to_vec())
}

/// The key that slot `slot` makes with key Y `y`, and where key X came from.
///
/// # Errors
/// The trouble with whichever of its parts is missing.
pub fn of_slot(keys: &Keyring, slot: u8, y: &[u8; 16], what: &str) -> Result<(Key, String), KeyTrouble> {
    let (x, origin) = find(keys, Role::SlotX(slot), what)?;
    let (constant, _) = find(keys, Role::Scrambler, what)?;
    match (x.bytes16(), constant.bytes16()) {
        (Ok(x), Ok(constant)) => Ok((generate(x, y, constant), origin)),
        _ => Err(KeyTrouble {
            way: KeyWay::ByName,
            need: what.to_owned(),
            wrong: vec![origin],
            looked: keys.looked().to_vec(),
        }),
    }
}

/// The common key with this number.
///
/// # Errors
/// As [`of_slot`].
pub fn common(keys: &Keyring, number: u8, what: &str) -> Result<(Key, String), KeyTrouble> {
    let (y, origin) = find(keys, Role::Common(number), what)?;
    let Ok(y) = y.bytes16() else {
        return Err(KeyTrouble {
            way: KeyWay::ByName,
            need: what.to_owned(),
            wrong: vec![origin],
            looked: keys.looked().to_vec(),
        });
    };
    of_slot(keys, 0x3d, y, what)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand: with X = 1, Y = 0 and C = 0 only bit 2 is set, which moves to bit 89; C = 2^128 - 4 makes zero.
    #[test]
    fn the_generator() {
        let n = |v: u128| v.to_be_bytes();
        assert_eq!(generate(&n(1), &n(0), &n(0)).bytes(), n(1 << 89));
        assert_eq!(generate(&n(1), &n(0), &n(u128::MAX - 3)).bytes(), n(0));
        assert_eq!(generate(&n(1 << 127), &n(1), &n(0)).bytes(), n((2u128 ^ 1) << 87));
    }

    #[test]
    fn spellings_of_widespread_lists() {
        let mut ring = Keyring::default();
        ring.add_list("slot0x2ckeyx = 00112233445566778899aabbccddeeff\ncommon1=00112233445566778899aabbccddeeff\n0004000000f1e200 = 00\n", "list");
        assert!(find(&ring, Role::SlotX(0x2c), "x").is_ok() && find(&ring, Role::Common(1), "x").is_ok());
        let short = find(&ring, Role::Seed(0x0004_0000_00f1_e200), "x").unwrap_err();
        assert!(short.to_string().contains("not 16 bytes"), "{short}");
        let missing = find(&ring, Role::Scrambler, "the RomFS").unwrap_err();
        assert!(missing.need.contains("n3ds.scrambler (for the RomFS)"), "{missing}");
    }
}
