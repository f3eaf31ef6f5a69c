//! The built program, driven on files in temporary folders.

mod agree;
mod bad_input;
mod cartridge;
mod cd;
mod convert;
mod disc;
mod drives;
mod dump;
mod extract;
mod frozen;
mod guard;
mod handheld;
mod help;
mod independent;
mod interrupt;
mod look;
mod machines;
mod matches;
mod names;
mod pasted;
mod patch;
mod save;
mod support;
mod variants;
mod volumes;
mod zip;
