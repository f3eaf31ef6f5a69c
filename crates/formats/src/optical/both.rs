//! Numbers that stand in both byte orders, little-endian first (ISO 9660 7.2.3, 7.3.3).

use crate::noticed::Noticed;
use crate::num::{be32, le32};
use zerocopy::byteorder::{BE, LE, U16, U32};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

/// A 16-bit number recorded in both byte orders (7.2.3).
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Both16 {
    pub(super) le: U16<LE>,
    pub(super) be: U16<BE>,
}

/// A 32-bit number recorded in both byte orders (7.3.3).
#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct Both32 {
    pub(super) le: U32<LE>,
    pub(super) be: U32<BE>,
}

impl Both16 {
    pub(super) fn new(value: u16) -> Self {
        Self { le: value.into(), be: value.into() }
    }

    /// The little-endian half, and whether the other half agrees.
    pub(super) fn get(self) -> (u16, bool) {
        (self.le.get(), self.le.get() == self.be.get())
    }
}

impl Both32 {
    pub(super) fn new(value: u32) -> Self {
        Self { le: value.into(), be: value.into() }
    }

    /// The one that stands at `at`, in bytes that are long enough.
    pub(super) fn at(bytes: &[u8], at: usize) -> Self {
        Self { le: le32(bytes, at).into(), be: be32(bytes, at + 4).into() }
    }

    /// The little-endian half, and whether the other half agrees.
    pub(super) fn get(self) -> (u32, bool) {
        (self.le.get(), self.le.get() == self.be.get())
    }
}

/// Tells of records of folders whose numbers are others in the other byte order.
pub(super) fn note_disagreements(noticed: &mut Noticed, count: usize) {
    if count > 0 {
        noticed.note(format!("the two byte orders disagree in {count} directory records"));
    }
}
