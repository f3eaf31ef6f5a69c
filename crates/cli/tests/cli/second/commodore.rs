//! Disks of the C64: chains of sectors, the directory, and the map of what is free.

use super::{Files, put, short};
use crate::support::{folder, noise, run};
use std::collections::HashSet;

/// Track and sector.
type Place = (u8, u8);

/// How a kind of disk is laid out.
struct Kind {
    id: &'static str,
    sectors: fn(u8) -> u8,
    tracks: u8,
    /// Where the directory begins.
    directory: Place,
    /// Where the map of a track stands: sector, offset, and bytes of its bits.
    map: fn(u8) -> (Place, usize, usize),
}

const KINDS: [Kind; 2] = [
    Kind {
        id: "d64",
        sectors: |track| match track {
            1..=17 => 21,
            18..=24 => 19,
            25..=30 => 18,
            _ => 17,
        },
        tracks: 35,
        directory: (18, 1),
        map: |track| ((18, 0), usize::from(track) * 4, 3),
    },
    Kind {
        id: "d81",
        sectors: |_| 40,
        tracks: 80,
        directory: (40, 3),
        map: |track| match track {
            1..=40 => ((40, 1), 0x10 + usize::from(track - 1) * 6, 5),
            _ => ((40, 2), 0x10 + usize::from(track - 41) * 6, 5),
        },
    },
];

struct Disk<'a>(&'a Kind, &'a [u8]);

impl Disk<'_> {
    fn sector(&self, (track, sector): Place) -> &[u8] {
        assert!(track >= 1 && track <= self.0.tracks && sector < (self.0.sectors)(track), "{track}, {sector}");
        let before: usize = (1..track).map(|t| usize::from((self.0.sectors)(t))).sum();
        let at = (before + usize::from(sector)) * 256;
        &self.1[at..at + 256]
    }

    /// The sectors of a chain, and the bytes that they hold.
    fn chain(&self, mut at: Place) -> (Vec<Place>, Vec<u8>) {
        let (mut met, mut bytes) = (Vec::new(), Vec::new());
        loop {
            assert!(!met.contains(&at), "a circle at {at:?}");
            met.push(at);
            let sector = self.sector(at);
            match (sector[0], sector[1]) {
                (0, last) => {
                    bytes.extend(&sector[2..=usize::from(last)]);
                    return (met, bytes);
                }
                next => {
                    bytes.extend(&sector[2..]);
                    at = next;
                }
            }
        }
    }

    /// The files by the first four letters of their names; everything that is in use.
    fn files(&self) -> (Files, HashSet<Place>) {
        let (mut found, mut used) = (Files::new(), HashSet::new());
        let (sectors, _) = self.chain(self.0.directory);
        for at in &sectors {
            for entry in self.sector(*at).chunks(32).filter(|entry| entry[2] != 0) {
                assert_eq!(entry[2], 0x82, "a closed program");
                let name: String =
                    entry[5..21].iter().take_while(|b| **b != 0xa0).map(|b| char::from(b & 0x7f)).collect();
                let (chain, bytes) = self.chain((entry[3], entry[4]));
                assert_eq!(usize::from(short(entry, 30)), chain.len(), "{name}");
                chain.into_iter().for_each(|at| assert!(used.insert(at), "{at:?} belongs to two files"));
                assert!(found.insert(name.chars().take(4).collect(), bytes).is_none(), "{name} is there twice");
            }
        }
        used.extend(sectors);
        (found, used)
    }

    /// The map says of every sector what is so.
    fn check_map(&self, used: &HashSet<Place>) {
        let own = self.0.directory.0;
        for track in 1..=self.0.tracks {
            let (at, offset, len) = (self.0.map)(track);
            let map = &self.sector(at)[offset..offset + 1 + len];
            let is_free = |sector: u8| map[1 + usize::from(sector / 8)] >> (sector % 8) & 1 == 1;
            let sectors = (self.0.sectors)(track);
            let free = (0..sectors).filter(|sector| is_free(*sector)).count();
            assert_eq!(usize::from(map[0]), free, "track {track}");
            // Of the directory's track, what holds the header and the map is in use, too.
            for sector in (0..sectors).filter(|_| track != own) {
                assert_eq!(is_free(sector), !used.contains(&(track, sector)), "{track}, {sector}");
            }
            used.iter().filter(|at| at.0 == own && track == own).for_each(|at| assert!(!is_free(at.1), "{at:?}"));
        }
    }
}

#[test]
fn disks_hold_what_was_put_onto_them() {
    let folder = folder();
    // From a program that fills no sector to one that takes many, and more names than a sector of the directory has.
    let lens = [2, 3, 253, 254, 255, 256, 508, 509, 5000, 40_000, 7, 8, 9, 10, 11, 12, 13, 14];
    let wanted: Files = lens
        .iter()
        .zip(0u8..)
        .map(|(len, number)| {
            let name = format!("{}{} program", char::from(b'a' + number), char::from(b'z' - number));
            (format!("{name}.prg"), [&[0x01, 0x08][..], &noise(*len, u64::from(number) + 1)].concat())
        })
        .collect();
    put(&folder.path().join("src"), &wanted);
    for kind in &KINDS {
        let image = format!("disk.{}", kind.id);
        run(folder.path(), &["convert", "src", "--to", kind.id, "-o", &image]).expect(0);
        let bytes = std::fs::read(folder.path().join(&image)).unwrap();
        assert_eq!(bytes.len(), (1..=kind.tracks).map(|t| usize::from((kind.sectors)(t))).sum::<usize>() * 256);
        let disk = Disk(kind, &bytes);
        let (found, used) = disk.files();
        let wanted: Files =
            wanted.iter().map(|(name, bytes)| (name.to_uppercase().chars().take(4).collect(), bytes.clone())).collect();
        assert!(found == wanted, "{}: {:?}", kind.id, found.keys());
        disk.check_map(&used);
    }
}
