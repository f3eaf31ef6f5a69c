//! The built program, driven on files in temporary folders.

mod agree;
mod bad_input;
mod bad_titles;
mod cartridge;
mod cd;
#[cfg(unix)]
mod cellar;
mod console;
mod convert;
mod deliver;
mod disc;
mod downloads;
mod drives;
mod dump;
mod extract;
mod far;
mod frozen;
mod guard;
mod handheld;
mod help;
mod independent;
mod interrupt;
mod layers;
mod look;
mod machines;
mod matches;
#[cfg(unix)]
mod names;
mod notes;
mod pasted;
mod patch;
mod prepare;
mod recipes;
mod repair;
mod save;
mod second;
mod shelf;
mod suggest;
mod support;
mod titles;
mod variants;
#[cfg(unix)]
mod volumes;
mod zip;
