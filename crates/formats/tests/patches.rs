//! Patches: what is made leads back to the new file; nothing that a patch says is believed.

use decanter_core::format::Opener;
use decanter_core::patch::Patch;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use decanter_formats::patch::{bps, ips, ups};
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
    }

    #[test]
    fn any_part_of_the_result_can_be_read_alone((old, new) in related(), from in any::<prop::sample::Index>(), len in 0usize..500) {
        let (old_ref, from) = (source(&old), from.index(new.len() + 1));
        let to = (from + len).min(new.len());
        for made in [bps::make(&old, &new, b"").unwrap(), ups::make(&old, &new).unwrap(), ips::make(&old, &new).unwrap()] {
            let result = open(made).unwrap().apply(&old_ref).unwrap();
            let mut part = vec![0; to - from];
            result.read_at(from as u64, &mut part).unwrap();
            prop_assert!(part == new[from..to]);
        }
    }

    #[test]
    fn what_a_patch_does_not_touch_stays((old, new) in related()) {
        for made in [bps::make(&old, &new, b"").unwrap(), ups::make(&old, &new).unwrap(), ips::make(&old, &new).unwrap()] {
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
        which in 0usize..3,
        flips in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6),
        cut in proptest::option::of(any::<prop::sample::Index>()),
        sealed in any::<bool>(),
    ) {
        let mut bytes =
            [bps::make(&old, &new, b"").unwrap(), ups::make(&old, &new).unwrap(), ips::make(&old, &new).unwrap()][which].clone();
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
    fn no_bytes_can_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600), magic in 0usize..3) {
        let mut bytes = bytes;
        bytes.splice(0..0, [&b"PATCH"[..], b"UPS1", b"BPS1"][magic].iter().copied());
        if magic > 0 {
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
