//! Archives put together by hand, field by field: what writers of all times have written is read, and what contradicts
//! itself is told.

use decanter_core::Keyring;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{File, Kind};
use decanter_core::{Error, Result};
use decanter_formats::REGISTRY;
use proptest::prelude::*;
use std::sync::Arc;

fn open(bytes: &[u8]) -> Result<Opened> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let source: SourceRef = Arc::new(Bytes(bytes.to_vec()));
    match REGISTRY.detect(&decanter_core::Head::new(source.as_ref()))? {
        Some(format) => format.open(source, &opener),
        None => Err(Error::NotUnderstood { seems: "nothing".into() }),
    }
}

fn read(file: &File) -> Result<Vec<u8>> {
    let source = file.source()?;
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Paths and contents; what cannot be read is told as an error.
fn contents(opened: &Opened) -> Vec<(String, Result<Vec<u8>>)> {
    opened.holds.tree.iter().flat_map(|t| t.files()).map(|(n, f)| (n.path.clone(), read(f))).collect()
}

fn whole(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
    let opened = open(bytes).unwrap_or_else(|e| panic!("{e}"));
    contents(&opened).into_iter().map(|(path, read)| (path, read.unwrap())).collect()
}

fn deflated(plain: &[u8]) -> Vec<u8> {
    use std::io::Write;
    let mut encoder = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::best());
    encoder.write_all(plain).unwrap();
    encoder.finish().unwrap()
}

/// An entry of a zip archive, as its writer put it there.
#[derive(Clone, Default)]
struct Entry<'a> {
    name: &'a [u8],
    plain: &'a [u8],
    is_deflated: bool,
    /// Lengths and CRC after the content instead of before it; with the signature, or without.
    descriptor: Option<bool>,
    /// Lengths of eight bytes in an extra field.
    is_wide: bool,
    utf8: bool,
    made_by: u8,
    attributes: u32,
}

