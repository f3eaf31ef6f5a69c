//! Keys of the family: the names under which they are kept.

use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};

/// Which of the three keys of a generation the key area is under.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Area {
    /// Games and programs.
    Application,
    /// Programs that come with the system.
    Ocean,
    /// The system itself.
    System,
}

impl Area {
    /// By its number in a header.
    pub fn of(number: u8) -> Option<Self> {
        [Self::Application, Self::Ocean, Self::System].get(usize::from(number)).copied()
    }

    fn name(self) -> &'static str {
        match self {
            Self::Application => "application",
            Self::Ocean => "ocean",
            Self::System => "system",
        }
    }
}

/// A key that may be needed. Revisions are counted from 0: generations 0 and 1 are both revision 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Under which the headers of all contents stand: 32 bytes.
    Header,
    /// Under which key areas stand.
    Area(Area, u8),
    /// Under which title keys stand.
    TitleKek(u8),
    /// Under which a part of a gamecard's header stands.
    CardHeader,
    /// The title key of these rights, itself still under its key-encryption key.
    TitleKey([u8; 16]),
}

impl Role {
    /// The names it may have in a keyring, ours first; others are those of widespread lists.
    pub fn names(self) -> Vec<String> {
        match self {
            Self::Header => vec!["nx.header".into(), "header_key".into()],
            Self::Area(area, revision) => vec![
                format!("nx.area.{}.{revision:02x}", area.name()),
                format!("key_area_key_{}_{revision:02x}", area.name()),
            ],
            Self::TitleKek(revision) => vec![format!("nx.titlekek.{revision:02x}"), format!("titlekek_{revision:02x}")],
            Self::CardHeader => vec!["nx.card.header".into(), "xci_header_key".into()],
            Self::TitleKey(rights) => vec![hex(&rights)],
        }
    }

    /// Bytes of the key.
    fn len(self) -> usize {
        if self == Self::Header { 32 } else { 16 }
    }

    /// What is needed, for a message; `what` says what it is for.
    fn need(self, what: &str) -> String {
        match self {
            Self::TitleKey(rights) => format!("the title key of {} (for {what})", hex(&rights)),
            role => format!("{} (for {what})", role.names()[0]),
        }
    }
}

/// Lowercase hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    decanter_core::digest::hex(bytes)
}

/// The revision of a generation.
pub fn revision(generation: u8) -> u8 {
    generation.saturating_sub(1)
}

/// The first version of the system that has the keys of each generation, from 0 on: major, minor, micro.
const FIRST_SYSTEMS: [(u32, u32, u32); 20] = [
    (1, 0, 0),
    (1, 0, 0),
    (3, 0, 0),
    (3, 0, 1),
    (4, 0, 0),
    (5, 0, 0),
    (6, 0, 0),
    (6, 2, 0),
    (7, 0, 0),
    (8, 1, 0),
    (9, 0, 0),
    (9, 1, 0),
    (12, 1, 0),
    (13, 0, 0),
    (14, 0, 0),
    (15, 0, 0),
    (16, 0, 0),
    (17, 0, 0),
    (18, 0, 0),
    (19, 0, 0),
];

/// The first version of the system that has the keys of a generation, as lists of contents write versions.
pub fn first_system(generation: u8) -> Option<u32> {
    let (major, minor, micro) = FIRST_SYSTEMS.get(usize::from(generation))?;
    Some(major << 26 | minor << 20 | micro << 16)
}

/// The key for `role`, with where it came from.
///
/// # Errors
/// The trouble when there is none, or one of another length.
pub fn find(keys: &Keyring, role: Role, what: &str) -> Result<(Key, String), KeyTrouble> {
    keys.of_names(&role.names(), role.len(), &|| role.need(what))
}

/// The trouble with a key that turned out to be wrong.
pub fn wrong(keys: &Keyring, role: Role, what: &str, origin: &str) -> KeyTrouble {
    let (need, looked) = (role.need(what), keys.looked().to_vec());
    KeyTrouble { way: KeyWay::ByName, need, wrong: vec![origin.to_owned()], looked }
}

/// Whether a name in a list is one of this family, and what it opens: for telling which keys are there.
pub fn meaning(name: &str) -> Option<String> {
    let name = name.to_ascii_lowercase();
    let number = |digits: &str| u8::from_str_radix(digits, 16).ok().filter(|_| digits.len() == 2);
    for role in [Role::Header, Role::CardHeader] {
        if role.names().contains(&name) {
            let what = if role == Role::Header { "headers of contents" } else { "headers of gamecards" };
            return Some(what.into());
        }
    }
    for area in [Area::Application, Area::Ocean, Area::System] {
        let own = [format!("nx.area.{}.", area.name()), format!("key_area_key_{}_", area.name())];
        if let Some(revision) = own.iter().find_map(|p| name.strip_prefix(p.as_str())).and_then(number) {
            return Some(format!("key areas ({}), {}", area.name(), generations(revision)));
        }
    }
    let revision = ["nx.titlekek.", "titlekek_"].iter().find_map(|p| name.strip_prefix(p)).and_then(number);
    if let Some(revision) = revision {
        return Some(format!("title keys, {}", generations(revision)));
    }
    let is_rights = name.len() == 32 && name.bytes().all(|b| b.is_ascii_hexdigit());
    let title = is_rights.then(|| u64::from_str_radix(&name[..16], 16).ok()).flatten()?;
    Some(format!("title key of {}", super::title::shown(title)))
}

/// The generations of contents that a revision is for.
fn generations(revision: u8) -> String {
    match revision {
        0 => "generations 0 and 1".into(),
        n => format!("generation {}", n + 1),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_spellings_are_read_and_lengths_count() {
        let mut ring = Keyring::default();
        ring.add_list(
            &format!(
                "HEADER_KEY = {}\nkey_area_key_application_0a = {}\nnx.titlekek.00={}\nxci_header_key = 00\n",
                "1".repeat(64),
                "2".repeat(32),
                "3".repeat(32)
            ),
            "list",
        );
        ring.add("0500".repeat(8), Key::new(vec![4; 16]), "titles");
        let found = |role| find(&ring, role, "x").map(|(key, _)| key.bytes()[0]);
        assert_eq!(found(Role::Header).unwrap(), 0x11);
        assert_eq!(found(Role::Area(Area::Application, 10)).unwrap(), 0x22);
        assert_eq!(found(Role::TitleKek(0)).unwrap(), 0x33);
        assert_eq!(found(Role::TitleKey([5, 0, 5, 0, 5, 0, 5, 0, 5, 0, 5, 0, 5, 0, 5, 0])).unwrap(), 4);
        assert!(found(Role::CardHeader).unwrap_err().to_string().contains("not 16 bytes"));
        let missing = found(Role::Area(Area::System, 0)).unwrap_err();
        assert!(missing.need.starts_with("nx.area.system.00 (for x)"), "{missing}");
    }

    #[test]
    fn what_keys_are_for() {
        assert_eq!(meaning("key_area_key_ocean_05").unwrap(), "key areas (ocean), generation 6");
        assert_eq!(meaning("titlekek_00").unwrap(), "title keys, generations 0 and 1");
        assert_eq!(meaning(&format!("05009a3e11d20800{}", "0".repeat(16))).unwrap(), "title key of 05009A3E11D20800");
        assert_eq!((meaning("ps3.disc.derive.key"), meaning("titlekek_x")), (None, None));
        assert_eq!((revision(0), revision(1), revision(5)), (0, 0, 4));
    }
}
