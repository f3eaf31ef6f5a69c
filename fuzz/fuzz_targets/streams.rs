#![no_main]
//! Streams with one file in them, and tar: each parser by itself, whatever the beginning looks like.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::archive::tar::Tar;
use decanter_formats::stream::{Bz2, Gz, Xz};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((first, rest)) = data.split_first() else { return };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let formats: [(&dyn Format, &[u8]); 4] =
        [(&Gz, b"\x1f\x8b\x08"), (&Bz2, b"BZh1"), (&Xz, b"\xfd7zXZ\x00"), (&Tar, b"")];
    let (format, mark) = formats[usize::from(first % 4)];
    let mut bytes = [mark, rest].concat();
    if format.id() == "tar" && bytes.len() >= 512 {
        // The checksum of the first header is made right, so that more than that is read.
        bytes[148..156].copy_from_slice(b"        ");
        let sum: u32 = bytes[..512].iter().map(|byte| u32::from(*byte)).sum();
        bytes[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    }
    let Ok(opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(10) {
        let Ok(source) = file.source() else { continue };
        let len = source.len().min(1 << 18);
        for at in [len / 2, 0] {
            let _ = source.read_at(at, &mut vec![0; (len - at).min(16) as usize]);
        }
    }
});
