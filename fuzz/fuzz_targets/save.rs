#![no_main]
//! Save files: every layout that one may have, taken out and put back.

use decanter_core::rom::{SaveKind, SaveMemory};
use decanter_formats::cartridge::save;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((&which, file)) = data.split_first() else { return };
    let sizes = [128u64, 512, 1024];
    let mut memory = SaveMemory::new(SaveKind::Sram, &sizes[usize::from(which) % 3..], "fuzz");
    memory.clock = which & 8 != 0;
    for memory in [None, Some(&memory)] {
        for holder in save::holders(file, memory) {
            let Ok(content) = save::take(file, &holder, Some("sram"), memory) else { continue };
            let put = save::put(file, &holder, Some("sram"), memory, &content).expect("what was taken out fits");
            assert!(put.len() == file.len() || holder.layout == save::Layout::Short);
        }
    }
});
