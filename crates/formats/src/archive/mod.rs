//! Archives: files packed together, compressed or not.

pub mod cab;
pub mod lha;
pub mod lzx;
pub mod sevenz;
pub mod tar;
pub mod zip;
