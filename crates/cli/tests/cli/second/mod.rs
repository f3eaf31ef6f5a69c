//! What is written, read by a second reader: plain readers along the public layouts, which share nothing with those of the library.

mod amiga;
mod blocks;
mod cards;
mod commodore;
mod handheld;
mod packed_disc;
mod xbox;

use crate::support::noise;
use decanter_core::digest::{Algorithm, of_bytes};
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

/// Files by their paths.
type Files = BTreeMap<String, Vec<u8>>;

/// Puts files below a folder.
fn put(folder: &Path, files: &Files) {
    for (path, bytes) in files {
        let path = folder.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
}

/// Files of these lengths, with content of their own.
fn files(all: &[(&str, usize)]) -> Files {
    all.iter().zip(1..).map(|((path, len), seed)| ((*path).to_owned(), noise(*len, seed))).collect()
}

fn big(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap())
}

fn little(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

fn short(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(bytes[at..at + 2].try_into().unwrap())
}

fn sha256(bytes: &[u8]) -> Vec<u8> {
    of_bytes(Algorithm::Sha256, bytes).bytes
}
