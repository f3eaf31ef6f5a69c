#![no_main]
//! A UDF volume: a sound one, with pieces of the input laid over its structures.

use decanter_core::Keyring;
use decanter_core::format::{Opener, Format};
use decanter_core::source::Bytes;
use decanter_core::tree::Tree;
use decanter_formats::REGISTRY;
use decanter_formats::optical::iso9660::{Volume, compose};
use decanter_formats::optical::udf::Udf;
use libfuzzer_sys::fuzz_target;
use std::sync::{Arc, LazyLock};

static SOUND: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let volume = Volume { label: "MOTH".into(), udf: true, ..Volume::default() };
    let source = compose(&Tree::default(), &volume).unwrap().as_source().unwrap();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).unwrap();
    bytes
});

fuzz_target!(|data: &[u8]| {
    let mut image = SOUND.clone();
    // Each piece: sector among those with structures, offset in it, length, bytes.
    let mut rest = data;
    while let [sector, offset, len, tail @ ..] = rest {
        let at = [32, 33, 34, 35, 256, 257, 258, 259, 260][usize::from(*sector) % 9] * 2048 + usize::from(*offset) * 2;
        let len = usize::from(*len % 64).min(tail.len());
        let len = len.min(image.len().saturating_sub(at));
        image[at..at + len].copy_from_slice(&tail[..len]);
        // The tag's sums are made right again, or nothing behind them would be reached.
        let start = at / 2048 * 2048;
        let crc_len = usize::from(u16::from_le_bytes([image[start + 10], image[start + 11]])).min(2032);
        let mut crc = 0u16;
        for &byte in &image[start + 16..start + 16 + crc_len] {
            crc ^= u16::from(byte) << 8;
            for _ in 0..8 {
                crc = if crc & 0x8000 != 0 { crc << 1 ^ 0x1021 } else { crc << 1 };
            }
        }
        image[start + 8..start + 10].copy_from_slice(&crc.to_le_bytes());
        image[start + 10..start + 12].copy_from_slice(&(crc_len as u16).to_le_bytes());
        image[start + 4] = 0;
        image[start + 4] = image[start..start + 16].iter().fold(0u8, |s, b| s.wrapping_add(*b));
        rest = &tail[len..];
    }
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let _ = Udf.open(Arc::new(Bytes(image)), &opener);
});
