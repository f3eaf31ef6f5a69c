//! Copies with faults at any places, repaired: whatever is told as proven is the dump as it was, and what one copy or the other has
//! is found.

use decanter_core::digest::{Algorithm, of_source};
use decanter_core::source::{Bytes, SourceRef};
use decanter_jobs::repair::{Options, RepairVerdict, RepairedReport, repair};
use decanter_jobs::{Answer, Setting};
use proptest::prelude::*;
use std::fs;
use std::path::Path;
use std::sync::Arc;

/// Bytes of a piece that copies are compared by, of files that are no images.
const UNIT: usize = 512;

/// A dump: noise, but for a stretch of zeros.
fn dump(seed: u64, len: usize) -> Vec<u8> {
    let mut state = seed | 1;
    let mut noise = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as u8
    };
    (0..len).map(|at| if (2 * UNIT..3 * UNIT).contains(&at) { 0 } else { noise() }).collect()
}

/// Repairs these copies by a list with these digests of the dump; what was told, and what was written.
fn repaired(
    good: &[u8],
    copies: &[Vec<u8>],
    digests: &str,
    keep_damage: bool,
) -> (RepairedReport, Answer, Option<Vec<u8>>) {
    let folder = tempfile::tempdir().unwrap();
    let place = |name: &str| folder.path().join(name);
    let crc = format!("crc=\"{:08x}\"", crc32fast::hash(good));
    let whole: SourceRef = Arc::new(Bytes(good.to_vec()));
    let sha1 = of_source(&whole, &[Algorithm::Sha1], &()).unwrap()[0].hex();
    let own = digests.replace("CRC", &crc).replace("SHA", &format!("sha1=\"{sha1}\""));
    let list =
        format!("<datafile><game name=\"x\"><rom name=\"x.bin\" size=\"{}\" {own}/></game></datafile>", good.len());
    fs::write(place("x.dat"), list).unwrap();
    let names: Vec<String> = (0..copies.len()).map(|number| text(&place(&format!("copy {number}.bin")))).collect();
    names.iter().zip(copies).for_each(|(name, copy)| fs::write(name, copy).unwrap());
    let against = if digests.is_empty() { Vec::new() } else { vec![text(&place("x.dat"))] };
    let options = Options { against, keep_damage, ..Options::default() };
    let (report, answer) = repair(&names, Some(&place("out.bin")), &options, &Setting::new(&())).unwrap();
    let written = fs::read(place("out.bin")).ok();
    assert_eq!(written.is_some(), report.target.is_some(), "{report:?}");
    (report, answer, written)
}

fn text(path: &Path) -> String {
    path.to_str().unwrap().to_owned()
}

/// The dump with faults: one bit in each of these pieces.
fn with_faults(good: &[u8], pieces: &[usize]) -> Vec<u8> {
    let mut copy = good.to_vec();
    for piece in pieces {
        let at = (piece * UNIT + piece % UNIT).min(copy.len() - 1);
        copy[at] ^= 1 << (piece % 8);
    }
    copy
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn what_one_copy_or_the_other_has_is_put_together(
        seed in any::<u64>(),
        len in 40 * UNIT..80 * UNIT,
        faults in proptest::collection::btree_map(0usize..40, 0usize..3, 0..9),
        digests in proptest::sample::select(vec!["CRC", "CRC SHA", "SHA"]),
    ) {
        let good = dump(seed, len);
        let of = |copy: usize| faults.iter().filter(|(_, own)| **own == copy).map(|(piece, _)| *piece).collect::<Vec<_>>();
        let copies: Vec<Vec<u8>> = (0..3).map(|copy| with_faults(&good, &of(copy))).collect();
        let (report, answer, written) = repaired(&good, &copies, digests, false);
        prop_assert_eq!((report.verdict, answer), (RepairVerdict::Match, Answer::Yes));
        prop_assert!(written.unwrap() == good);
    }

    #[test]
    fn nothing_is_told_as_better_than_it_is(
        seed in any::<u64>(),
        faults in proptest::collection::vec(proptest::collection::btree_set(0usize..40, 0..6), 2..5),
        cut in 0usize..3 * UNIT,
        digests in proptest::sample::select(vec!["CRC", "SHA", ""]),
        keep in any::<bool>(),
    ) {
        let good = dump(seed, 40 * UNIT + 77);
        let mut copies: Vec<Vec<u8>> =
            faults.iter().map(|pieces| with_faults(&good, &pieces.iter().copied().collect::<Vec<_>>())).collect();
        let len = copies[0].len();
        copies[0].truncate(len - cut);
        let (report, answer, written) = repaired(&good, &copies, digests, keep);
        match report.verdict {
            RepairVerdict::Match => prop_assert!(written.as_deref() == Some(&good[..]), "{report:?}"),
            RepairVerdict::Agreed | RepairVerdict::Sound => prop_assert!(digests.is_empty() && written.is_some(), "{report:?}"),
            RepairVerdict::Unsolved => prop_assert!(answer == Answer::No && written.is_some() == keep, "{report:?}"),
        }
    }
}

#[test]
fn blocks_of_any_order_give_the_same() {
    // More than a block of 4 MiB each way: faults stand on both sides of the borders, and where the last block ends.
    let good = dump(7, (9 << 20) + 100);
    let piece = |byte: usize| byte / UNIT;
    let ends = [piece(4 << 20) - 1, piece(4 << 20), piece(8 << 20), piece(good.len() - 1)];
    let copies = [with_faults(&good, &ends[..2]), with_faults(&good, &ends[2..])];
    let (report, _, written) = repaired(&good, &copies, "CRC SHA", false);
    assert!(written.unwrap() == good);
    // What stands beside each other on both sides of a border is one place.
    let places: Vec<(u64, u64)> = report.stretches.iter().map(|taken| (taken.first, taken.count)).collect();
    assert_eq!(places, [(ends[0] as u64, 2), (ends[2] as u64, 1), (ends[3] as u64, 1)]);
    assert_eq!(report.copies.iter().map(|copy| copy.taken_sectors).collect::<Vec<_>>(), [2, 2]);
    assert_eq!(report.copies.iter().map(|copy| copy.missing_sectors).sum::<u64>(), 0);
}

#[test]
fn dumps_of_different_things_are_no_copies() {
    let folder = tempfile::tempdir().unwrap();
    let names = ["a.bin", "b.bin"].map(|name| text(&folder.path().join(name)));
    fs::write(&names[0], dump(1, 5 << 20)).unwrap();
    fs::write(&names[1], dump(2, 5 << 20)).unwrap();
    let setting = Setting::new(&());
    let failure = repair(&names, Some(&folder.path().join("out.bin")), &Options::default(), &setting).unwrap_err();
    assert!(format!("{failure:?}").contains("no copies of the same"), "{failure:?}");
    assert!(!folder.path().join("out.bin").exists());
}
