//! Volumes of the Amiga, as its file system goes through them: sums, slots of names, lists of blocks, the map.

use super::{Files, be32, files, tree, written};
use decanter_formats::disk::amiga::{FileSystem, Volume, compose};
use proptest::prelude::*;
use std::collections::BTreeSet;

const BLOCK: usize = 512;

/// A block whose longs add up to nothing; it is counted as taken.
fn block<'a>(image: &'a [u8], number: usize, taken: &mut BTreeSet<usize>) -> &'a [u8] {
    let own = &image[number * BLOCK..(number + 1) * BLOCK];
    let sum = own.chunks(4).fold(0u32, |sum, long| sum.wrapping_add(be32(long, 0) as u32));
    assert_eq!(sum, 0, "the sum of block {number}");
    assert!(taken.insert(number), "block {number} belongs to two");
    own
}

fn name(own: &[u8]) -> String {
    own[433..433 + usize::from(own[432])].iter().map(|b| char::from(*b)).collect()
}

/// The slot of a name of plain letters.
fn slot(name: &str) -> usize {
    let upper = name.to_ascii_uppercase();
    upper.bytes().fold(name.len(), |hash, letter| (hash * 13 + usize::from(letter)) & 0x7ff) % 72
}

fn content(image: &[u8], header: &[u8], is_fast: bool, taken: &mut BTreeSet<usize>) -> Vec<u8> {
    let own = be32(header, 4);
    let (mut content, mut list, mut at_header) = (Vec::new(), header, true);
    let mut next = be32(header, 16);
    let mut number = 0;
    loop {
        let count = be32(list, 8);
        // The places stand from the end of the table on, the last one first.
        for index in 0..count {
            let place = be32(list, 308 - index * 4);
            number += 1;
            if is_fast {
                assert!(taken.insert(place), "block {place} belongs to two");
                content.extend_from_slice(&image[place * BLOCK..(place + 1) * BLOCK]);
            } else {
                assert_eq!(place, next, "data blocks lead to each other");
                let data = block(image, place, taken);
                assert_eq!((be32(data, 0), be32(data, 4), be32(data, 8)), (8, own, number));
                content.extend_from_slice(&data[24..24 + be32(data, 12)]);
                next = be32(data, 16);
            }
        }
        let more = be32(list, 504);
        if more == 0 {
            break;
        }
        assert_eq!(count, 72, "a list goes on only when it is full");
        list = block(image, more, taken);
        assert_eq!((be32(list, 0), be32(list, 4), be32(list, 500)), (16, more, own));
        at_header = false;
    }
    assert!(at_header || be32(header, 324) > 72 * 488);
    content.truncate(be32(header, 324));
    content
}

fn walk(
    image: &[u8],
    folder: &[u8],
    number: usize,
    path: &str,
    is_fast: bool,
    taken: &mut BTreeSet<usize>,
    found: &mut Files,
) {
    for index in 0..72 {
        let mut next = be32(folder, 24 + index * 4);
        while next != 0 {
            let own = block(image, next, taken);
            assert_eq!(
                (be32(own, 0), be32(own, 4), be32(own, 500)),
                (2, next, number),
                "it knows itself and its folder"
            );
            let name = name(own);
            assert_eq!(slot(&name), index, "{name} is in the slot of its name");
            let path = if path.is_empty() { name } else { format!("{path}/{name}") };
            if be32(own, 508) == 2 {
                walk(image, own, next, &path, is_fast, taken, found);
            } else {
                assert_eq!(be32(own, 508), 0xffff_fffd);
                assert!(found.insert(path, content(image, own, is_fast, taken)).is_none());
            }
            next = be32(own, 496);
        }
    }
}

fn hold(image: &[u8], want: &Files, is_fast: bool) {
    let blocks = image.len() / BLOCK;
    assert_eq!((&image[..3], image[3] & 1 != 0), (&b"DOS"[..], is_fast));
    let number = blocks.div_ceil(2);
    let mut taken = BTreeSet::from([0, 1]);
    let root = block(image, number, &mut taken);
    assert_eq!((be32(root, 0), be32(root, 12), be32(root, 508)), (2, 72, 1));
    assert_eq!(be32(root, 312), 0xffff_ffff, "the map is valid");
    let mut found = Files::new();
    walk(image, root, number, "", is_fast, &mut taken, &mut found);
    assert!(found == *want, "{:?}", found.keys().collect::<Vec<_>>());
    // The map: a bit a block from block 2 on, the lowest of each long first; 1 is free.
    let pages: Vec<usize> = (0..25).map(|i| be32(root, 316 + i * 4)).take_while(|p| *p != 0).collect();
    assert_eq!(pages.len(), (blocks - 2).div_ceil(127 * 32));
    let maps: Vec<&[u8]> = pages.iter().map(|p| block(image, *p, &mut taken)).collect();
    for number in 2..blocks {
        let bit = number - 2;
        let long = be32(maps[bit / (127 * 32)], 4 + bit / 32 % 127 * 4);
        assert_eq!(long >> (bit % 32) & 1 != 0, !taken.contains(&number), "block {number} in the map");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn the_file_system_finds_every_file_of_a_new_volume(files in files(), is_fast in any::<bool>(), more in 0u64..600) {
        let file_system = FileSystem { is_fast, is_international: false };
        let volume = Volume { name: "Saltmarsh", file_system, blocks: 1760 + more };
        hold(&written(&compose(&tree(&files), &volume).unwrap()), &files, is_fast);
    }
}

#[test]
fn long_files_go_on_in_further_lists_and_large_volumes_have_several_maps() {
    let files: Files = [("LONG.BIN", 300_000), ("EXACT.BIN", 72 * 488), ("ONE.BIN", 1), ("NONE.BIN", 0)]
        .map(|(n, l)| (n.to_owned(), super::bytes(l, l as u64)))
        .into();
    for is_fast in [false, true] {
        let file_system = FileSystem { is_fast, is_international: false };
        let volume = Volume { name: "Large", file_system, blocks: 20_000 };
        hold(&written(&compose(&tree(&files), &volume).unwrap()), &files, is_fast);
    }
}

#[test]
fn a_volume_that_is_too_small_is_refused_with_the_numbers() {
    let files: Files = [("A.BIN".to_owned(), vec![1; 100_000])].into();
    for blocks in [0, 1, 2, 3, 5, 100] {
        let file_system = FileSystem { is_fast: true, is_international: true };
        let ended = compose(&tree(&files), &Volume { name: "Small", file_system, blocks });
        let told = ended.map(|_| ()).unwrap_err().to_string();
        assert!(told.contains("blocks") && told.contains(" needed, the volume has room for "), "{blocks}: {told}");
    }
}