/// An archive of these entries, with bytes before and a comment after it.
fn zip(before: &[u8], entries: &[Entry<'_>], comment: &[u8]) -> Vec<u8> {
    let (mut archive, mut directory) = (before.to_vec(), Vec::new());
    for entry in entries {
        let at = (archive.len() - before.len()) as u32;
        let packed = if entry.is_deflated { deflated(entry.plain) } else { entry.plain.to_vec() };
        let crc = crc32fast::hash(entry.plain);
        let lens = [packed.len() as u32, entry.plain.len() as u32];
        let flags = u16::from(entry.descriptor.is_some()) << 3 | u16::from(entry.utf8) << 11;
        let method: u16 = if entry.is_deflated { 8 } else { 0 };
        let wide = |is_wide: bool| -> Vec<u8> {
            let mut extra = Vec::new();
            if is_wide {
                extra.extend([1, 0, 16, 0]);
                extra.extend(u64::from(lens[1]).to_le_bytes());
                extra.extend(u64::from(lens[0]).to_le_bytes());
            }
            extra
        };
        let told = |archive: &mut Vec<u8>, is_known: bool| {
            archive.extend((if is_known { crc } else { 0 }).to_le_bytes());
            for len in lens {
                let len = if entry.is_wide { u32::MAX } else { len };
                archive.extend((if is_known { len } else { 0 }).to_le_bytes());
            }
        };
        archive.extend(b"PK\x03\x04");
        archive.extend(20u16.to_le_bytes());
        archive.extend(flags.to_le_bytes());
        archive.extend(method.to_le_bytes());
        archive.extend([0, 0x60, 0x21, 0x50]);
        told(&mut archive, entry.descriptor.is_none());
        let extra = wide(entry.is_wide && entry.descriptor.is_none());
        archive.extend((entry.name.len() as u16).to_le_bytes());
        archive.extend((extra.len() as u16).to_le_bytes());
        archive.extend(entry.name);
        archive.extend(&extra);
        archive.extend(&packed);
        if let Some(has_signature) = entry.descriptor {
            if has_signature {
                archive.extend(b"PK\x07\x08");
            }
            archive.extend(crc.to_le_bytes());
            archive.extend(lens[0].to_le_bytes());
            archive.extend(lens[1].to_le_bytes());
        }
        directory.extend(b"PK\x01\x02");
        directory.extend([20, entry.made_by]);
        directory.extend(20u16.to_le_bytes());
        directory.extend(flags.to_le_bytes());
        directory.extend(method.to_le_bytes());
        directory.extend([0, 0x60, 0x21, 0x50]);
        told(&mut directory, true);
        let extra = wide(entry.is_wide);
        directory.extend((entry.name.len() as u16).to_le_bytes());
        directory.extend((extra.len() as u16).to_le_bytes());
        directory.extend([0; 6]);
        directory.extend(entry.attributes.to_le_bytes());
        directory.extend(at.to_le_bytes());
        directory.extend(entry.name);
        directory.extend(&extra);
    }
    let (place, len) = ((archive.len() - before.len()) as u32, directory.len() as u32);
    archive.extend(&directory);
    archive.extend(b"PK\x05\x06\0\0\0\0");
    archive.extend((entries.len() as u16).to_le_bytes());
    archive.extend((entries.len() as u16).to_le_bytes());
    archive.extend(len.to_le_bytes());
    archive.extend(place.to_le_bytes());
    archive.extend((comment.len() as u16).to_le_bytes());
    archive.extend(comment);
    archive
}

const TEXT: &[u8] = b"The tide is out. The tide is out. The tide is out. The tide is out.";

#[test]
fn entries_of_all_habits_are_read() {
    let plain = |name| Entry { name, plain: TEXT, ..Entry::default() };
    let entries = [
        plain(b"stored.txt"),
        Entry { is_deflated: true, ..plain(b"deflated.txt") },
        Entry { is_deflated: true, descriptor: Some(true), ..plain(b"after.txt") },
        Entry { is_deflated: true, descriptor: Some(false), ..plain(b"after-unsigned.txt") },
        Entry { is_wide: true, ..plain(b"wide.txt") },
        Entry { is_deflated: true, is_wide: true, ..plain(b"wide-deflated.txt") },
        Entry { plain: b"", ..plain(b"empty.txt") },
        Entry { plain: b"", is_deflated: true, ..plain(b"empty-deflated.txt") },
        Entry { plain: b"", ..plain(b"folder/") },
        plain(b"folder/inside.txt"),
        Entry { utf8: true, ..plain("t\u{e9}.txt".as_bytes()) },
    ];
    for before in [&b""[..], &[0x4d, 0x5a, 0x90, 0, 3, 0, 0, 0].repeat(40)] {
        for comment in [&b""[..], b"packed on pier nine", b"PK\x05\x06 in a comment, which is nothing"] {
            let found = whole(&zip(before, &entries, comment));
            let want: Vec<(&str, &[u8])> = vec![
                ("stored.txt", TEXT),
                ("deflated.txt", TEXT),
                ("after.txt", TEXT),
                ("after-unsigned.txt", TEXT),
                ("wide.txt", TEXT),
                ("wide-deflated.txt", TEXT),
                ("empty.txt", b""),
                ("empty-deflated.txt", b""),
                ("folder/inside.txt", TEXT),
                ("t\u{e9}.txt", TEXT),
            ];
            let mut found: Vec<(&str, &[u8])> = found.iter().map(|(p, b)| (p.as_str(), b.as_slice())).collect();
            let mut want = want;
            found.sort_unstable();
            want.sort_unstable();
            assert_eq!(found, want, "{} bytes before, comment {comment:?}", before.len());
        }
    }
}

#[test]
fn links_stay_links() {
    // Made on a system of the Unix family (3), with the mode of a link in the upper half.
    let link = Entry { name: b"link", plain: b"a/target", made_by: 3, attributes: 0o120_777 << 16, ..Entry::default() };
    let opened = open(&zip(b"", &[link, Entry { name: b"a/target", plain: TEXT, ..Entry::default() }], b"")).unwrap();
    let kinds: Vec<bool> = opened
        .holds
        .tree
        .unwrap()
        .nodes
        .iter()
        .map(|n| matches!(&n.kind, Kind::Link(to) if to == "a/target"))
        .collect();
    assert!(kinds.contains(&true), "{kinds:?}");
}

#[test]
fn of_two_entries_with_one_name_none_is_lost() {
    let entry = |plain| Entry { name: b"same.txt", plain, ..Entry::default() };
    let opened = open(&zip(b"", &[entry(b"first"), entry(b"second")], b"")).unwrap();
    let mut bytes: Vec<Vec<u8>> = contents(&opened).into_iter().map(|(_, read)| read.unwrap()).collect();
    bytes.sort();
    assert_eq!(bytes, [b"first".to_vec(), b"second".to_vec()]);
    assert!(!opened.told.notices.is_empty() || opened.proof.settled.iter().any(|s| !s.holds), "and it is told");
}

#[test]
fn a_directory_that_does_not_fit_its_entries_is_told() {
    let entries = [b"a.txt", b"b.txt"].map(|name| Entry { name, plain: TEXT, ..Entry::default() });
    let good = zip(b"", &entries, b"");
    let directory = good.windows(4).position(|w| w == b"PK\x01\x02").unwrap();
    // Both entries lead to the first one's bytes.
    let mut overlapping = good.clone();
    let second = good.windows(4).rposition(|w| w == b"PK\x01\x02").unwrap();
    overlapping[second + 42..second + 46].fill(0);
    let told = |bytes: &[u8]| match open(bytes) {
        Err(_) => true,
        Ok(opened) => {
            opened.proof.settled.iter().any(|s| !s.holds)
                || opened.told.notices.iter().any(|n| n.is_damage)
                || contents(&opened).iter().any(|(_, read)| read.is_err())
        }
    };
    assert!(told(&overlapping), "two entries with the same bytes");
    let mut fewer = good.clone();
    let end = good.windows(4).rposition(|w| w == b"PK\x05\x06").unwrap();
    (fewer[end + 8], fewer[end + 10]) = (1, 1);
    assert!(told(&fewer), "an entry more than it says");
    let mut longer = good.clone();
    longer[directory + 24] = 200;
    assert!(told(&longer), "a length that is not that of the content");
    let mut beyond = good.clone();
    beyond[directory + 42..directory + 46].copy_from_slice(&0x00ff_ffff_u32.to_le_bytes());
    assert!(told(&beyond), "an entry past the end");
    assert!(told(&good[..good.len() - 30]), "no end");
    assert!(!told(&good));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn one_changed_byte_is_never_read_as_something_else(at in any::<usize>(), bit in 0u32..8, is_deflated in any::<bool>()) {
        let entries = [b"a.txt", b"b.txt", b"c.txt"].map(|name| Entry { name, plain: TEXT, is_deflated, ..Entry::default() });
        let mut bytes = zip(b"", &entries, b"");
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        if let Ok(opened) = open(&bytes) {
            for (path, read) in contents(&opened) {
                if let Ok(read) = read {
                    prop_assert!(read == TEXT, "byte {}: {} has other bytes", at, path);
                }
            }
        }
    }
}

/// A member of an LHA archive, stored, with a header of some level.
fn lha(level: u8, name: &[u8], content: &[u8]) -> Vec<u8> {
    let crc = content.iter().fold(0u16, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte), |sum, _| if sum & 1 != 0 { sum >> 1 ^ 0xa001 } else { sum >> 1 })
    });
    let lens = [content.len() as u32, content.len() as u32];
    let mut header = Vec::new();
    match level {
        0 | 1 => {
            header.extend([0, 0]);
            header.extend(b"-lh0-");
            header.extend(lens.iter().flat_map(|l| l.to_le_bytes()));
            header.extend([0, 0x60, 0x21, 0x50, 0x20, level, name.len() as u8]);
            header.extend(name);
            header.extend(crc.to_le_bytes());
            if level == 1 {
                header.extend(b"U\0\0");
            }
            header[0] = (header.len() - 2) as u8;
            header[1] = header[2..].iter().fold(0, |sum, b| sum.wrapping_add(*b));
        }
        _ => {
            header.extend([0, 0]);
            header.extend(b"-lh0-");
            header.extend(lens.iter().flat_map(|l| l.to_le_bytes()));
            header.extend(1_000_000_000u32.to_le_bytes());
            header.extend([0x20, 2]);
            header.extend(crc.to_le_bytes());
            header.push(b'U');
            // An extended header with the name, then none.
            header.extend((name.len() as u16 + 3).to_le_bytes());
            header.push(1);
            header.extend(name);
            header.extend([0, 0]);
            let len = header.len() as u16;
            header[..2].copy_from_slice(&len.to_le_bytes());
        }
    }
    header.extend(content);
    header
}

