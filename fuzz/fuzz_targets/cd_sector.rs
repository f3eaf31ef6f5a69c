#![no_main]
//! The repair of a sector, and what a raw image is taken for.

use decanter_core::Keyring;
use decanter_core::format::Opener;
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::optical::cd::{repair, sector};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let mut raw = vec![0; 2352];
    let len = data.len().min(2352);
    raw[..len].copy_from_slice(&data[..len]);
    let _ = sector::check(&raw, Some(7));
    let _ = repair::repair(&mut raw, Some(7));
    let mut image = sector::SYNC.to_vec();
    image.extend_from_slice(data);
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let _ = opener.open(Arc::new(Bytes(image)));
});
