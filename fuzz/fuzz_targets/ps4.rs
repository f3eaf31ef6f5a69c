#![no_main]
//! Packages of the fourth generation, and the images in them. The first byte chooses one, and its marks are put where they belong.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::package::ps4::{self, pfs, pfsc};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    let format: &dyn Format = match which % 3 {
        0 => {
            // What is behind the header stands in the table of entries, and in the image.
            let body = bytes.split_off(bytes.len().min(0x100));
            bytes.resize(0x1100, 0);
            bytes.extend(body);
            bytes.resize(bytes.len().max(0x2000), 0);
            bytes[..4].copy_from_slice(b"\x7fCNT");
            bytes[0x10..0x1c].copy_from_slice(&[0, 0, 0, 8, 0, 6, 0, 8, 0, 0, 0x11, 0]);
            &ps4::PACKAGE
        }
        1 => {
            bytes.resize(bytes.len().max(0x4000), 0);
            bytes[..8].copy_from_slice(&1u64.to_le_bytes());
            bytes[8..16].copy_from_slice(&20_130_315u64.to_le_bytes());
            bytes[0x1c] &= 0xfa;
            bytes[0x20..0x24].copy_from_slice(&0x1000u32.to_le_bytes());
            bytes[0x40..0x50].copy_from_slice(&[1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
            &pfs::IMAGE
        }
        _ => {
            bytes.resize(bytes.len().max(0x30), 0);
            bytes[..4].copy_from_slice(b"PFSC");
            &pfsc::PACKED
        }
    };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for inspect in opened.proof.inspections.iter().chain(&opened.proof.on_reading) {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let _ = source.read_at(0, &mut vec![0; source.len().min(64 << 10) as usize]);
        }
    }
});
