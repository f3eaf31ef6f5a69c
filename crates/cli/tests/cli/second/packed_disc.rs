//! Xbox 360 packages with a disc: tables of digests, each proven by the one above, and the disc that their blocks make.

use super::xbox::{MAGIC, SECTOR, of_partition};
use crate::support::{demo, folder, run, text};
use decanter_core::digest::{Algorithm, of_bytes};
use std::fs;

const BLOCK: usize = 0x1000;
/// Blocks that a table has room for, and tables of a file.
const BLOCKS: usize = 204;
const GROUPS: usize = 203;

fn sha1(bytes: &[u8]) -> Vec<u8> {
    of_bytes(Algorithm::Sha1, bytes).bytes
}

/// The blocks of a data file, whose master table has the digest `wanted`; that of the next one's, if there is one.
fn blocks(file: &[u8], wanted: &[u8], out: &mut Vec<u8>) -> Option<Vec<u8>> {
    let (master, mut rest) = file.split_at(BLOCK);
    assert_eq!(sha1(master), wanted);
    let mut groups = 0;
    while !rest.is_empty() {
        let (table, behind) = rest.split_at(BLOCK);
        assert_eq!(sha1(table), master[groups * 20..][..20], "table {groups}");
        let here = behind.len().min(BLOCKS * BLOCK);
        for (number, block) in behind[..here].chunks(BLOCK).enumerate() {
            assert_eq!(sha1(block), table[number * 20..][..20], "block {number} of table {groups}");
            out.extend(block);
        }
        let used = here.div_ceil(BLOCK);
        assert!(table[used * 20..].iter().all(|byte| *byte == 0));
        groups += 1;
        rest = &behind[here..];
    }
    let next = &master[groups * 20..][..20];
    assert!(groups <= GROUPS && master[groups * 20 + 20..].iter().all(|byte| *byte == 0));
    next.iter().any(|byte| *byte != 0).then(|| next.to_vec())
}

#[test]
fn a_disc_in_data_files_is_proven_block_by_block() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().downloads.disc), "--to", "xdvdfs", "-o", "disc.iso"]).expect(0);
    let wanted = of_partition(&fs::read(folder.path().join("disc.iso")).unwrap());
    assert!(wanted.len() > 1);
    run(folder.path(), &["convert", "disc.iso", "--to", "god", "-o", "made"]).expect(0);
    let head = fs::read(folder.path().join("made")).unwrap();
    assert_eq!((head[0x379], head[0x379 + 24]), (0x24, 0), "a descriptor, and no feature");
    let mut digest = Some(head[0x379 + 4..0x379 + 24].to_vec());
    let (mut image, mut number) = (Vec::new(), 0);
    while let Some(wanted) = digest {
        let file = fs::read(folder.path().join(format!("made.data/Data{number:04}"))).unwrap();
        digest = blocks(&file, &wanted, &mut image);
        number += 1;
    }
    assert!(!folder.path().join(format!("made.data/Data{number:04}")).exists());
    assert!(image[32 * SECTOR..].starts_with(MAGIC));
    assert!(of_partition(&image) == wanted);
    let blocks = u32::from_le_bytes([head[0x379 + 25], head[0x379 + 26], head[0x379 + 27], 0]) as usize;
    assert_eq!(blocks, image.len() / BLOCK);
}
