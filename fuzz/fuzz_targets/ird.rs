#![no_main]
//! A disc description, unpacked, with its CRC made right: otherwise the checksum would keep every change out.

use decanter_formats::record::ird::Description;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = Description::parse(data);
    let mut bytes = b"3IRD".to_vec();
    bytes.extend_from_slice(data);
    let crc = decanter_core::digest::of_bytes(decanter_core::Algorithm::Crc32, &bytes);
    bytes.extend(crc.bytes.iter().rev());
    if let Ok(description) = Description::parse(&bytes) {
        let _ = description.compose();
    }
});
