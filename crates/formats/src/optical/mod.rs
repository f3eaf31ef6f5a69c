//! Optical discs.

pub mod iso9660;
pub mod ps3;
