//! Disks of the C64, as the drive reads them: directory, chains, map.

use super::{bytes, le16};
use decanter_formats::disk::cbm::{NewFile, compose};
use proptest::prelude::*;

/// Sectors of a track, and where one begins in the image.
fn sectors(id: &str, track: usize) -> usize {
    match (id, track) {
        ("d81", _) => 40,
        (_, 1..=17) => 21,
        (_, 18..=24) => 19,
        (_, 25..=30) => 18,
        _ => 17,
    }
}

fn at(id: &str, track: usize, sector: usize) -> usize {
    assert!(track >= 1 && sector < sectors(id, track), "there is no {track}/{sector}");
    ((1..track).map(|t| sectors(id, t)).sum::<usize>() + sector) * 256
}

/// Whether the map calls a sector free.
fn is_free(id: &str, disk: &[u8], track: usize, sector: usize) -> bool {
    let entry = match id {
        "d81" => {
            let map = at(id, 40, if track <= 40 { 1 } else { 2 });
            &disk[map + 16 + (track - 1) % 40 * 6..][..6]
        }
        _ => &disk[at(id, 18, 0) + 4 + (track - 1) * 4..][..4],
    };
    let count: u32 = entry[1..].iter().map(|b| b.count_ones()).sum();
    assert_eq!(u32::from(entry[0]), count, "the count of track {track}");
    entry[1 + sector / 8] >> (sector % 8) & 1 != 0
}

/// Follows a chain of sectors; every one of them is taken in the map.
fn chain(id: &str, disk: &[u8], first: (usize, usize)) -> (Vec<u8>, usize) {
    let (mut content, mut place, mut count) = (Vec::new(), first, 0);
    loop {
        assert!(!is_free(id, disk, place.0, place.1), "{place:?} is called free");
        let own = &disk[at(id, place.0, place.1)..][..256];
        count += 1;
        if own[0] == 0 {
            content.extend_from_slice(&own[2..=usize::from(own[1])]);
            return (content, count);
        }
        content.extend_from_slice(&own[2..]);
        place = (own[0].into(), own[1].into());
        assert!(count < 3200, "the chain has no end");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn a_drive_finds_every_file_of_a_new_disk(
        list in proptest::collection::vec(("[A-Z0-9]{1,16}", 1u8..4, 1usize..6000), 1..18),
        is_large in any::<bool>(),
    ) {
        let id = if is_large { "d81" } else { "d64" };
        let mut met = std::collections::BTreeSet::new();
        let new: Vec<NewFile> = list
            .into_iter()
            .filter(|(name, ..)| met.insert(name.clone()))
            .enumerate()
            .map(|(n, (name, kind, len))| NewFile { name: name.into_bytes(), kind, content: bytes(len, n as u64) })
            .collect();
        let made = compose(id, &new, "PIER NINE", "P9").unwrap();
        let disk = &made.bytes;
        prop_assert_eq!(disk.len(), if is_large { 819_200 } else { 174_848 });
        let own = if is_large { 40 } else { 18 };
        let header = &disk[at(id, own, 0)..][..256];
        let title = if is_large { 4 } else { 0x90 };
        prop_assert_eq!(&header[title..title + 9], b"PIER NINE");
        prop_assert!(header[title + 9..title + 16].iter().all(|b| *b == 0xa0));
        prop_assert_eq!(&header[title + 18..title + 20], b"P9");
        // The directory, eight entries a sector.
        let (mut found, mut blocks) = (Vec::new(), 0);
        let mut place = (usize::from(header[0]), usize::from(header[1]));
        while place.0 != 0 {
            prop_assert_eq!(place.0, own, "the directory stays on its track");
            let sector = &disk[at(id, place.0, place.1)..][..256];
            for entry in sector.chunks(32).filter(|e| e[2] != 0) {
                let end = entry[5..21].iter().position(|b| *b == 0xa0).unwrap_or(16);
                let (content, count) = chain(id, disk, (entry[3].into(), entry[4].into()));
                prop_assert_eq!(le16(entry, 30), count, "blocks in the directory");
                prop_assert!(entry[2] & 0x80 != 0, "it is closed");
                found.push((entry[5..5 + end].to_vec(), entry[2] & 7, content));
                blocks += count;
            }
            place = (sector[0].into(), sector[1].into());
        }
        prop_assert_eq!(blocks, made.used);
        prop_assert_eq!(found.len(), new.len());
        for (file, (name, kind, content)) in new.iter().zip(&found) {
            prop_assert_eq!(&file.name, name);
            prop_assert_eq!(file.kind, *kind);
            prop_assert!(&file.content == content);
        }
        let tracks = if is_large { 80 } else { 35 };
        let free: usize = (1..=tracks)
            .filter(|t| *t != own)
            .map(|t| (0..sectors(id, t)).filter(|s| is_free(id, disk, t, *s)).count())
            .sum();
        prop_assert_eq!(free, made.free);
    }
}
