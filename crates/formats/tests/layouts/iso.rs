//! ECMA-119: descriptors, path tables, directories, and where the files are.

use super::{Files, be16, be32, files, le16, le32, tree, written};
use decanter_formats::optical::iso9660::{Volume, compose};
use proptest::prelude::*;
use std::collections::BTreeSet;

const SECTOR: usize = 2048;

/// A number in both orders (7.2.3, 7.3.3).
fn both32(b: &[u8], at: usize) -> usize {
    assert_eq!(le32(b, at), be32(b, at + 4), "both orders at {at:#x}");
    le32(b, at)
}

fn both16(b: &[u8], at: usize) -> usize {
    assert_eq!(le16(b, at), be16(b, at + 2), "both orders at {at:#x}");
    le16(b, at)
}

/// A record of a directory (9.1).
struct Record {
    sector: usize,
    len: usize,
    is_folder: bool,
    name: Vec<u8>,
}

/// The records of a directory, in order; none crosses the end of a sector (6.8.1.1).
fn records(image: &[u8], sector: usize, len: usize) -> Vec<Record> {
    assert_eq!(len % SECTOR, 0, "a directory is whole sectors");
    let mut found = Vec::new();
    for block in image[sector * SECTOR..sector * SECTOR + len].chunks(SECTOR) {
        let mut at = 0;
        while at < SECTOR && block[at] != 0 {
            let record = &block[at..at + usize::from(block[at])];
            assert_eq!(record.len() % 2, 0, "records have an even length");
            let name_len = usize::from(record[32]);
            assert_eq!(record.len(), 33 + name_len + (name_len + 1) % 2, "a byte fills up where the name is even");
            assert_eq!((both16(record, 28), record[26], record[27]), (1, 0, 0), "one volume, nothing interleaved");
            found.push(Record {
                sector: both32(record, 2),
                len: both32(record, 10),
                is_folder: record[25] & 2 != 0,
                name: record[33..33 + name_len].to_vec(),
            });
            at += record.len();
        }
        assert!(block[at..].iter().all(|b| *b == 0), "what no record takes is zero");
    }
    found
}

/// The order of names (9.3): stem and extension each as if filled up, with spaces, or with zeros where names are UCS-2.
fn key(name: &[u8]) -> (Vec<u16>, Vec<u16>) {
    let is_wide = name[0] == 0;
    let units: Vec<u16> = match is_wide {
        true => name.chunks(2).map(|c| u16::from_be_bytes([c[0], c[1]])).collect(),
        false => name.iter().map(|b| u16::from(*b)).collect(),
    };
    let text = units.split(|u| *u == u16::from(b';')).next().unwrap();
    let mut parts = text.splitn(2, |u| *u == u16::from(b'.'));
    let filled = |part: Option<&[u16]>| {
        let mut own = part.unwrap_or_default().to_vec();
        own.resize(110, if is_wide { 0 } else { b' '.into() });
        own
    };
    (filled(parts.next()), filled(parts.next()))
}

/// Walks a tree of directories; `of_name` turns a stored name into the one that was meant.
fn walk(
    image: &[u8],
    (sector, len): (usize, usize),
    parent: (usize, usize),
    path: &str,
    of_name: &dyn Fn(&[u8]) -> String,
    found: &mut Files,
    folders: &mut Vec<(usize, String)>,
) {
    let all = records(image, sector, len);
    assert_eq!((all[0].name.as_slice(), all[0].sector, all[0].len), (&[0][..], sector, len), "itself, first");
    assert_eq!(
        (all[1].name.as_slice(), all[1].sector, all[1].len),
        (&[1][..], parent.0, parent.1),
        "its parent, second"
    );
    folders.push((sector, path.to_owned()));
    for pair in all[2..].windows(2) {
        assert!(key(&pair[0].name) <= key(&pair[1].name), "{:?} before {:?}", pair[0].name, pair[1].name);
    }
    for record in &all[2..] {
        let name = of_name(&record.name);
        let path = if path.is_empty() { name } else { format!("{path}/{name}") };
        if record.is_folder {
            walk(image, (record.sector, record.len), (sector, len), &path, of_name, found, folders);
        } else {
            let at = record.sector * SECTOR;
            assert!(found.insert(path, image[at..at + record.len].to_vec()).is_none());
            let end = (at + record.len).next_multiple_of(SECTOR).min(image.len());
            assert!(image[at + record.len..end].iter().all(|b| *b == 0), "the rest of the last sector is zero");
        }
    }
}

/// A path table (9.4): sector, parent and name of every directory, levels in order, parents before children.
fn path_table(image: &[u8], sector: usize, len: usize, is_big: bool) -> Vec<(usize, usize, Vec<u8>)> {
    let table = &image[sector * SECTOR..sector * SECTOR + len];
    let word = |table: &[u8], at| if is_big { be32(table, at) } else { le32(table, at) };
    let half = |table: &[u8], at| if is_big { be16(table, at) } else { le16(table, at) };
    let (mut found, mut at) = (Vec::new(), 0);
    while at < len {
        let name_len = usize::from(table[at]);
        found.push((word(table, at + 2), half(table, at + 6), table[at + 8..at + 8 + name_len].to_vec()));
        at += 8 + name_len + name_len % 2;
    }
    assert_eq!(at, len, "the table ends with a record");
    found
}