#[test]
fn members_of_every_level_are_read_and_a_wrong_sum_is_an_error_each_time() {
    for level in 0..3 {
        let mut archive = [lha(level, b"one.txt", TEXT), lha(level, b"two.txt", b"two")].concat();
        archive.push(0);
        let found = whole(&archive);
        assert_eq!(
            found,
            [("one.txt".to_owned(), TEXT.to_vec()), ("two.txt".to_owned(), b"two".to_vec())],
            "level {level}"
        );
        let at = archive.windows(TEXT.len()).position(|w| w == TEXT).unwrap();
        archive[at + 5] ^= 4;
        let opened = open(&archive).unwrap();
        for _ in 0..2 {
            let ends: Vec<bool> = contents(&opened).iter().map(|(_, read)| read.is_ok()).collect();
            assert_eq!(ends, [false, true], "level {level}: the first fails, the second is whole");
        }
    }
}

#[test]
fn an_archive_that_ends_within_a_member_has_those_before_it() {
    for level in 0..3 {
        let first = lha(level, b"one.txt", TEXT);
        let second = lha(level, b"two.txt", TEXT);
        let archive = [&first[..], &second[..second.len() - 10]].concat();
        let opened = open(&archive).unwrap();
        let ends = contents(&opened);
        assert_eq!(ends[0].1.as_ref().unwrap(), TEXT, "level {level}");
        let is_told = ends.get(1).is_none_or(|(_, read)| read.is_err())
            && (ends.len() == 2 || opened.told.notices.iter().any(|n| n.is_damage));
        assert!(is_told, "level {level}: what is missing is told: {:?}", opened.told.notices);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn one_changed_byte_of_a_member_is_never_read_as_something_else(at in any::<usize>(), bit in 0u32..8, level in 0u8..3) {
        let mut bytes = [lha(level, b"one.txt", TEXT), lha(level, b"two.txt", TEXT)].concat();
        bytes.push(0);
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        if let Ok(opened) = open(&bytes) {
            for (path, read) in contents(&opened) {
                if let Ok(read) = read {
                    prop_assert!(read == TEXT || read.is_empty(), "level {}, byte {}: {} is {:?}", level, at, path, read);
                }
            }
        }
    }
}
