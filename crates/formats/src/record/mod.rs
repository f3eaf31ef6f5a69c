//! Records: small files that describe something else.

pub mod bag;
pub mod dat;
pub mod ird;
pub mod sfo;
pub mod sums;
pub mod xbe;
pub mod xex;
