#![no_main]
//! The 3DS family: cartridge images, contents, packages, icon blocks, banners, packed programs, saves of a console.
//! The first byte chooses one, and its mark is put where it belongs.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener, likelihood};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::package::n3ds::{banner, cia, gba_mode, lz, ncch, ncsd, smdh};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    let mut mark = |at: usize, mark: &[u8]| {
        if bytes.len() >= at + mark.len() {
            bytes[at..at + mark.len()].copy_from_slice(mark);
        }
    };
    let format: &dyn Format = match which % 7 {
        0 => {
            mark(0x100, b"NCSD\0\x10\0\0");
            mark(0x110, &[0; 16]);
            &ncsd::CARTRIDGE
        }
        1 => {
            mark(0x100, b"NCCH");
            &ncch::CONTENT
        }
        2 => {
            mark(0, &[0x20, 0x20, 0, 0, 0, 0, 0, 0]);
            &cia::PACKAGE
        }
        3 => {
            mark(0, b"SMDH");
            &smdh::ICON
        }
        4 => {
            mark(0, b"CBMD");
            let _ = banner::common(&bytes).map(|(model, _)| banner::texture(&model));
            let _ = banner::texture(&bytes);
            return;
        }
        5 => {
            let _ = lz::unpack_code(&bytes);
            let _ = lz::unpack11(&bytes);
            return;
        }
        _ => {
            mark(0, b".SAV");
            let _ = gba_mode::copies(&bytes, None);
            let _ = gba_mode::settings(&bytes);
            return;
        }
    };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let source = Arc::new(Bytes(bytes));
    if !matches!(likelihood(format, &decanter_core::Head::new(source.as_ref())), Ok(Some(_))) {
        return;
    }
    let Ok(opened) = format.open(source, &opener) else { return };
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let _ = source.read_at(0, &mut vec![0; source.len().min(64) as usize]);
        }
    }
});
