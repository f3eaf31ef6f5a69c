//! ECMA-167: every descriptor of a volume has the tag that it should have, and they lead to each other.

use super::{files, le16, le32, tree, written};
use decanter_formats::optical::iso9660::{Volume, compose};
use proptest::prelude::*;

const SECTOR: usize = 2048;

/// CRC of a descriptor (7.2.6): the polynomial 1021h, from zero, highest bit first.
fn crc(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0u16, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte) << 8, |sum, _| if sum & 0x8000 != 0 { sum << 1 ^ 0x1021 } else { sum << 1 })
    })
}

/// Holds a tag (7.2) against what it is of; returns its number.
fn tag(image: &[u8], sector: usize, location: usize) -> usize {
    let own = &image[sector * SECTOR..(sector + 1) * SECTOR];
    let sum = own[..16].iter().enumerate().filter(|(i, _)| *i != 4).fold(0u8, |sum, (_, b)| sum.wrapping_add(*b));
    assert_eq!(own[4], sum, "checksum of the tag in sector {sector}");
    let len = le16(own, 10);
    assert_eq!(le16(own, 8), usize::from(crc(&own[16..16 + len])), "CRC of the descriptor in sector {sector}");
    assert_eq!(le32(own, 12), location, "the tag in sector {sector} says where it is");
    le16(own, 0)
}

#[test]
fn the_sum_is_that_of_the_standard() {
    // The check value of the catalogues for this polynomial from zero.
    assert_eq!(crc(b"123456789"), 0x31c3);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn every_descriptor_of_a_bridge_disc_has_its_tag(files in files()) {
        let volume = Volume { label: "MARSH".into(), udf: true, ..Volume::default() };
        let image = written(&compose(&tree(&files), &volume).unwrap());
        // The sequence that says that there is a volume of this kind.
        let marks: Vec<&[u8]> = (16..40).map(|s| &image[s * SECTOR + 1..s * SECTOR + 6]).collect();
        let begins = marks.iter().position(|m| *m == b"BEA01").unwrap();
        prop_assert!(marks[begins + 1] == b"NSR02" || marks[begins + 1] == b"NSR03");
        prop_assert_eq!(marks[begins + 2], b"TEA01");
        // The anchor, and the two sequences that it leads to, which say the same.
        prop_assert_eq!(tag(&image, 256, 256), 2);
        let anchor = &image[256 * SECTOR..257 * SECTOR];
        let mut sequences = Vec::new();
        for at in [16, 24] {
            let (len, first) = (le32(anchor, at), le32(anchor, at + 4));
            prop_assert!(len >= 16 * SECTOR, "a sequence has room for sixteen (2.2.3)");
            let mut numbers = Vec::new();
            for sector in first..first + len / SECTOR {
                let number = tag(&image, sector, sector);
                numbers.push(number);
                if number == 8 {
                    break;
                }
            }
            sequences.push((first, numbers));
        }
        prop_assert_eq!(&sequences[0].1, &sequences[1].1);
        for wanted in [1, 5, 6, 7, 8] {
            prop_assert!(sequences[0].1.contains(&wanted), "descriptor {}", wanted);
        }
        // The partition, its file set, and the root's entry.
        let find = |wanted: usize| {
            let index = sequences[0].1.iter().position(|n| *n == wanted).unwrap();
            &image[(sequences[0].0 + index) * SECTOR..][..SECTOR]
        };
        let partition = le32(find(5), 188);
        let logical = find(6);
        prop_assert_eq!(le32(logical, 212), SECTOR, "its blocks are sectors");
        let set = le32(logical, 248 + 4);
        prop_assert_eq!(tag(&image, partition + set, set), 256);
        let root = le32(&image[(partition + set) * SECTOR..], 400 + 4);
        let kind = tag(&image, partition + root, root);
        prop_assert!(kind == 261 || kind == 266, "a file entry: {}", kind);
        // What ISO 9660 calls the same files lies in the same sectors: the volume is not twice as long.
        let content: usize = files.values().map(|f| f.len().next_multiple_of(SECTOR)).sum();
        prop_assert!(image.len() < content + 600 * SECTOR + files.len() * 2 * SECTOR);
    }
}
