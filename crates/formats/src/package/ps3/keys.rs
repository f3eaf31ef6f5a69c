//! Keys of the family: the names under which they are kept, and what each opens. The list for users: docs/keys.md.

use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};

/// A key that may be needed; all have 16 bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Under which finalized packages stand.
    Package,
    /// The same for packages of the PSP, and for items of its kind in others.
    PspPackage,
    /// What makes keys of encrypted PS2 images out of the licence key, for a kind of consoles.
    Classics(Console, Part),
    /// The initialisation vector of that.
    ClassicsVector,
    /// For the hash of content id and file name in NPD headers.
    NpdTitle,
    /// For the hash of NPD headers, together with the licence key.
    NpdHeader,
    /// The licence key of free content.
    NpdFree,
    /// What opens keys of NPD-wrapped files, by their version.
    Edat(EdatKey),
    /// What makes the key of files without a licence.
    Sdat,
    /// The key of licence files.
    Rap,
    /// The order in which their bytes are turned into each other.
    RapOrder,
    /// What is added to each, first.
    RapFirst,
    /// What is taken from each, second.
    RapSecond,
}

/// Generations of the key that opens keys of NPD-wrapped files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EdatKey {
    /// Versions 0 to 3.
    Old,
    /// Version 4.
    New,
}

/// Kinds of consoles.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Console {
    /// Those that are sold.
    Consumer,
    /// Those of developers.
    Debug,
}

/// Parts of an encrypted PS2 image.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// The segments of the image.
    Data,
    /// The tables of their digests.
    Meta,
}

/// All of them, with names and uses.
const ALL: [(Role, &str, &str); 17] = [
    (Role::Package, "ps3.pkg.key", "finalized packages"),
    (Role::PspPackage, "ps3.pkg.key.psp", "packages of the PSP, and items of its kind"),
    (Role::Classics(Console::Consumer, Part::Data), "ps2.classics.consumer.data", "encrypted PS2 images"),
    (Role::Classics(Console::Consumer, Part::Meta), "ps2.classics.consumer.meta", "tables of encrypted PS2 images"),
    (Role::Classics(Console::Debug, Part::Data), "ps2.classics.debug.data", "encrypted PS2 images, debug"),
    (Role::Classics(Console::Debug, Part::Meta), "ps2.classics.debug.meta", "tables of encrypted PS2 images, debug"),
    (Role::ClassicsVector, "ps2.classics.iv", "encrypted PS2 images, initialisation vector"),
    (Role::NpdTitle, "ps3.npd.title", "hashes of content id and file name"),
    (Role::NpdHeader, "ps3.npd.header", "hashes of NPD headers"),
    (Role::NpdFree, "ps3.npd.free", "NPD-wrapped files with a free licence"),
    (Role::Edat(EdatKey::Old), "ps3.edat.key.0", "NPD-wrapped files, versions 1 to 3"),
    (Role::Edat(EdatKey::New), "ps3.edat.key.1", "NPD-wrapped files, version 4"),
    (Role::Sdat, "ps3.sdat.key", "NPD-wrapped files without a licence"),
    (Role::Rap, "ps3.rap.key", "licence files (RAP)"),
    (Role::RapOrder, "ps3.rap.pbox", "licence files (RAP), order of bytes"),
    (Role::RapFirst, "ps3.rap.e1", "licence files (RAP), first constant"),
    (Role::RapSecond, "ps3.rap.e2", "licence files (RAP), second constant"),
];

impl Role {
    /// Its name in a keyring.
    pub fn name(self) -> &'static str {
        ALL.iter().find(|(role, ..)| *role == self).map_or("", |(_, name, _)| name)
    }
}

/// The key for `role`, with where it came from; `what` says in a message what it is for.
///
/// # Errors
/// The trouble when there is none, or one of another length.
pub fn find(keys: &Keyring, role: Role, what: &str) -> Result<(Key, String), KeyTrouble> {
    keys.of_names(&[role.name().to_owned()], 16, &|| format!("{} (for {what})", role.name()))
}

/// The trouble with a key that turned out to be wrong.
pub fn wrong(keys: &Keyring, role: Role, what: &str, origin: &str) -> KeyTrouble {
    let need = format!("{} (for {what})", role.name());
    KeyTrouble { way: KeyWay::ByName, need, wrong: vec![origin.to_owned()], looked: keys.looked().to_vec() }
}

/// The names of all of them.
pub fn names() -> impl Iterator<Item = &'static str> {
    ALL.iter().map(|(_, name, _)| *name)
}

/// Whether a name in a list is one of this family, and what it opens.
pub fn meaning(name: &str) -> Option<String> {
    ALL.iter().find(|(_, known, _)| name.eq_ignore_ascii_case(known)).map(|(.., opens)| (*opens).to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_to_keys_and_back() {
        let mut ring = Keyring::default();
        ring.add("PS3.PKG.KEY", Key::new(vec![7; 16]), "list");
        ring.add("ps3.pkg.key.psp", Key::new(vec![7; 15]), "list");
        assert_eq!(find(&ring, Role::Package, "x").unwrap().0.bytes(), [7; 16]);
        assert!(find(&ring, Role::PspPackage, "x").unwrap_err().to_string().contains("not 16 bytes"));
        for (role, name, opens) in ALL {
            assert_eq!((role.name(), meaning(name).as_deref()), (name, Some(opens)));
        }
        assert_eq!(meaning("ps3.pkg"), None);
        let told = wrong(&ring, Role::Package, "a package", "list").to_string();
        assert!(told.contains("ps3.pkg.key") && told.contains("list"), "{told}");
    }
}
