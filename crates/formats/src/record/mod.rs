//! Records: small files that describe something else.

pub mod ird;
pub mod sfo;
pub mod xbe;
pub mod xex;
