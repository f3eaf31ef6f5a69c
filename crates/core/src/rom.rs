//! A ROM: what a cartridge holds, told apart from the way in which a file lays it out.

use crate::source::SourceRef;
use serde::Serialize;

/// A ROM that was found in a file.
#[derive(Clone)]
pub struct Rom {
    /// The bytes as the console reads them: no header of a copier, no other byte order.
    pub body: SourceRef,
    /// Id of the form that the file is in; one of `forms`.
    pub form: &'static str,
    /// Every form that it can be written in.
    pub forms: Vec<Form>,
    /// What the body was found through, as in "a 512-byte copier header"; `None` if the file is the body.
    pub through: Option<String>,
    /// Bytes in front of the body that only this file has, and that another form would lose.
    pub prefix: Vec<u8>,
    /// Length of the body as its header declares it, in bytes.
    pub declared: Option<Declared>,
    /// Length of the chip, where the header tells it, in bytes.
    pub chip: Option<u64>,
    /// How the body compares with that.
    pub shape: Shape,
    /// The checksums that it carries.
    pub checks: Vec<Check>,
    /// The memory that keeps its saved games.
    pub save: SaveMemory,
}

/// A way of laying the same ROM out in a file.
#[derive(Clone)]
pub struct Form {
    /// Stable name, for `--to`.
    pub id: &'static str,
    /// The same in words: "N64 ROM, big-endian".
    pub name: &'static str,
    /// The whole file.
    pub source: SourceRef,
}

/// Length that a header declares, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Declared {
    /// Exactly so many.
    Exact(u64),
    /// A power of two, of which more than half is used.
    UpTo(u64),
    /// So many are used; the chip is larger.
    Used(u64),
}

impl Declared {
    /// The number of bytes.
    pub fn bytes(self) -> u64 {
        match self {
            Self::Exact(bytes) | Self::UpTo(bytes) | Self::Used(bytes) => bytes,
        }
    }
}

/// How long a body is, compared with what its header declares and with its own content.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase", tag = "is")]
pub enum Shape {
    /// As long as it should be, as far as is known, and its end is used.
    Complete,
    /// It ends with bytes of one value that nothing uses.
    Padded {
        /// Where the padding begins.
        from: u64,
        /// Its value.
        byte: u8,
    },
    /// It ends before its declared length.
    Trimmed {
        /// Bytes that are missing.
        missing: u64,
    },
    /// Its content repeats: the reader went on where the chip had ended.
    Overdumped {
        /// Bytes after which it begins anew.
        from: u64,
    },
    /// Something else follows after its declared length.
    Trailing {
        /// Where that begins.
        from: u64,
        /// True when it is another ROM.
        is_rom: bool,
    },
}

/// A checksum that a ROM carries.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Check {
    /// What it is of: "header checksum".
    pub name: &'static str,
    /// The value that is stored, in hexadecimal digits.
    pub stored: String,
    /// The value that it should have.
    pub right: String,
    /// Whether they are the same.
    pub is_right: bool,
    /// More on how it was computed.
    pub note: Option<String>,
}

impl Check {
    /// One of `width` hexadecimal digits.
    pub fn new(name: &'static str, stored: u64, right: u64, width: usize) -> Self {
        let digits = |value: u64| format!("{value:0width$x}");
        Self { name, stored: digits(stored), right: digits(right), is_right: stored == right, note: None }
    }

    /// The same with a word on how it was computed.
    #[must_use]
    pub fn note(self, note: impl Into<String>) -> Self {
        Self { note: Some(note.into()), ..self }
    }
}

/// Kinds of memory that keep saved games.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum SaveKind {
    /// There is none.
    None,
    /// Static memory, kept by a battery, or without one (FRAM).
    Sram,
    /// Serial memory.
    Eeprom,
    /// Flash memory.
    Flash,
    /// The ROM does not tell.
    Unknown,
}

impl SaveKind {
    /// What people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Sram => "SRAM",
            Self::Eeprom => "EEPROM",
            Self::Flash => "flash",
            Self::Unknown => "unknown",
        }
    }
}

/// The memory that keeps the saved games of a ROM.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SaveMemory {
    /// Its kind.
    pub kind: SaveKind,
    /// Sizes in bytes that it may have: one if it is known.
    pub sizes: Vec<u64>,
    /// Whether a clock goes on beside it.
    pub clock: bool,
    /// Which bytes of a 16-bit bus it sits on, where that matters.
    pub lanes: Lanes,
    /// How all this is known.
    pub known_by: String,
}

/// Which bytes of a 16-bit bus a memory of 8 bits sits on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Lanes {
    /// All of them, or the question does not arise.
    All,
    /// Those at even addresses.
    Even,
    /// Those at odd addresses.
    Odd,
}

impl SaveMemory {
    /// Memory of this kind and size.
    pub fn new(kind: SaveKind, sizes: &[u64], known_by: impl Into<String>) -> Self {
        Self { kind, sizes: sizes.to_vec(), clock: false, lanes: Lanes::All, known_by: known_by.into() }
    }

    /// None at all.
    pub fn none(known_by: impl Into<String>) -> Self {
        Self::new(SaveKind::None, &[], known_by)
    }
}
