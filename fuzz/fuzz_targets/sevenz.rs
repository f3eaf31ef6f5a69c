#![no_main]
//! A 7z archive: its directory, and its entries read forwards and backwards.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::archive::sevenz::SevenZ;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    // The header's place, length and checksum are made right, so that more than that is read.
    let mut bytes = b"7z\xbc\xaf\x27\x1c\x00\x04".to_vec();
    let (packed, header) = data.split_at(data.len() / 2);
    let mut start = (packed.len() as u64).to_le_bytes().to_vec();
    start.extend((header.len() as u64).to_le_bytes());
    start.extend(crc32fast::hash(header).to_le_bytes());
    bytes.extend(crc32fast::hash(&start).to_le_bytes());
    bytes.extend(start);
    bytes.extend_from_slice(data);
    let Ok(opened) = SevenZ.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(10) {
        let Ok(source) = file.source() else { continue };
        let len = source.len().min(1 << 18);
        for at in [len / 2, 0] {
            let _ = source.read_at(at, &mut vec![0; (len - at).min(16) as usize]);
        }
    }
});
