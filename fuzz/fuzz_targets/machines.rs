#![no_main]
//! Home computers: disks, tapes, archives and volumes behind their magic, with every file read and every check made.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::archive::{lha::Lha, lzx::Lzx};
use decanter_formats::disk::{amiga, cbm};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    // Floppies have their lengths; the structures that matter come from the input.
    let place = |bytes: &mut Vec<u8>, len: usize, at: usize| {
        let own = std::mem::replace(bytes, vec![0; len]);
        let now = own.len().min(len - at);
        bytes[at..at + now].copy_from_slice(&own[..now]);
    };
    let format: &dyn Format = match which % 9 {
        0 => {
            place(&mut bytes, 174_848, 0x16500);
            &cbm::D64
        }
        1 => {
            place(&mut bytes, 819_200, 39 * 40 * 256);
            &cbm::D81
        }
        2 => &cbm::t64::T64,
        3 => &cbm::crt::Crt,
        4 => {
            place(&mut bytes, 901_120, 880 * 512);
            bytes[..4].copy_from_slice(&[b'D', b'O', b'S', which / 9 % 8]);
            &amiga::Adf
        }
        5 => {
            place(&mut bytes, 64 * 512, 0);
            &amiga::Rdb
        }
        6 => &Lha,
        7 => {
            // What follows is modules: their names, versions and lengths.
            bytes.splice(0..0, *b"VICE Snapshot File\x1a\x01\x01C64\0\0\0\0\0\0\0\0\0\0\0\0\0");
            &cbm::vsf::Vsf
        }
        _ => &Lzx,
    };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let _ = format.score(&decanter_core::Head::new(&Bytes(bytes.clone())));
    let Ok(opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for inspect in &opened.proof.inspections {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(20) {
        let Ok(source) = file.source() else { continue };
        let _ = source.read_at(0, &mut vec![0; source.len().min(1 << 16) as usize]);
    }
});
