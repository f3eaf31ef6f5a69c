#![no_main]
//! The PlayStation 3 generation: packages, NPD-wrapped files, encrypted PS2 images. The first byte chooses one, and its mark
//! is put where it belongs; keys of zeros are there for all of them.

use decanter_core::format::{Format, Opener};
use decanter_core::source::Bytes;
use decanter_core::{Key, Keyring};
use decanter_formats::REGISTRY;
use decanter_formats::package::ps3::{classics, npd, pkg};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

const KEYS: [&str; 9] = [
    "ps3.pkg.key",
    "ps3.pkg.key.psp",
    "ps2.classics.consumer.data",
    "ps2.classics.consumer.meta",
    "ps2.classics.iv",
    "ps3.npd.free",
    "ps3.edat.key.0",
    "ps3.edat.key.1",
    "ps3.sdat.key",
];

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    let mut mark = |at: usize, mark: &[u8]| {
        if bytes.len() >= at + mark.len() {
            bytes[at..at + mark.len()].copy_from_slice(mark);
        }
    };
    let format: &dyn Format = match which % 4 {
        0 => {
            mark(0, b"\x7fPKG\x80");
            &pkg::PACKAGE
        }
        1 => {
            mark(0, b"\x7fPKG\0");
            &pkg::PACKAGE
        }
        2 => {
            // Debug flag: blocks are looked at without a key.
            mark(0, b"NPD\0\0\0\0\x03");
            mark(0x80, &[0x80]);
            &npd::WRAPPED
        }
        _ => {
            mark(0, b"PS2\0");
            mark(0x84, &[0, 0, 0x40, 0]);
            &classics::IMAGE
        }
    };
    let mut keys = Keyring::default();
    KEYS.iter().for_each(|name| keys.add(*name, Key::new(vec![0; 16]), "zeros"));
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for inspect in opened.proof.inspections.iter().chain(&opened.proof.on_reading) {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let _ = source.read_at(0, &mut vec![0; source.len().min(64) as usize]);
        }
    }
});
