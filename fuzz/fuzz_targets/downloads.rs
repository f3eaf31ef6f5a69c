#![no_main]
//! Downloads of the 360 generation: cabinets, packages with files, packages with a disc behind their header, programs. The
//! first byte chooses one, and its marks are put where they belong.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::archive::cab::Cab;
use decanter_formats::package::x360;
use decanter_formats::record::xex::Xex;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    if which % 4 == 1 || which % 4 == 2 {
        // A header is long, and most of it is names.
        let body = bytes.split_off(bytes.len().min(0x200));
        bytes.resize(0x22c, 0);
        bytes.rotate_right(0x2c);
        bytes.extend_from_slice(&body[..body.len().min(0x400)]);
        bytes.resize(0xa000, 0);
        bytes.extend(body);
    }
    let mut mark = |at: usize, mark: &[u8]| {
        if bytes.len() >= at + mark.len() {
            bytes[at..at + mark.len()].copy_from_slice(mark);
        }
    };
    let format: &dyn Format = match which % 4 {
        0 => {
            mark(0, b"MSCF");
            mark(24, &[3, 1]);
            &Cab
        }
        1 => {
            mark(0, b"LIVE");
            mark(0x340, &[0, 0, 0x97, 0x1a]);
            mark(0x3a9, &[0; 4]);
            mark(0x395, &[0, 0, 0]);
            &x360::FILES
        }
        2 => {
            mark(0, b"CON ");
            mark(0x340, &[0, 0, 0x97, 0x1a]);
            mark(0x3a9, &[0, 0, 0, 1]);
            &x360::DISC
        }
        _ => {
            mark(0, b"XEX2");
            &Xex
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
