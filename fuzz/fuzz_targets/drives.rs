#![no_main]
//! Drives: partition tables, file systems and hunks behind their magic, with every check made and every file read.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::chunked::chd::Chd;
use decanter_formats::disk::{exfat::ExFat, ext::Ext, fat::Fat, gpt::Gpt, mbr::Mbr, ntfs::Ntfs};
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((which, data)) = data.split_first() else { return };
    let mut bytes = data.to_vec();
    bytes.resize(bytes.len().max(4096), 0);
    let format: &dyn Format = match which % 7 {
        0 => {
            bytes[..16].copy_from_slice(b"MComprHD\0\0\0\x7c\0\0\0\x05");
            &Chd
        }
        1 => {
            (bytes[510], bytes[511]) = (0x55, 0xaa);
            &Mbr
        }
        2 => {
            bytes[512..520].copy_from_slice(b"EFI PART");
            &Gpt
        }
        3 => {
            (bytes[0], bytes[2], bytes[510], bytes[511]) = (0xeb, 0x90, 0x55, 0xaa);
            &Fat
        }
        4 => {
            bytes[3..11].copy_from_slice(b"NTFS    ");
            (bytes[510], bytes[511]) = (0x55, 0xaa);
            &Ntfs
        }
        5 => {
            bytes[3..11].copy_from_slice(b"EXFAT   ");
            bytes[11..64].fill(0);
            (bytes[510], bytes[511]) = (0x55, 0xaa);
            &ExFat
        }
        _ => {
            (bytes[1024 + 56], bytes[1024 + 57]) = (0x53, 0xef);
            &Ext
        }
    };
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(opened) = format.open(Arc::new(Bytes(bytes)), &opener) else { return };
    for inspect in &opened.proof.inspections {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(20) {
        let Ok(source) = file.source() else { continue };
        let _ = source.read_at(0, &mut vec![0; source.len().min(1 << 16) as usize]);
    }
});
