//! Records: small files that describe something else.

pub mod ird;
pub mod sfo;
