//! Ids, kinds and versions of titles.

use decanter_core::opened::TitlePart;

/// What a list of contents describes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// A game or program.
    Base,
    /// An update of one.
    Update,
    /// More content for one.
    AddOn,
    /// The difference between two updates.
    Delta,
    /// An update of an add-on.
    AddOnUpdate,
    /// A part of the console's own system.
    System(u8),
    /// Nothing that is known.
    Other(u8),
}

impl Kind {
    /// By its number in the list of contents.
    pub fn of(number: u8) -> Self {
        match number {
            0x80 => Self::Base,
            0x81 => Self::Update,
            0x82 => Self::AddOn,
            0x83 => Self::Delta,
            0x84 => Self::AddOnUpdate,
            0x01..=0x06 => Self::System(number),
            other => Self::Other(other),
        }
    }

    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Update => "update",
            Self::AddOn => "add-on",
            Self::Delta => "delta of updates",
            Self::AddOnUpdate => "update of an add-on",
            Self::System(_) => "system title",
            Self::Other(_) => "title of unknown kind",
        }
    }

    /// Which part of its title it is.
    pub fn part(self) -> TitlePart {
        match self {
            Self::Base => TitlePart::Program,
            Self::Update => TitlePart::Update,
            Self::AddOn => TitlePart::AddOn,
            _ => TitlePart::Other,
        }
    }
}

/// An id as it is written.
pub fn shown(id: u64) -> String {
    format!("{id:016X}")
}

/// Where nothing but an id is known: the id of the base. Bit 11 says update, bit 12 add-on, and add-ons count from 1.
pub fn base_of(id: u64) -> u64 {
    match id & 0x1000 {
        0 => id & !0xfff,
        _ => (id & !0xfff) ^ 0x1000,
    }
}

/// The id that the programs of a base and of its updates have in common: an update has bit 11 set, or not.
pub fn base_of_update(id: u64) -> u64 {
    id & !0x800
}

/// The number of an add-on.
pub fn number(id: u64) -> u64 {
    id & 0xfff
}

/// A version of a title as people number updates: 65,536 is the first.
pub fn version(version: u32) -> String {
    match (version >> 16, version & 0xffff) {
        (0, 0) => "v0".into(),
        (release, 0) => format!("v{version} (update {release})"),
        _ => format!("v{version}"),
    }
}

/// A version of the system, decoded: 6, 6, 4 and 16 bits.
pub fn system(version: u32) -> String {
    let (major, minor, micro, rest) = (version >> 26, version >> 20 & 0x3f, version >> 16 & 0xf, version & 0xffff);
    match rest {
        0 => format!("{major}.{minor}.{micro}"),
        _ => format!("{major}.{minor}.{micro}.{rest}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_and_versions() {
        assert_eq!(base_of(0x0500_9a3e_11d2_0000), 0x0500_9a3e_11d2_0000);
        assert_eq!(base_of(0x0500_9a3e_11d2_0800), 0x0500_9a3e_11d2_0000);
        assert_eq!((base_of(0x0500_9a3e_11d2_1003), number(0x0500_9a3e_11d2_1003)), (0x0500_9a3e_11d2_0000, 3));
        assert_eq!((version(0), version(131_072), version(5)), ("v0".into(), "v131072 (update 2)".into(), "v5".into()));
        // 5 << 26 | 1 << 20, worked out by hand.
        assert_eq!(
            (system(336_592_896), system(335_544_320), system(0x2c20_0001)),
            ("5.1.0".into(), "5.0.0".into(), "11.2.0.1".into())
        );
    }
}
