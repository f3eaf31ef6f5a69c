#![no_main]
//! A zip archive: its directory, and its entries read forwards and backwards.

use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_core::Keyring;
use decanter_formats::REGISTRY;
use decanter_formats::archive::zip::Zip;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(opened) = Zip.open(Arc::new(Bytes(data.to_vec())), &opener) else { return };
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(20) {
        let Ok(source) = file.source() else { continue };
        let len = source.len().min(1 << 20);
        for at in [len / 2, 0, len.saturating_sub(16)] {
            let _ = source.read_at(at, &mut vec![0; (len - at).min(16) as usize]);
        }
    }
});
