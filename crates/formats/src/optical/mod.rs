//! Optical discs.

mod both;
pub mod cd;
pub mod high_sierra;
pub mod iso9660;
pub mod playstation;
pub mod ps3;
pub mod psp;
pub mod udf;
pub mod xdvdfs;
