#![no_main]
//! An Xbox partition: the input stands where the descriptor and the root folder are.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::optical::xdvdfs::Xdvdfs;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let mut image = vec![0; 33 * 2048];
    image[0x10000..0x10014].copy_from_slice(b"MICROSOFT*XBOX*MEDIA");
    image[0x10014..0x1001c].copy_from_slice(&[33, 0, 0, 0, 0, 16, 0, 0]);
    image.extend_from_slice(data);
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let _ = Xdvdfs.open(Arc::new(Bytes(image)), &opener);
});
