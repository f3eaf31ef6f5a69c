#![no_main]
//! The region table in sector 0 of a PS3 disc.

use decanter_core::source::Bytes;
use decanter_formats::optical::ps3::regions::{RegionTable, disc_id, has_magic};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let mut sectors = data.to_vec();
    sectors.resize(4096, 0);
    let source = Bytes(sectors);
    let _ = has_magic(&source);
    let _ = disc_id(&source);
    if let Ok(table) = RegionTable::read(&source) {
        assert!(table.regions.windows(2).all(|w| w[0].range.end == w[1].range.start));
        assert!(table.encrypted().iter().all(|r| r.start < r.end && r.end <= table.disc_len()));
    }
});
