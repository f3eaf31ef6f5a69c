//! Cabinets of every kind are read back: what packs them and what unpacks them are written apart from each other.

use decanter_core::format::{Beside, Opener};
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::Content;
use decanter_core::{Keyring, Result};
use decanter_demo::cabinet::{Around, Folder, Lzx, Method, cabinets};
use decanter_formats::REGISTRY;
use proptest::prelude::*;
use std::sync::Arc;

/// Cabinets of a set, by their names.
struct Set(Vec<(String, Vec<u8>)>);

impl Beside for Set {
    fn find(&self, name: &str) -> Result<Option<(String, SourceRef)>> {
        let found = self.0.iter().find(|(own, _)| own == name);
        Ok(found.map(|(own, bytes)| (own.clone(), Arc::new(Bytes(bytes.clone())) as SourceRef)))
    }
}

fn open_beside(bytes: Vec<u8>, set: &Set) -> Result<Opened> {
    let keys = Keyring::default();
    Opener::new(&REGISTRY, &keys).with_beside(set).open(Arc::new(Bytes(bytes)))
}

fn open(bytes: Vec<u8>) -> Result<Opened> {
    open_beside(bytes, &Set(Vec::new()))
}

fn read(opened: &Opened, path: &str) -> Result<Vec<u8>> {
    let source = opened.holds.tree.as_ref().unwrap().find(path).unwrap().file().unwrap().source()?.clone();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Text with calls in it, noise, and a run.
fn content(len: usize) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(len);
    let mut word = 1u32;
    while bytes.len() < len {
        word = word.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        match word >> 29 {
            0 => bytes.extend(word.to_le_bytes()),
            1 => bytes.extend([0xe8, (word >> 8) as u8, (word >> 16) as u8, 0, 0]),
            2 => bytes.extend([7; 40]),
            3 if bytes.len() > 5000 => {
                let from = bytes.len() - 1 - (word >> 8) as usize % 5000;
                bytes.extend_from_within(from..(from + 50).min(bytes.len()));
            }
            _ => bytes.extend(b"the tide at Pier Nine "),
        }
    }
    bytes.truncate(len);
    bytes
}

const METHODS: [Method; 9] = [
    Method::Stored,
    Method::MsZip,
    Method::Lzx(Lzx { bits: 15, calls: false, is_mixed: false }),
    Method::Lzx(Lzx { bits: 15, calls: true, is_mixed: true }),
    Method::Lzx(Lzx { bits: 16, calls: true, is_mixed: false }),
    Method::Lzx(Lzx { bits: 17, calls: false, is_mixed: true }),
    Method::Lzx(Lzx { bits: 18, calls: true, is_mixed: false }),
    Method::Lzx(Lzx { bits: 20, calls: false, is_mixed: true }),
    Method::Lzx(Lzx { bits: 21, calls: true, is_mixed: true }),
];

#[test]
fn every_method_and_every_set_comes_back() {
    let (large, odd) = (content(420_000), content(70_001));
    for method in METHODS {
        for cut_after in [None, Some(20_000)] {
            let files = vec![("media/large.bin", large.as_slice()), ("odd.bin", &odd), ("leer Grüße.txt", b"")];
            let folders =
                [Folder { method, files }, Folder { method: Method::Stored, files: vec![("last.txt", b"tide")] }];
            let around = Around { reserved: cut_after.map(|_| (20, 4, 8)), cut_after, name: "rowing ".into() };
            let all = cabinets(&folders, &around);
            assert_eq!(all.len() > 1, cut_after.is_some(), "{method:?}");
            let named = all.iter().enumerate().map(|(n, bytes)| (format!("rowing {}.cab", n + 1), bytes.clone()));
            let set = Set(named.collect());
            for bytes in [&all[0], &all[all.len() - 1]] {
                let opened = open_beside(bytes.clone(), &set).unwrap();
                assert_eq!(opened.told.notices.iter().filter(|n| n.is_damage).count(), 0);
                assert!(read(&opened, "odd.bin").unwrap() == odd, "{method:?}");
                assert!(read(&opened, "media/large.bin").unwrap() == large, "{method:?}, backwards");
                assert_eq!(read(&opened, "last.txt").unwrap(), b"tide");
                assert_eq!(read(&opened, "leer Grüße.txt").unwrap(), b"");
            }
        }
    }
}

