//! Title ids: what kind of title one is of, and which titles belong together.

use decanter_core::opened::TitlePart;

/// Bit of the upper word that marks the console's own titles.
const SYSTEM: u64 = 1 << 36;
/// Bits of the lower word that an id shares with its updates and add-ons.
const UNIQUE: std::ops::Range<u32> = 8..32;

/// What a title is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A game or another program.
    Program,
    /// A trial version.
    Trial,
    /// An update of a program.
    Update,
    /// More content for a program.
    AddOn,
    /// One of the console's own.
    System,
    /// A title of the DS mode.
    Ds,
    /// Not known.
    Other,
}

impl Kind {
    /// By the upper word of the title id.
    pub fn of(title_id: u64) -> Self {
        match (title_id >> 32) as u32 {
            0x0004_0000 => Self::Program,
            0x0004_0002 => Self::Trial,
            0x0004_000e => Self::Update,
            0x0004_008c => Self::AddOn,
            word if word & 0xffff_8000 == 0x0004_8000 => Self::Ds,
            _ if is_system(title_id) => Self::System,
            _ => Self::Other,
        }
    }

    /// What people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Program => "program",
            Self::Trial => "trial version",
            Self::Update => "update",
            Self::AddOn => "add-on",
            Self::System => "system title",
            Self::Ds => "title of the DS mode",
            Self::Other => "title of an unknown kind",
        }
    }
}

impl Kind {
    /// What it is among those of the same title.
    pub fn part(self) -> TitlePart {
        match self {
            Self::Program => TitlePart::Program,
            Self::Trial => TitlePart::Trial,
            Self::Update => TitlePart::Update,
            Self::AddOn => TitlePart::AddOn,
            Self::System | Self::Ds | Self::Other => TitlePart::Other,
        }
    }
}

/// What a program, its updates and its add-ons say that they belong to.
pub fn family(title_id: u64) -> String {
    format!("titles {:06x}", unique_id(title_id))
}

/// Whether it is one of the console's own.
pub fn is_system(title_id: u64) -> bool {
    title_id >> 48 == 0x0004 && title_id & SYSTEM != 0
}

/// What a program, its updates and its add-ons have in common.
pub fn unique_id(title_id: u64) -> u32 {
    (title_id as u32) >> UNIQUE.start
}

/// The id as it is written: sixteen hexadecimal digits.
pub fn shown(title_id: u64) -> String {
    format!("{title_id:016x}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_by_the_upper_word() {
        let of = |id| Kind::of(id);
        assert_eq!(of(0x0004_0000_0f1e_2d00), Kind::Program);
        assert_eq!(of(0x0004_000e_0f1e_2d00), Kind::Update);
        assert_eq!(of(0x0004_008c_0f1e_2d00), Kind::AddOn);
        assert_eq!(of(0x0004_0010_0f1e_2d00), Kind::System);
        assert_eq!(of(0x0004_8004_0f1e_2d00), Kind::Ds);
        assert_eq!(unique_id(0x0004_0000_0f1e_2d00), 0x0f_1e2d);
    }
}
