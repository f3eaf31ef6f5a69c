//! Archives: files packed together, compressed or not.

pub mod zip;