#[test]
fn what_is_missing_of_a_set_is_told_file_by_file() {
    let (one, two) = (content(98_304), content(90_000));
    let files = vec![("one.bin", one.as_slice()), ("two.bin", &two)];
    let around = Around { cut_after: Some(110_000), name: "s".into(), ..Around::default() };
    let all = cabinets(&[Folder { method: Method::Stored, files }], &around);
    assert_eq!(all.len(), 2);
    let first = open(all[0].clone()).unwrap();
    assert!(read(&first, "one.bin").unwrap() == one, "it ends before the cabinet does");
    let why = read(&first, "two.bin").unwrap_err().to_string();
    assert!(why.contains("it goes on in s2.cab: it is not beside it"), "{why}");
    let second = open(all[1].clone()).unwrap();
    let why = read(&second, "two.bin").unwrap_err().to_string();
    assert!(why.contains("it begins in s1.cab: it is not beside it"), "{why}");
    // Another cabinet under that name.
    let mut other = all[1].clone();
    other[32] ^= 1;
    let opened = open_beside(all[0].clone(), &Set(vec![("s2.cab".into(), other)])).unwrap();
    assert!(opened.told.notices[0].text.contains("it is of another set"), "{:?}", opened.told.notices);
}

#[test]
fn damage_is_told_by_block_and_what_stands_before_it_is_read() {
    let (one, two) = (content(100_000), content(90_000));
    for method in METHODS {
        let files = vec![("one.bin", one.as_slice()), ("two.bin", &two)];
        let bytes = cabinets(&[Folder { method, files }], &Around::default()).remove(0);
        let mut damaged = bytes.clone();
        let at = damaged.len() - 100;
        damaged[at] ^= 0x10;
        let opened = open(damaged).unwrap();
        assert!(read(&opened, "one.bin").unwrap() == one, "{method:?}");
        let why = read(&opened, "two.bin").unwrap_err().to_string();
        assert!(why.starts_with("data block ") && why.contains("checksum"), "{why}");
        assert!(read(&opened, "two.bin").is_err(), "each time");
        let cut = open(bytes[..bytes.len() - 50].to_vec()).unwrap();
        assert!(read(&cut, "one.bin").unwrap() == one, "{method:?}");
        let node = cut.holds.tree.as_ref().unwrap().find("two.bin").unwrap();
        assert!(
            matches!(&node.file().unwrap().content, Content::Broken(why) if why.contains("ends in the data block"))
        );
    }
}

#[test]
fn a_group_of_a_wrong_length_is_told_with_what_is_there_before() {
    let (one, two) = (content(32_768), content(90_000));
    let files = vec![("one.bin", one.as_slice()), ("two.bin", &two)];
    let method = Method::Lzx(Lzx { bits: 16, calls: false, is_mixed: false });
    let mut bytes = cabinets(&[Folder { method, files }], &Around::default()).remove(0);
    // The second data block stands behind the first; its checksum becomes none, and it says that it gives 32,000 bytes.
    let first = u32::from_le_bytes(bytes[36..40].try_into().unwrap()) as usize;
    let packed = usize::from(u16::from_le_bytes(bytes[first + 4..first + 6].try_into().unwrap()));
    let second = first + 8 + packed;
    bytes[second..second + 4].fill(0);
    bytes[second + 6..second + 8].copy_from_slice(&32_000u16.to_le_bytes());
    let opened = open(bytes).unwrap();
    assert!(read(&opened, "one.bin").unwrap() == one);
    let why = read(&opened, "two.bin").unwrap_err().to_string();
    assert!(why.contains(&format!("the data block at offset {second:#x} gives 32,000 bytes, and not 32,768")), "{why}");
}

#[test]
fn what_is_not_read_is_named() {
    let files = vec![("a.bin", b"tide".as_slice())];
    let mut bytes = cabinets(&[Folder { method: Method::Stored, files }], &Around::default()).remove(0);
    // The method of the first folder stands at 36 + 6.
    bytes[42] = 2;
    let opened = open(bytes.clone()).unwrap();
    assert!(read(&opened, "a.bin").unwrap_err().to_string().contains("Quantum compression is not supported"));
    bytes[24] = 9;
    bytes[25] = 9;
    assert!(open(bytes).err().unwrap().to_string().contains("version 9.9"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn changed_bytes_are_errors_or_the_same(method in 0usize..METHODS.len(), at in any::<usize>(), bit in 0u8..8) {
        let large = content(40_000);
        let files = vec![("a.bin", large.as_slice())];
        let mut bytes = cabinets(&[Folder { method: METHODS[method], files }], &Around::default()).remove(0);
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        if let Ok(opened) = open(bytes) {
            for (node, _) in opened.holds.tree.as_ref().unwrap().files() {
                if let Ok(found) = read(&opened, &node.path) {
                    // What is not under a checksum are names, lengths and dates.
                    prop_assert!(found.len() != large.len() || found == large || at < 100);
                }
            }
        }
    }
}
