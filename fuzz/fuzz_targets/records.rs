#![no_main]
//! Everything that is told by its first bytes or is a text: programs, cue sheets, DAT files, checksum lists, compressed
//! images. The first byte of the input chooses what it begins with.

use decanter_core::Keyring;
use decanter_core::format::{Beside, Opener};
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::REGISTRY;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

struct One;

impl Beside for One {
    fn find(&self, name: &str) -> decanter_core::Result<Option<(String, SourceRef)>> {
        Ok(Some((name.to_owned(), Arc::new(Bytes(vec![0; 2352 * 40])))))
    }
}

const STARTS: [&[u8]; 9] = [
    b"",
    b"XBEH",
    b"XEX2",
    b"CISO\x18\0\0\0",
    b"ZISO\x18\0\0\0",
    b"\x28\xb5\x2f\xfd",
    b"FILE a BINARY\nTRACK 01 MODE1/2352\n",
    b"<?xml version=\"1.0\"?><datafile>",
    b"shelf ( ) game (",
];

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let mut bytes = STARTS[usize::from(*which) % STARTS.len()].to_vec();
    bytes.extend_from_slice(rest);
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys).with_beside(&One);
    if let Ok(opened) = opener.open(Arc::new(Bytes(bytes))) {
        for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(4) {
            if let Ok(source) = file.source() {
                let _ = source.read_at(0, &mut vec![0; source.len().min(4096) as usize]);
            }
        }
    }
});
