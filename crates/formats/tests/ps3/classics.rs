use super::*;
use decanter_core::Error;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, hex, of_bytes};
use decanter_core::guard::{Door, Guard};
use decanter_core::pour::{Output, pour};
use decanter_formats::package::ps3::classics::header::{Hashes, IN_GROUP, SEGMENT, segment_at, table_at};
use decanter_formats::package::ps3::classics::{self, compose, limg, lock};
use decanter_formats::package::ps3::keys::Console;
use proptest::prelude::*;

const ID: &str = "UP0001-DCUT20007_00-LAMPLIGHTERLANE0";
const KEYS: [(&str, u8); 6] = [
    ("ps2.classics.consumer.data", 0xa0),
    ("ps2.classics.consumer.meta", 0xb0),
    ("ps2.classics.debug.data", 0xc0),
    ("ps2.classics.debug.meta", 0xd0),
    ("ps2.classics.iv", 0xe0),
    (ID, 0x80),
];
const DVD: limg::Kind = limg::Kind { is_cd: false, sector: 2048 };

fn pattern(len: usize) -> Vec<u8> {
    (0..len).map(|i| (i * 7 + i / 251) as u8).collect()
}

/// The bytes of what is laid out: packed parts are known only once they are written.
fn written(blueprint: &Blueprint) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let target = folder.path().join("out");
    let door = Door { guard: &Guard::default(), replace: false };
    pour(Output::new(blueprint, &target), door, &()).unwrap();
    std::fs::read(target).unwrap()
}

fn new(image: SourceRef, console: Console) -> Vec<u8> {
    let lock = lock::derived(&ring(&KEYS), console, &key(0x80), "it").unwrap();
    written(&compose(image, ID, &lock, &Hashes::default()).unwrap())
}

/// However it is read, an image as a source has the bytes that are written.
#[test]
fn as_a_source_it_has_the_same_bytes() {
    let lock = lock::derived(&ring(&KEYS), Console::Consumer, &key(0x80), "it").unwrap();
    // Nothing at all, a part of a group, and two whole ones with a part of a third.
    for len in [0, 5000, (SEGMENT * IN_GROUP * 2 + SEGMENT + 77) as usize] {
        let image = source(&pattern(len));
        let file = new(image.clone(), Console::Consumer);
        let made = classics::source(image, ID, &lock, &Hashes::default()).unwrap();
        assert!(bytes_of(&made).unwrap() == file, "{len}");
        let at = file.len().saturating_sub(40_000);
        let mut end = vec![0; file.len() - at];
        made.read_at(at as u64, &mut end).unwrap();
        assert!(end == file[at..], "{len}");
    }
    let open = lock::Lock { data: None, ..lock };
    assert!(classics::source(source(&[1]), ID, &open, &Hashes::default()).is_err());
}

/// The SHA-1 of the whole file, and the first table's beginning, were worked out with other means.
#[test]
fn fixed_bytes() {
    let file = new(source(&pattern(0x8064)), Console::Consumer);
    assert_eq!(file.len(), 81_920);
    assert_eq!(hex(&file[0x4000..0x4020]), "e64f38dcc46ec859cd64456611ff1b490a4badd0b4f9e5920e9d3942eca2f691");
    assert_eq!(of_bytes(Algorithm::Sha1, &file).hex(), "6c1c4ad865518c78cd1af0e6f8e16136f20ee5ce");
}

#[test]
fn places_of_tables_and_segments() {
    assert_eq!((table_at(0), segment_at(0), segment_at(1)), (0x4000, 0x8000, 0xc000));
    assert_eq!(segment_at(IN_GROUP - 1) + SEGMENT, table_at(1));
    assert_eq!(segment_at(IN_GROUP), table_at(1) + SEGMENT);
}

#[test]
fn images_come_out_as_they_were_for_either_console() {
    for console in [Console::Consumer, Console::Debug] {
        for len in [1, 0x4000, 0x4001, (SEGMENT * (IN_GROUP + 1)) as usize + 5] {
            let bytes = pattern(len);
            let file = new(source(&bytes), console);
            let opened = open(&file, &ring(&KEYS)).unwrap();
            assert_eq!(content(&opened).unwrap(), bytes, "{len}");
            assert_eq!(faults(&opened), Vec::<String>::new());
            let told = if console == Console::Debug { "consoles of developers" } else { "consoles that are sold" };
            assert_eq!(opened.get("for"), Some(told));
        }
    }
}

#[test]
fn what_was_added_at_the_end_is_taken_off_again() {
    let disc = pattern(5 * 2048);
    let whole = limg::with(source(&disc), DVD).unwrap();
    assert_eq!(whole.len(), 2 * SEGMENT);
    let bytes = bytes_of(&whole).unwrap();
    assert_eq!(hex(&bytes[0x4000..0x4010]), "4c494d47000000010000000500000800");
    assert!(bytes[5 * 2048..0x4000].iter().all(|b| *b == 0));
    assert_eq!(content(&open(&new(whole.clone(), Console::Consumer), &ring(&KEYS)).unwrap()).unwrap(), disc);
    // One that it has itself stays, and no second one is added.
    let mut own = bytes;
    own[0x7ff0..].fill(0);
    let again = limg::with(source(&own), DVD).unwrap();
    assert_eq!(bytes_of(&again).unwrap(), own);
    assert_eq!(content(&open(&new(again, Console::Consumer), &ring(&KEYS)).unwrap()).unwrap(), own);
    assert!(limg::read(whole.as_ref()).unwrap().is_some_and(|told| told.before == Some(5 * 2048) && told.sectors == 5));
}

