//! Packages and cartridge images of the hybrid console: partitions of files with digests, and contents that are called by their own.

use super::{little, sha256};
use crate::support::{demo, folder, run, text};
use std::collections::BTreeMap;
use std::fs;

fn long(bytes: &[u8], at: usize) -> usize {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
}

/// The files of a partition that begins with `magic`, whose entries have so many bytes.
fn partition<'a>(bytes: &'a [u8], magic: &[u8], entry_len: usize) -> BTreeMap<String, &'a [u8]> {
    assert_eq!(&bytes[..4], magic);
    let (count, names_len) = (little(bytes, 4) as usize, little(bytes, 8) as usize);
    let names = &bytes[16 + count * entry_len..][..names_len];
    let data = &bytes[16 + count * entry_len + names_len..];
    let mut found = BTreeMap::new();
    for number in 0..count {
        let entry = &bytes[16 + number * entry_len..][..entry_len];
        let name = names[little(entry, 16) as usize..].split(|b| *b == 0).next().unwrap();
        let content = &data[long(entry, 0)..][..long(entry, 8)];
        if entry_len == 64 {
            let (len, at) = (little(entry, 20) as usize, long(entry, 24));
            assert_eq!(sha256(&content[at..at + len]), entry[32..64], "{name:?}");
        }
        assert!(found.insert(String::from_utf8(name.to_vec()).unwrap(), content).is_none());
    }
    found
}

/// The files of the partition of a cartridge image with this name.
fn of_card<'a>(card: &'a [u8], name: &str) -> BTreeMap<String, &'a [u8]> {
    assert_eq!(&card[0x100..0x104], b"HEAD");
    let (at, len) = (long(card, 0x130), long(card, 0x138));
    assert_eq!(sha256(&card[at..at + len]), card[0x140..0x160]);
    partition(partition(&card[at..], b"HFS0", 64)[name], b"HFS0", 64)
}

/// Contents are called by the first half of their own digest.
fn check_names(files: &BTreeMap<String, &[u8]>) {
    let contents: Vec<_> = files.iter().filter(|(name, _)| name.ends_with(".nca")).collect();
    assert!(contents.len() > 2);
    for (name, content) in contents {
        let digest: String = sha256(content)[..16].iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(name.split('.').next(), Some(digest.as_str()));
    }
}

#[test]
fn cards_and_packages_hold_the_same_contents() {
    let folder = folder();
    let shelf = &demo().shelf;
    let source = shelf.join("Fogbell.xci");
    let keys = shelf.join("keys");
    let convert = |from: &str, to: &str, out: &str| {
        run(folder.path(), &["convert", from, "--to", to, "-o", out, "--keys", text(&keys)]).expect(0);
        fs::read(folder.path().join(out)).unwrap()
    };
    let card = fs::read(&source).unwrap();
    let package = convert(text(&source), "nsp", "made.nsp");
    let (on_card, in_package) = (of_card(&card, "secure"), partition(&package, b"PFS0", 24));
    check_names(&on_card);
    check_names(&in_package);
    let contents = |files: &BTreeMap<String, &[u8]>| -> Vec<Vec<u8>> {
        files.iter().filter(|(name, _)| name.ends_with(".nca")).map(|(_, content)| content.to_vec()).collect()
    };
    assert!(contents(&on_card) == contents(&in_package));
    let again = convert("made.nsp", "xci", "made.xci");
    let back = of_card(&again, "secure");
    check_names(&back);
    assert!(contents(&back) == contents(&in_package));
}