/// Holds one descriptor and everything that it leads to against the files.
fn hold(image: &[u8], descriptor: &[u8], want: &Files, of_name: &dyn Fn(&[u8]) -> String) {
    assert_eq!(both32(descriptor, 80) * SECTOR, image.len(), "the volume is the image");
    assert_eq!((both16(descriptor, 120), both16(descriptor, 124), both16(descriptor, 128)), (1, 1, SECTOR));
    let root = &descriptor[156..190];
    assert_eq!((root[0], root[32], root[33]), (34, 1, 0));
    let place = (both32(root, 2), both32(root, 10));
    let (mut found, mut folders) = (Files::new(), Vec::new());
    walk(image, place, place, "", of_name, &mut found, &mut folders);
    assert!(found == *want, "{:?} instead of {:?}", found.keys().collect::<Vec<_>>(), want.keys().collect::<Vec<_>>());
    let len = both32(descriptor, 132);
    let little = path_table(image, le32(descriptor, 140), len, false);
    let big = path_table(image, be32(descriptor, 148), len, true);
    assert_eq!(little, big, "both tables say the same");
    assert_eq!(little.len(), folders.len());
    assert_eq!((little[0].0, little[0].1, little[0].2.as_slice()), (place.0, 1, &[0][..]));
    let levels: Vec<usize> = little.iter().map(|(_, parent, _)| *parent).collect();
    assert!(levels.is_sorted(), "directories of one level follow the order of their parents (6.9.1)");
    for (index, (sector, parent, name)) in little.iter().enumerate().skip(1) {
        assert!(*parent <= index, "parents come first");
        let path = &folders.iter().find(|(own, _)| own == sector).unwrap().1;
        assert_eq!(path.rsplit('/').next().unwrap(), of_name(name));
    }
}

fn plain_name(name: &[u8]) -> String {
    let text = String::from_utf8(name.to_vec()).unwrap();
    text.strip_suffix(";1").unwrap_or(&text).trim_end_matches('.').to_owned()
}

fn joliet_name(name: &[u8]) -> String {
    let units: Vec<u16> = name.chunks(2).map(|c| u16::from_be_bytes([c[0], c[1]])).collect();
    let text = String::from_utf16(&units).unwrap();
    text.strip_suffix(";1").unwrap_or(&text).to_owned()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn any_tree_stands_in_both_trees_of_a_volume(files in files(), with_udf in any::<bool>()) {
        let volume = Volume { label: "SALTMARSH".into(), udf: with_udf, ..Volume::default() };
        let image = written(&compose(&tree(&files), &volume).unwrap());
        prop_assert!(image[..16 * SECTOR].iter().all(|b| *b == 0), "the system area is nobody's here");
        let mut kinds = Vec::new();
        let mut sector = 16;
        loop {
            let descriptor = &image[sector * SECTOR..(sector + 1) * SECTOR];
            prop_assert_eq!(&descriptor[1..6], b"CD001");
            prop_assert_eq!(descriptor[6], 1);
            kinds.push(descriptor[0]);
            match descriptor[0] {
                1 => {
                    prop_assert_eq!(&descriptor[40..49], b"SALTMARSH");
                    prop_assert!(descriptor[49..72].iter().all(|b| *b == b' '));
                    hold(&image, descriptor, &files, &plain_name);
                }
                2 => {
                    prop_assert_eq!(&descriptor[88..91], b"%/E", "UCS-2, level 3");
                    hold(&image, descriptor, &files, &joliet_name);
                }
                255 => break,
                other => prop_assert!(false, "descriptor {}", other),
            }
            sector += 1;
        }
        prop_assert_eq!(kinds, [1, 2, 255]);
    }
}

#[test]
fn names_that_only_one_tree_can_hold_stay_apart_in_the_other() {
    let files: Files = [
        ("a long name with spaces.text", "one"),
        ("a long name with spacex.text", "two"),
        ("\u{e9}t\u{e9}.txt", "three"),
        ("no extension", "four"),
    ]
    .into_iter()
    .map(|(name, content)| (name.to_owned(), content.as_bytes().to_vec()))
    .collect();
    let volume = Volume { label: "NAMES".into(), ..Volume::default() };
    let image = written(&compose(&tree(&files), &volume).unwrap());
    hold(&image, &image[17 * SECTOR..18 * SECTOR], &files, &joliet_name);
    let root = &image[16 * SECTOR + 156..16 * SECTOR + 190];
    let all = records(&image, le32(root, 2), le32(root, 10));
    let names: BTreeSet<&[u8]> = all[2..].iter().map(|r| r.name.as_slice()).collect();
    assert_eq!(names.len(), 4, "no two are alike");
    let mut contents: Vec<&[u8]> = all[2..].iter().map(|r| &image[r.sector * SECTOR..][..r.len]).collect();
    contents.sort_unstable();
    assert_eq!(contents, [&b"four"[..], b"one", b"three", b"two"]);
}

#[test]
fn a_folder_of_many_entries_takes_several_sectors_and_a_deep_one_is_found() {
    let mut files = Files::new();
    for number in 0..300 {
        files.insert(format!("MANY/FILE{number:04}.DAT"), vec![number as u8; 10]);
    }
    files.insert("ONE/TWO/THREE/FOUR/FIVE.TXT".into(), b"deep".to_vec());
    let mut whole = tree(&files);
    for (at, path) in ["ONE", "ONE/TWO", "ONE/TWO/THREE"].into_iter().enumerate() {
        let folder = decanter_core::tree::Node::new(path.into(), decanter_core::tree::Kind::Folder, None);
        whole.nodes.insert(at, folder);
    }
    let volume = Volume { label: "DEEP".into(), ..Volume::default() };
    let image = written(&compose(&whole, &volume).unwrap());
    hold(&image, &image[16 * SECTOR..17 * SECTOR], &files, &plain_name);
}
