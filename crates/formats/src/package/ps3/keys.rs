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
}

/// All of them, with names and uses.
const ALL: [(Role, &str, &str); 2] = [
    (Role::Package, "ps3.pkg.key", "finalized packages"),
    (Role::PspPackage, "ps3.pkg.key.psp", "packages of the PSP, and items of its kind"),
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
