#![no_main]
//! An ISO 9660 or High Sierra volume: the input stands where the descriptors begin, so that no byte is wasted on the system area.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::optical::{high_sierra::HighSierra, iso9660::Iso9660};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Some((which, data)) = data.split_first() else { return };
    let format: &dyn Format = if which % 2 == 0 { &Iso9660 } else { &HighSierra };
    let mut image = vec![0; 16 * 2048];
    image.extend_from_slice(data);
    if let Ok(opened) = format.open(Arc::new(Bytes(image)), &opener) {
        for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(20) {
            if let Ok(source) = file.source() {
                let _ = source.read_at(0, &mut vec![0; source.len().min(64) as usize]);
            }
        }
    }
});
