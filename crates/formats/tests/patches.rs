//! Patches: what is made leads back to the new file; nothing that a patch says is believed.

use decanter_core::format::Opener;
use decanter_core::patch::Patch;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use decanter_formats::patch::{bps, ips, ups, vcdiff};
use proptest::prelude::*;
use std::sync::Arc;

fn open(bytes: Vec<u8>) -> Result<Arc<dyn Patch>> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let opened = opener.open(Arc::new(Bytes(bytes)))?;
    opened.holds.patch.ok_or_else(|| Error::Usage("no patch".into()))
}

fn source(bytes: &[u8]) -> SourceRef {
    Arc::new(Bytes(bytes.to_vec()))
}

fn all(source: Result<SourceRef>) -> Result<Vec<u8>> {
    let source = source?;
    let mut bytes = vec![0; source.len().min(1 << 24) as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Patches of all formats.
fn made_all(old: &[u8], new: &[u8]) -> [Vec<u8>; 4] {
    [
        bps::make(old, new, b"").unwrap(),
        ups::make(old, new).unwrap(),
        ips::make(old, new).unwrap(),
        vcdiff::make(old, new).unwrap(),
    ]
}

/// A new file that has something to do with the old one: pieces of it, in some order, with other bytes between.
fn related() -> impl Strategy<Value = (Vec<u8>, Vec<u8>)> {
    let old = prop_oneof![
        proptest::collection::vec(any::<u8>(), 0..3000),
        proptest::collection::vec(0u8..3, 0..3000),
        (any::<u8>(), 0usize..3000).prop_map(|(byte, len)| vec![byte; len]),
    ];
    let piece = (any::<prop::sample::Index>(), 0usize..900, proptest::collection::vec(any::<u8>(), 0..40));
    (old, proptest::collection::vec(piece, 0..8)).prop_map(|(old, pieces)| {
        let mut new = Vec::new();
        for (from, len, bytes) in pieces {
            let from = from.index(old.len() + 1);
            new.extend_from_slice(&old[from..(from + len).min(old.len())]);
            new.extend(bytes);
        }
        (old, new)
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn patches_lead_to_the_new_file((old, new) in related(), metadata in proptest::collection::vec(any::<u8>(), 0..20)) {
        let made = open(bps::make(&old, &new, &metadata).unwrap()).unwrap();
        prop_assert!(all(made.apply(&source(&old))).unwrap() == new);
        prop_assert_eq!(made.metadata(), &metadata[..]);
        prop_assert_eq!((made.source().len, made.target().len), (Some(old.len() as u64), Some(new.len() as u64)));
        prop_assert_eq!(made.target().crc32, Some(crc32fast::hash(&new)));

        let made = open(ups::make(&old, &new).unwrap()).unwrap();
        prop_assert!(all(made.apply(&source(&old))).unwrap() == new);
        prop_assert!(all(made.undo(&source(&new))).unwrap() == old);

        let made = open(ips::make(&old, &new).unwrap()).unwrap();
        prop_assert!(all(made.apply(&source(&old))).unwrap() == new);
        prop_assert!(made.undo(&source(&new)).is_err());

        let made = open(vcdiff::make(&old, &new).unwrap()).unwrap();
        prop_assert!(all(made.apply(&source(&old))).unwrap() == new);
        prop_assert_eq!(made.target().len, Some(new.len() as u64));
        prop_assert!(made.undo(&source(&new)).is_err());
    }

    #[test]
    fn any_part_of_the_result_can_be_read_alone((old, new) in related(), from in any::<prop::sample::Index>(), len in 0usize..500) {
        let (old_ref, from) = (source(&old), from.index(new.len() + 1));
        let to = (from + len).min(new.len());
        for made in made_all(&old, &new) {
            let result = open(made).unwrap().apply(&old_ref).unwrap();
            let mut part = vec![0; to - from];
            result.read_at(from as u64, &mut part).unwrap();
            prop_assert!(part == new[from..to]);
        }
    }

    #[test]
    fn what_a_patch_does_not_touch_stays((old, new) in related()) {
        for made in made_all(&old, &new) {
            let touches = open(made).unwrap().touches();
            prop_assert!(touches.windows(2).all(|w| w[0].end < w[1].start));
            for (at, byte) in new.iter().enumerate().take(old.len()) {
                let touched = touches.iter().any(|r| r.contains(&(at as u64)));
                prop_assert!(touched || old[at] == *byte, "{}", at);
            }
        }
    }

    #[test]
    fn no_damage_can_panic(
        (old, new) in related(),
        which in 0usize..4,
        flips in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6),
        cut in proptest::option::of(any::<prop::sample::Index>()),
        sealed in any::<bool>(),
    ) {
        let mut bytes = made_all(&old, &new)[which].clone();
        for (at, value) in flips {
            let at = 4 + at.index(bytes.len() - 4);
            bytes[at] ^= value;
        }
        if let Some(cut) = cut {
            bytes.truncate(4 + cut.index(bytes.len() - 4));
        }
        if sealed && bytes.len() > 16 {
            // With its own checksum right, the damage gets as far as the instructions.
            let end = bytes.len() - 4;
            let own = crc32fast::hash(&bytes[..end]).to_le_bytes();
            bytes[end..].copy_from_slice(&own);
        }
        if let Ok(patch) = open(bytes) {
            let _ = patch.touches();
            for file in [&old, &new, &vec![]] {
                let _ = all(patch.apply(&source(file)));
                let _ = all(patch.undo(&source(file)));
            }
        }
    }

    #[test]
    fn no_bytes_can_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600), magic in 0usize..4) {
        let mut bytes = bytes;
        bytes.splice(0..0, [&b"PATCH"[..], b"UPS1", b"BPS1", b"\xd6\xc3\xc4\0"][magic].iter().copied());
        if matches!(magic, 1 | 2) {
            let own = crc32fast::hash(&bytes).to_le_bytes();
            bytes.extend(own);
        }
        if let Ok(patch) = open(bytes) {
            let _ = all(patch.apply(&source(&[1; 300])));
        }
    }
}

#[test]
fn a_patch_with_a_wrong_checksum_is_refused() {
    let mut made = bps::make(b"brine", b"bramble", b"").unwrap();
    let end = made.len() - 1;
    made[end] ^= 1;
    assert!(matches!(open(made), Err(Error::Checksum { .. })));
}

#[test]
fn lengths_of_the_future_are_not_granted() {
    // A BPS patch of 30 bytes that wants to write a file of 2^62 bytes.
    let mut bytes = b"BPS1\x80".to_vec();
    bytes.extend([0x7f, 0x7f, 0x7f, 0x7f, 0x7f, 0x7f, 0x7f, 0x7f, 0xbf]);
    bytes.push(0x80);
    bytes.extend([0; 8]);
    let own = crc32fast::hash(&bytes).to_le_bytes();
    bytes.extend(own);
    assert!(matches!(open(bytes), Err(Error::Limit { .. } | Error::Malformed { .. })));
}

/// A VCDIFF patch of these windows.
fn vcd(indicator: &[u8], windows: &[&[u8]]) -> Vec<u8> {
    [b"\xd6\xc3\xc4\0", indicator, &windows.concat()].concat()
}

/// The window of the example of RFC 3284, section 3: COPY 4 at 0, ADD "wxyz", COPY 4 at 4, COPY 12 at 24 (which overlaps what
/// it makes), RUN of 4 "z".
const EXAMPLE: &[u8] = b"\x01\x10\x00\x13\x1c\x00\x05\x06\x03wxyzz\x14\x05\x14\x1c\x00\x04\x00\x04\x18";

#[test]
fn the_example_of_the_standard() {
    let before = source(b"abcdefghijklmnop");
    let patch = open(vcd(b"\0", &[EXAMPLE])).unwrap();
    assert_eq!(all(patch.apply(&before)).unwrap(), b"abcdwxyzefghefghefghefghzzzz");
    assert_eq!((patch.records(), patch.target().len), (1, Some(28)));
    // Text of an application, which is passed over; a second window that copies out of what the first made.
    let again = b"\x02\x08\x04\x07\x08\x00\x00\x01\x01\x18\x00";
    let patch = open(vcd(b"\x04\x04kelp", &[EXAMPLE, again])).unwrap();
    assert_eq!(all(patch.apply(&before)).unwrap(), b"abcdwxyzefghefghefghefghzzzzwxyzefgh");
    // A file that is too short for it.
    let told = patch.apply(&source(b"abcdefghijklmno")).map(|_| ()).unwrap_err().to_string();
    assert!(told.contains("up to byte 16 of a file that has 15"), "{told}");
}

#[test]
fn a_checksum_of_a_window_has_to_hold() {
    // "kelp" has Adler-32 0x0419_01a9: 1 + 107 + 101 + 108 + 112 = 429, and 108 + 209 + 317 + 429 + ... as RFC 1950 sums it.
    let sum = |sum: u32| {
        let window = [&b"\x04\x0e\x04\x00\x04\x01\x00"[..], &sum.to_be_bytes(), b"kelp\x05"].concat();
        open(vcd(b"\0", &[&window])).and_then(|patch| all(patch.apply(&source(b""))))
    };
    let right = (108 + 209 + 317 + 429) << 16 | 429;
    assert_eq!(sum(right).unwrap(), b"kelp");
    assert!(matches!(sum(right + 1), Err(Error::Checksum { .. })));
}

#[test]
fn what_the_standard_leaves_open_is_named() {
    for (bytes, words) in [
        (vcd(b"\x01\x02", &[EXAMPLE]), "secondary compressor (number 2)"),
        (vcd(b"\x08", &[EXAMPLE]), "mean nothing"),
        (vcd(b"\0", &[&EXAMPLE[..20]]), "cut short"),
        (vcd(b"\0", &[b"\x00\x07\x01\x01\x01\x01\x00x\x02"]), "compressed once more"),
        (vcd(b"\0", &[b"\x03\x01\x00\x07"]), "copies out of both files"),
        (vcd(b"\0", &[b"\x02\x01\x00\x07\x01\x00\x00\x01\x01\x14\x00"]), "not made yet"),
        (vcd(b"\0", &[b"\x00\x08\x01\x00\x01\x01\x00x\x02"]), "not as long as it"),
    ] {
        let told = open(bytes).map(|_| ()).unwrap_err().to_string();
        assert!(told.contains(words), "{words}: {told}");
    }
    // What only shows when it is made: an instruction too many, a copy from here on, bytes left over.
    for window in [
        &b"\x00\x08\x01\x00\x01\x02\x00x\x02\x02"[..],
        b"\x00\x07\x04\x00\x00\x01\x01\x14\x00",
        b"\x00\x08\x01\x00\x02\x01\x00xy\x02",
    ] {
        let patch = open(vcd(b"\0", &[window])).unwrap();
        assert!(matches!(all(patch.apply(&source(b"abcd"))), Err(Error::Malformed { .. })), "{window:?}");
    }
}

#[test]
fn large_files_are_patched_window_by_window() {
    let old: Vec<u8> = (0..9_500_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    let mut new = [&old[5_000_000..], &old[..5_000_000]].concat();
    new[123_456] ^= 7;
    let made = vcdiff::make(&old, &new).unwrap();
    assert!(made.len() < 50_000, "{}", made.len());
    let patch = open(made).unwrap();
    assert!(patch.records() >= 3);
    assert!(all(patch.apply(&source(&old))).unwrap() == new);
}
