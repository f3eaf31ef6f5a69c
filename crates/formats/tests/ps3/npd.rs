use super::*;
use decanter_core::Error;
use decanter_core::protection::KeyState;
use decanter_formats::package::ps3::npd::{Making, compose};
use proptest::prelude::*;

const ID: &str = "UP0001-DCNT10001_00-KELPCOURIER00000";
const PAGE: &[u8] = b"Moth Parade, page 1.";
const KEYS: [(&str, u8); 6] = [
    ("ps3.edat.key.0", 0x10),
    ("ps3.edat.key.1", 0x20),
    ("ps3.sdat.key", 0x30),
    ("ps3.npd.free", 0x40),
    ("ps3.npd.title", 0x50),
    ("ps3.npd.header", 0x60),
];

fn new(content: &[u8]) -> Vec<u8> {
    let making = Making::of(ID, "page.edat", &ring(&KEYS)).unwrap();
    bytes_of(&compose(source(content), &making, &()).unwrap()).unwrap()
}

#[test]
fn fixed_bytes_are_read() {
    let long = unhex(include_str!("fixed/long_codes.hex"));
    let opened = open(&long, &ring(&KEYS)).unwrap();
    assert_eq!(content(&opened).unwrap(), PAGE);
    assert_eq!(
        (opened.get("content id"), opened.get("licence"), opened.get("version")),
        (Some(ID), Some("free"), Some("3"))
    );
    assert_eq!(faults(&opened), Vec::<String>::new());
    // A local licence, and entries that are XORed with their codes.
    let entries = unhex(include_str!("fixed/compressed_entries.hex"));
    let mut keys = ring(&KEYS);
    keys.add(ID, key(0x70), "a file");
    let opened = open(&entries, &keys).unwrap();
    assert_eq!(content(&opened).unwrap(), PAGE);
    assert_eq!(faults(&opened), Vec::<String>::new());
}

#[test]
fn what_was_wrapped_comes_out() {
    for len in [0, 1, 15, 16, 0x3fff, 0x4000, 0x4001, 3 * 0x4000 + 5] {
        let bytes: Vec<u8> = (0..len).map(|i| (i * 7 + i / 251) as u8).collect();
        let file = new(&bytes);
        let opened = open(&file, &ring(&KEYS)).unwrap();
        assert_eq!(content(&opened).unwrap(), bytes, "{len}");
        assert_eq!(faults(&opened), Vec::<String>::new());
        assert_eq!(&file[file.len() - 16..], b"EDATA 3.3.0.W\0\0\0");
        assert!(matches!(opened.protection.unwrap().key, KeyState::Found { .. }));
    }
}

#[test]
fn keys_that_are_missing_or_wrong_are_told() {
    let file = new(PAGE);
    let trouble = |ring: &Keyring| open(&file, ring).unwrap().closed_by().cloned().unwrap();
    assert!(trouble(&Keyring::default()).need.contains("ps3.edat.key.0"));
    assert!(trouble(&ring(&KEYS[..1])).need.contains("ps3.npd.free"));
    assert_eq!(trouble(&ring(&[KEYS[0], ("ps3.npd.free", 1)])).wrong, ["a list"]);
    let missing = Making::of(ID, "x", &ring(&KEYS[..4])).err().unwrap();
    assert!(missing.need.contains("ps3.npd.title"), "{}", missing.need);
}

#[test]
fn a_damaged_block_is_never_handed_on() {
    let bytes: Vec<u8> = (0..3 * 0x4000u32).map(|i| (i * 7 + i / 251) as u8).collect();
    let mut file = new(&bytes);
    // The second block stands behind two entries and a block.
    file[0x100 + 0x40 + 0x4000 + 9] ^= 1;
    let opened = open(&file, &ring(&KEYS)).unwrap();
    let tree = opened.holds.tree.as_ref().unwrap();
    let inside = tree.files().next().unwrap().1.source().unwrap();
    let mut part = vec![0; 0x4000];
    assert!(inside.read_at(0, &mut part).is_ok());
    assert!(matches!(inside.read_at(0x4000, &mut part), Err(Error::Checksum { .. })));
    assert!(matches!(inside.read_at(0x7fff, &mut [0; 2]), Err(Error::Checksum { .. })));
    assert!(inside.read_at(0x8000, &mut part).is_ok());
    let told = faults(&opened);
    assert!(told.len() == 1 && told[0].contains("block 1, at 0x4140"), "{told:?}");
    let mut entry = new(&bytes);
    entry[0x108] ^= 1;
    let told = faults(&open(&entry, &ring(&KEYS)).unwrap());
    assert!(told.iter().any(|t| t.contains("code of all entries")) && told.iter().any(|t| t.contains("block 0")));
}

/// A byte of the flags' neighbourhood changes the code of the header, but not the hash of its first bytes.
#[test]
fn a_damaged_header_is_told_from_a_wrong_key() {
    let mut file = new(PAGE);
    file[0x8f] ^= 1;
    let opened = open(&file, &ring(&KEYS)).unwrap();
    let told = faults(&opened);
    assert!(told.iter().any(|t| t.starts_with("code of the header")), "{told:?}");
    assert!(matches!(&opened.protection.unwrap().key, KeyState::Found { proof: Some(p), .. } if p.contains("hash")));
    // Without that secret nothing tells, and the key is not believed.
    assert!(open(&file, &ring(&KEYS[..5])).unwrap().closed_by().is_some());
}

#[test]
fn impossible_headers_have_offsets() {
    let offset = |at: usize, bytes: &[u8]| {
        let mut file = new(PAGE);
        file[at..at + bytes.len()].copy_from_slice(bytes);
        match open(&file, &ring(&KEYS)) {
            Err(Error::Malformed { offset, .. }) => Some(offset),
            Err(Error::Unsupported { .. }) => None,
            _ => panic!("it was opened"),
        }
    };
    assert_eq!(offset(0x04, &[0, 0, 0, 5]), None, "version");
    assert_eq!(offset(0x84, &[0; 4]), Some(0x84), "no bytes in a block");
    assert_eq!(offset(0x84, &[0, 0, 0, 24]), Some(0x84), "no whole cipher blocks");
    assert_eq!(offset(0x88, &[0xff; 8]), Some(0x88), "length");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]

    #[test]
    fn any_bytes_are_a_file_or_an_error(
        changes in proptest::collection::vec((0usize..0x180, any::<u8>()), 0..8),
        flags in any::<u8>(),
        cut in 0usize..80,
    ) {
        let mut file = new(PAGE);
        file[0x83] = flags;
        for (at, byte) in changes {
            if let Some(place) = file.get_mut(at) {
                *place = byte;
            }
        }
        file.truncate(file.len() - cut);
        if let Ok(opened) = open(&file, &ring(&KEYS)) {
            for (_, inside) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = inside.source() {
                    let _ = source.read_at(0, &mut vec![0; source.len().min(4096) as usize]);
                }
            }
        }
    }
}