#[test]
fn a_damaged_segment_is_never_handed_on() {
    let mut file = new(source(&pattern(3 * 0x4000)), Console::Consumer);
    file[segment_at(1) as usize + 77] ^= 1;
    let opened = open(&file, &ring(&KEYS)).unwrap();
    let tree = opened.holds.tree.as_ref().unwrap();
    let inside = tree.files().next().unwrap().1.source().unwrap();
    let mut part = vec![0; 0x4000];
    assert!(inside.read_at(0, &mut part).is_ok() && inside.read_at(0x8000, &mut part).is_ok());
    assert!(matches!(inside.read_at(0x4000, &mut part), Err(Error::Checksum { .. })));
    assert!(matches!(inside.read_at(0x4010, &mut [0; 4]), Err(Error::Checksum { .. })));
    let told = faults(&opened);
    assert!(told.len() == 1 && told[0].contains("segment 1, at 0xc000"), "{told:?}");
    // Of a file that was cut, what is there is read.
    let cut = open(&file[..segment_at(2) as usize], &ring(&KEYS)).unwrap();
    assert!(cut.told.notices.iter().any(|n| n.is_damage && n.text.contains("16,384 bytes of it are missing")));
}

#[test]
fn the_hashes_of_a_header_hold_or_are_told() {
    let mut keys = ring(&KEYS);
    keys.add("ps3.npd.title", key(0x50), "a list");
    keys.add("ps3.npd.header", key(0x60), "a list");
    let lock = lock::derived(&keys, Console::Consumer, &key(0x80), "it").unwrap();
    let hashes = Hashes::of(&keys, &key(0x80));
    let file = written(&compose(source(&pattern(0x4000)), ID, &lock, &hashes).unwrap());
    let opened = open(&file, &keys).unwrap();
    assert_eq!((faults(&opened).len(), opened.proof.settled.len()), (0, 2));
    assert!(open(&file, &ring(&KEYS)).unwrap().proof.settled.is_empty(), "without their secrets nothing is said");
    for (at, count) in [(0x0c, 1), (0x11, 2), (0x45, 1), (0x55, 2), (0x61, 1)] {
        let mut bytes = file.clone();
        bytes[at] ^= 1;
        let with_key = {
            let mut own = keys.clone();
            own.given = None;
            own.add("Moth Parade", key(0x80), "a list");
            own
        };
        assert_eq!(faults(&open(&bytes, &with_key).unwrap()).len(), count, "{at:#x}");
    }
}

#[test]
fn keys_that_are_missing_or_wrong_are_told() {
    let file = new(source(&pattern(0x4000)), Console::Consumer);
    let trouble = |ring: &Keyring| open(&file, ring).unwrap().closed_by().cloned().unwrap();
    let missing = trouble(&ring(&KEYS[..5]));
    assert!(missing.need.contains(ID) && missing.wrong.is_empty());
    assert!(trouble(&ring(&KEYS[5..])).need.contains("ps2.classics.iv"));
    let mut other = KEYS;
    other[5].1 = 1;
    assert_eq!(trouble(&ring(&other)).wrong, ["a list"]);
}

/// Tables in the clear prove the stored segments without any key.
#[test]
fn tables_in_the_clear_need_no_key() {
    let mut file = new(source(&pattern(2 * 0x4000)), Console::Consumer);
    let (a, b) = (segment_at(0) as usize, segment_at(1) as usize);
    let digests = [a, b].map(|at| of_bytes(Algorithm::Sha1, &file[at..at + 0x4000]).bytes);
    file[0x4000..0x8000].fill(0);
    for (n, digest) in digests.iter().enumerate() {
        file[0x4000 + n * 0x20..][..20].copy_from_slice(digest);
    }
    let opened = open(&file, &Keyring::default()).unwrap();
    assert!(opened.closed_by().is_some() && faults(&opened).is_empty());
    file[b] ^= 1;
    assert!(faults(&open(&file, &Keyring::default()).unwrap())[0].contains("segment 1"));
    file[b] ^= 1;
    assert_eq!(content(&open(&file, &ring(&KEYS)).unwrap()).unwrap(), pattern(2 * 0x4000));
}

/// Whatever else makes the first SHA-1 right is taken: here another vector, and digests of plaintext.
#[test]
fn the_first_digest_decides_how_it_is_read() {
    let keys = ring(&KEYS);
    let derived = lock::derived(&keys, Console::Consumer, &key(0x80), "it").unwrap();
    let other = lock::Lock { iv: *key(0xe0).bytes16().unwrap(), ..derived };
    let bytes = pattern(0x9000);
    let file = written(&compose(source(&bytes), ID, &other, &Hashes::default()).unwrap());
    assert_eq!(content(&open(&file, &keys).unwrap()).unwrap(), bytes);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_bytes_are_an_image_or_an_error(
        changes in proptest::collection::vec((0usize..0x8100, any::<u8>()), 0..6),
        header in proptest::collection::vec((0usize..0x90, any::<u8>()), 0..4),
        cut in 0usize..0x9000,
    ) {
        let mut file = new(source(&pattern(0x4100)), Console::Consumer);
        for (at, byte) in changes.into_iter().chain(header) {
            file[at] = byte;
        }
        file.truncate(file.len() - cut);
        if let Ok(opened) = open(&file, &ring(&KEYS)) {
            let _ = faults(&opened);
            for (_, inside) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = inside.source() {
                    let _ = source.read_at(0, &mut vec![0; source.len().min(4096) as usize]);
                }
            }
        }
    }
}
