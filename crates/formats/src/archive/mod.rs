//! Archives: files packed together, compressed or not.

pub mod sevenz;
pub mod zip;
