//! Volumes of the Amiga: blocks with checksums, folders as tables of hashes, the map of what is free.

use super::{Files, big, files, put};
use crate::support::{folder, run};
use std::collections::HashSet;

const BLOCK: usize = 512;
/// Entries of a folder's table, and data blocks that a header names.
const TABLE: usize = 72;

struct Volume<'a> {
    bytes: &'a [u8],
    /// Whether data blocks have headers of their own.
    is_old: bool,
    is_international: bool,
    used: HashSet<usize>,
}

impl<'a> Volume<'a> {
    /// A block whose longwords have the sum 0.
    fn block(&mut self, number: u32) -> &'a [u8] {
        let block = &self.bytes[number as usize * BLOCK..][..BLOCK];
        let sum = (0..BLOCK / 4).fold(0u32, |sum, at| sum.wrapping_add(big(block, at * 4)));
        assert_eq!(sum, 0, "block {number}");
        assert!(self.used.insert(number as usize), "block {number} is met twice");
        block
    }

    fn hash(&self, name: &[u8]) -> usize {
        let fold = |byte: u8| match byte {
            b'a'..=b'z' => byte - 32,
            0xe0..=0xf6 | 0xf8..=0xfe if self.is_international => byte - 32,
            other => other,
        };
        let hash = name
            .iter()
            .fold(name.len() as u32, |hash, byte| hash.wrapping_mul(13).wrapping_add(fold(*byte).into()) & 0x7ff);
        hash as usize % TABLE
    }

    fn folder(&mut self, own: u32, block: &[u8], path: &str, found: &mut Files) {
        for slot in 0..TABLE {
            let mut next = big(block, 24 + slot * 4);
            while next != 0 {
                let entry = self.block(next);
                assert_eq!((big(entry, 0), big(entry, 4), big(entry, 500)), (2, next, own), "a header of its folder");
                let len = usize::from(entry[432]);
                let name = &entry[433..433 + len];
                assert_eq!(self.hash(name), slot, "{name:?}");
                let path = format!("{path}{}", name.iter().map(|b| char::from(*b)).collect::<String>());
                match big(entry, 508) as i32 {
                    2 => self.folder(next, entry, &format!("{path}/"), found),
                    -3 => drop(found.insert(path, self.content(next, entry))),
                    other => panic!("{path} is of kind {other}"),
                }
                next = big(entry, 496);
            }
        }
    }

    /// The data blocks that a header and what extends it name, the first at the end of the table.
    fn content(&mut self, own: u32, header: &'a [u8]) -> Vec<u8> {
        let len = big(header, 324) as usize;
        let (mut bytes, mut list, mut sequence) = (Vec::new(), header, 0);
        loop {
            let count = big(list, 8) as usize;
            for at in 0..count {
                let number = big(list, 24 + (TABLE - 1 - at) * 4);
                sequence += 1;
                let left = len - bytes.len();
                if self.is_old {
                    let data = self.block(number);
                    assert_eq!((big(data, 0), big(data, 4), big(data, 8)), (8, own, sequence));
                    assert_eq!(big(data, 12) as usize, left.min(488));
                    bytes.extend(&data[24..24 + left.min(488)]);
                } else {
                    assert!(self.used.insert(number as usize), "block {number} is met twice");
                    bytes.extend(&self.bytes[number as usize * BLOCK..][..left.min(BLOCK)]);
                }
            }
            match big(list, 504) {
                0 => break,
                next => {
                    assert_eq!(count, TABLE);
                    list = self.block(next);
                    assert_eq!((big(list, 0), big(list, 4), big(list, 500)), (16, next, own));
                }
            }
        }
        assert_eq!(bytes.len(), len);
        bytes
    }
}

#[test]
fn volumes_hold_what_was_put_into_them() {
    let folder = folder();
    let mut all = vec![
        ("empty", 0),
        ("one", 1),
        ("S/Startup-Sequence", 40),
        ("data/edge", 488),
        ("data/edge more", 489),
        ("data/block", 512),
        ("data/many", 72 * 488),
        ("data/many and one", 72 * 512 + 1),
        ("data/deep/er/more", 200_000),
    ];
    // Many names in one folder, so that some have the same hash.
    let names: Vec<String> = (0..150).map(|number| format!("names/entry {number}")).collect();
    all.extend(names.iter().map(|name| (name.as_str(), 3)));
    let wanted = files(&all);
    put(&folder.path().join("src"), &wanted);
    for (fs, flags) in [("ofs", 0), ("ffs", 1), ("ffs-intl", 3)] {
        let image = format!("{fs}.adf");
        let made = run(folder.path(), &["convert", "src", "--to", "adf", "--fs", fs, "-o", &image]);
        made.expect(0);
        let bytes = std::fs::read(folder.path().join(&image)).unwrap();
        assert_eq!((bytes.len(), &bytes[..4]), (901_120, &[b'D', b'O', b'S', flags][..]));
        let mut volume =
            Volume { bytes: &bytes, is_old: flags == 0, is_international: flags > 1, used: HashSet::from([0, 1]) };
        let root = volume.block(880);
        assert_eq!((big(root, 0), big(root, 12), big(root, 508), big(root, 312)), (2, 72, 1, u32::MAX));
        let mut found = Files::new();
        volume.folder(880, root, "", &mut found);
        assert!(found == wanted, "{fs}: {:?}", found.keys());
        // The map has a bit for each block from the second on, set for what is free.
        let map = volume.block(big(root, 316));
        for number in 2..1760 {
            let is_free = big(map, 4 + (number - 2) / 32 * 4) >> ((number - 2) % 32) & 1 == 1;
            assert_eq!(is_free, !volume.used.contains(&number), "{fs}: block {number}");
        }
    }
}
