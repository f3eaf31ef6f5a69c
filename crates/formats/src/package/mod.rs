//! Titles of consoles, as they are packed to be installed.

pub mod n3ds;
pub mod nx;
