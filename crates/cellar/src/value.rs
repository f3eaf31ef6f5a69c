//! Values as they stand in the catalogue.

use decanter_core::native;

/// A value of a column, or for a place in a statement.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// None.
    Null,
    /// A whole number.
    Int(i64),
    /// Text.
    Text(String),
    /// The name of a file, in the reversible spelling of [`decanter_core::native`]: kept as text, or as its bytes if
    /// these are none.
    Name(String),
    /// Bytes.
    Blob(Vec<u8>),
}

impl Value {
    /// A length, an offset or a count. What is longer than a catalogue can say is the longest that it can.
    pub fn len(value: u64) -> Self {
        Self::Int(i64::try_from(value).unwrap_or(i64::MAX))
    }

    /// The same 64 bits with a sign: numbers that are only compared.
    pub fn bits(value: u64) -> Self {
        Self::Int(value.cast_signed())
    }

    /// A text that may be missing.
    pub fn maybe(text: Option<&str>) -> Self {
        text.map_or(Self::Null, |t| Self::Text(t.to_owned()))
    }

    /// A number that may be missing.
    pub fn number(value: Option<i64>) -> Self {
        value.map_or(Self::Null, Self::Int)
    }

    /// The number; 0 for anything else.
    pub fn int(&self) -> i64 {
        self.maybe_int().unwrap_or(0)
    }

    /// The number, if it is one.
    pub fn maybe_int(&self) -> Option<i64> {
        if let Self::Int(value) = self { Some(*value) } else { None }
    }

    /// The number as a length; 0 for what is none.
    pub fn unsigned(&self) -> u64 {
        u64::try_from(self.int()).unwrap_or(0)
    }

    /// The text; empty for anything else.
    pub fn text(&self) -> String {
        self.maybe_text().unwrap_or_default()
    }

    /// The text, if it is one. Bytes are the name that they stand for.
    pub fn maybe_text(&self) -> Option<String> {
        match self {
            Self::Text(text) | Self::Name(text) => Some(text.clone()),
            Self::Blob(bytes) => Some(native::of_bytes(bytes)),
            Self::Null | Self::Int(_) => None,
        }
    }

    /// The bytes, if these are some.
    pub fn blob(&self) -> Option<&[u8]> {
        if let Self::Blob(bytes) = self { Some(bytes) } else { None }
    }
}

impl From<i64> for Value {
    fn from(value: i64) -> Self {
        Self::Int(value)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

/// Values for the places of a statement, from the first on.
#[macro_export]
macro_rules! values {
    ($($value:expr),* $(,)?) => { &[$($crate::Value::from($value)),*][..] };
}
