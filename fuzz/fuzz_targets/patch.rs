#![no_main]
//! Patches: the first byte chooses the format; the patch's own checksum is made right, so that what is in it is read.

use decanter_core::Keyring;
use decanter_core::format::Opener;
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::REGISTRY;
use libfuzzer_sys::fuzz_target;
use std::sync::Arc;

fuzz_target!(|data: &[u8]| {
    let Some((&which, data)) = data.split_first() else { return };
    let mut bytes = [&b"PATCH"[..], b"UPS1", b"BPS1", b"\xd6\xc3\xc4\0"][usize::from(which) % 4].to_vec();
    bytes.extend_from_slice(data);
    if matches!(which % 4, 1 | 2) {
        let own = crc32fast::hash(&bytes).to_le_bytes();
        bytes.extend(own);
    }
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let Ok(opened) = opener.open(Arc::new(Bytes(bytes))) else { return };
    let Some(patch) = opened.holds.patch else { return };
    let len = patch.source().len.unwrap_or(300).min(1 << 16) as usize;
    let source: SourceRef = Arc::new(Bytes((0..len).map(|i| i as u8).collect()));
    let _ = patch.touches();
    for result in [patch.apply(&source), patch.undo(&source)].into_iter().flatten() {
        let len = result.len().min(1 << 20);
        let _ = result.read_at(0, &mut vec![0; len as usize]);
    }
});
