//! Packages of the 3DS: sections, and the chain of digests from the metadata down to each content.

use super::{big, little, sha256};
use crate::support::{demo, folder, run, text};
use std::fs;

fn big_short(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_be_bytes([bytes[at], bytes[at + 1]]))
}

#[test]
fn a_package_is_proven_from_its_metadata_down() {
    let folder = folder();
    let card = &demo().case.decrypted;
    run(folder.path(), &["convert", text(card), "--to", "cia", "-o", "made.cia"]).expect(0);
    let package = fs::read(folder.path().join("made.cia")).unwrap();
    let aligned = |len: u32| len.next_multiple_of(64) as usize;
    // Lengths of the header, certificates, ticket, metadata and what a menu shows; each section begins at a multiple of 64.
    let [head, certificates, ticket, metadata, shown] = [0, 8, 12, 16, 20].map(|at| little(&package, at));
    let contents_len = u64::from_le_bytes(package[24..32].try_into().unwrap()) as usize;
    assert_eq!(head, 0x2020);
    let at = aligned(head) + aligned(certificates) + aligned(ticket);
    let titles = &package[at..at + metadata as usize];
    let contents = &package[at + aligned(metadata)..];
    assert_eq!(contents.len(), contents_len.next_multiple_of(64) + shown as usize);
    // A signature of RSA-2048 with its padding stands first.
    assert_eq!(big(titles, 0), 0x0001_0004);
    let own = &titles[0x140..];
    let (count, infos, records) = (big_short(own, 0x9e), &own[0xc4..0x9c4], &own[0x9c4..]);
    assert_eq!(sha256(infos), own[0xa4..0xc4]);
    assert_eq!(records.len(), count * 0x30);
    let (first, of_first) = (big_short(infos, 0), big_short(infos, 2));
    assert_eq!((first, of_first), (0, count), "one record of all contents");
    assert_eq!(sha256(records), infos[4..0x24]);
    let mut at = 0;
    for record in records.chunks(0x30) {
        let len = u64::from_be_bytes(record[8..16].try_into().unwrap()) as usize;
        let content = &contents[at..at + len];
        assert_eq!(&content[0x100..0x104], b"NCCH");
        assert_eq!(sha256(content), record[16..48]);
        // The table of contents in the header has a bit for each, the first at the top.
        let index = big_short(record, 4);
        assert_eq!(package[0x20 + index / 8] >> (7 - index % 8) & 1, 1);
        at += len;
    }
    assert_eq!(at, contents_len);
    let bits: u32 = package[0x20..0x2020].iter().map(|byte| byte.count_ones()).sum();
    assert_eq!(bits as usize, count);
}
