//! The built program, driven on files in temporary folders.

mod bad_input;
mod disc;
mod extract;
mod help;
mod independent;
mod interrupt;
mod support;
mod variants;
mod zip;
