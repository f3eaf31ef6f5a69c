//! Drives put together by hand: FAT volumes of all widths, partition tables with chains and copies. What is right is read to
//! the byte, what is wrong is told by the check that is for it.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::File;
use decanter_formats::REGISTRY;
use decanter_formats::disk::{fat::Fat, gpt::Gpt, mbr::Mbr};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::sync::Arc;

const SECTOR: usize = 512;

fn open(format: &dyn Format, bytes: Vec<u8>) -> decanter_core::Result<Opened> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let source: SourceRef = Arc::new(Bytes(bytes));
    format.open(source, &opener)
}

fn read(file: &File) -> decanter_core::Result<Vec<u8>> {
    let source = file.source()?;
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

fn noise(len: usize, seed: u32) -> Vec<u8> {
    (0..len as u32).map(|i| ((i ^ seed).wrapping_mul(0x9e37_79b9) >> 22) as u8 | 1).collect()
}

/// Names of the checks that do not hold, of those that matter.
fn failed(opened: &Opened) -> Vec<String> {
    let found = opened.proof.inspections[0](&()).unwrap();
    let all = opened.proof.settled.iter().chain(&found);
    all.filter(|s| !s.holds && s.matters.is_some()).map(|s| s.name.clone()).collect()
}

/// A FAT volume that grows file by file.
struct Volume {
    bytes: Vec<u8>,
    /// Bits of an entry of the table.
    width: usize,
    table: usize,
    table_len: usize,
    root: usize,
    data: usize,
    cluster_len: usize,
    next: usize,
    entries: usize,
}

impl Volume {
    fn new(width: usize) -> Self {
        let (sectors, per_cluster, table_sectors, root_entries) = match width {
            12 => (2000, 1, 6, 64),
            16 => (10_000, 1, 40, 64),
            _ => (70_000, 1, 548, 0),
        };
        let mut bytes = vec![0; sectors * SECTOR];
        let reserved = if width == 32 { 32 } else { 1 };
        bytes[..3].copy_from_slice(&[0xeb, 0x58, 0x90]);
        bytes[11..13].copy_from_slice(&(SECTOR as u16).to_le_bytes());
        bytes[13] = per_cluster as u8;
        bytes[14..16].copy_from_slice(&(reserved as u16).to_le_bytes());
        bytes[16] = 2;
        bytes[17..19].copy_from_slice(&(root_entries as u16).to_le_bytes());
        bytes[21] = 0xf8;
        if width == 32 {
            bytes[32..36].copy_from_slice(&(sectors as u32).to_le_bytes());
            bytes[36..40].copy_from_slice(&(table_sectors as u32).to_le_bytes());
            bytes[44] = 2;
        } else {
            bytes[19..21].copy_from_slice(&(sectors as u16).to_le_bytes());
            bytes[22..24].copy_from_slice(&(table_sectors as u16).to_le_bytes());
        }
        bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        let table = reserved * SECTOR;
        let root = table + 2 * table_sectors * SECTOR;
        let data = root + root_entries * 32;
        let mut volume = Self {
            bytes,
            width,
            table,
            table_len: table_sectors * SECTOR,
            root,
            data,
            cluster_len: per_cluster * SECTOR,
            next: 2,
            entries: 0,
        };
        volume.link(0, 0x0fff_fff8);
        volume.link(1, 0x0fff_ffff);
        if width == 32 {
            volume.link(2, 0x0fff_ffff);
            volume.root = volume.place(2);
            volume.next = 3;
        }
        volume
    }

    fn place(&self, cluster: usize) -> usize {
        self.data + (cluster - 2) * self.cluster_len
    }

    /// Puts an entry into both tables.
    fn link(&mut self, cluster: usize, to: u32) {
        for copy in 0..2 {
            self.link_in(copy, cluster, to);
        }
    }

    fn link_in(&mut self, copy: usize, cluster: usize, to: u32) {
        let table = self.table + copy * self.table_len;
        match self.width {
            12 => {
                let (at, shift) = (table + cluster * 3 / 2, cluster % 2 * 4);
                let pair = u16::from_le_bytes([self.bytes[at], self.bytes[at + 1]]);
                let pair = pair & !(0xfff << shift) | (to as u16 & 0xfff) << shift;
                self.bytes[at..at + 2].copy_from_slice(&pair.to_le_bytes());
            }
            16 => self.bytes[table + cluster * 2..][..2].copy_from_slice(&(to as u16).to_le_bytes()),
            _ => self.bytes[table + cluster * 4..][..4].copy_from_slice(&to.to_le_bytes()),
        }
    }

    /// Writes content into a chain; every other cluster is left free, so that no two follow each other.
    fn chain(&mut self, content: &[u8]) -> usize {
        let clusters: Vec<usize> = (0..content.len().div_ceil(self.cluster_len)).map(|i| self.next + i * 2).collect();
        for (index, (cluster, piece)) in clusters.iter().zip(content.chunks(self.cluster_len)).enumerate() {
            let place = self.place(*cluster);
            self.bytes[place..place + piece.len()].copy_from_slice(piece);
            self.link(*cluster, clusters.get(index + 1).map_or(0x0fff_ffff, |c| *c as u32));
        }
        self.next += clusters.len() * 2;
        clusters.first().copied().unwrap_or(0)
    }

    fn entry(name: &[u8; 11], attributes: u8, cluster: usize, len: usize) -> [u8; 32] {
        let mut entry = [0; 32];
        entry[..11].copy_from_slice(name);
        entry[11] = attributes;
        entry[20..22].copy_from_slice(&((cluster >> 16) as u16).to_le_bytes());
        entry[26..28].copy_from_slice(&(cluster as u16).to_le_bytes());
        entry[28..].copy_from_slice(&(len as u32).to_le_bytes());
        entry
    }

    fn add(&mut self, entry: [u8; 32]) {
        let at = self.root + self.entries * 32;
        self.bytes[at..at + 32].copy_from_slice(&entry);
        self.entries += 1;
    }

    fn file(&mut self, name: &[u8; 11], content: &[u8]) -> usize {
        let cluster = self.chain(content);
        self.add(Self::entry(name, 0x20, cluster, content.len()));
        cluster
    }

    /// A folder with one file in it.
    fn folder(&mut self, name: &[u8; 11], file: &[u8; 11], content: &[u8]) -> usize {
        let inside = self.chain(content);
        let own = self.next;
        let entries = [
            Self::entry(b".          ", 0x10, own, 0),
            Self::entry(b"..         ", 0x10, 0, 0),
            Self::entry(file, 0x20, inside, content.len()),
        ];
        let list = entries.concat();
        let cluster = self.chain(&list);
        assert_eq!(cluster, own);
        self.add(Self::entry(name, 0x10, cluster, 0));
        cluster
    }

    fn opened(&self) -> Opened {
        open(&Fat, self.bytes.clone()).unwrap()
    }
}

#[test]
fn volumes_of_every_width_are_read_chain_by_chain() {
    for width in [12, 16, 32] {
        let mut volume = Volume::new(width);
        let contents: Vec<(&[u8; 11], Vec<u8>)> = vec![
            (b"ONE     BIN", noise(1, 1)),
            (b"EXACT   BIN", noise(1024, 2)),
            (b"LONG    BIN", noise(20_000, 3)),
            (b"NONE       ", Vec::new()),
        ];
        for (name, content) in &contents {
            volume.file(name, content);
        }
        volume.folder(b"GAMES      ", b"FOGBELL EXE", &noise(3000, 4));
        let opened = volume.opened();
        assert!(opened.identity.kind.contains(&format!("FAT{width}")), "{}", opened.identity.kind);
        let tree = opened.holds.tree.as_ref().unwrap();
        let want: BTreeMap<&str, Vec<u8>> = BTreeMap::from([
            ("ONE.BIN", noise(1, 1)),
            ("EXACT.BIN", noise(1024, 2)),
            ("LONG.BIN", noise(20_000, 3)),
            ("NONE", Vec::new()),
            ("GAMES/FOGBELL.EXE", noise(3000, 4)),
        ]);
        let found: BTreeMap<&str, Vec<u8>> = tree.files().map(|(n, f)| (n.path.as_str(), read(f).unwrap())).collect();
        assert!(found == want, "FAT{width}: {:?}", found.keys());
        assert!(failed(&opened).is_empty(), "FAT{width}: {:?}", failed(&opened));
        assert!(opened.told.notices.iter().all(|n| !n.is_damage), "FAT{width}: {:?}", opened.told.notices);
    }
}

#[test]
fn each_sort_of_damage_is_found_by_its_check() {
    type Damage = fn(&mut Volume, usize, usize);
    let cases: [(&str, Damage, &str); 9] = [
        ("a lost cluster", |v, _, _| v.link(900, 0x0fff_ffff), "allocation"),
        ("a chain that goes on", |v, file, _| v.link(file + 4, 950), "entries of folders"),
        ("a chain without an end", |v, file, _| v.link(file + 4, 0), "entries of folders"),
        ("tables that differ", |v, _, _| v.link_in(1, 700, 5), "copies of the table"),
        ("another medium", |v, _, _| v.link(0, 0x0fff_fff0), "copies of the table"),
        (
            "a folder that is not itself",
            |v, _, folder| {
                let at = v.place(folder) + 26;
                v.bytes[at] ^= 1;
            },
            "entries of folders",
        ),
        (
            "a folder whose parent is another",
            |v, _, folder| {
                let at = v.place(folder) + 32 + 26;
                v.bytes[at] = 9;
            },
            "entries of folders",
        ),
        (
            "two of one name",
            |v, _, _| {
                let twin = Volume::entry(b"LONG    BIN", 0x20, 0, 0);
                v.add(twin);
            },
            "entries of folders",
        ),
        (
            "an empty file with a cluster",
            |v, _, _| {
                let own = Volume::entry(b"HOLLOW  BIN", 0x20, 800, 0);
                v.add(own);
            },
            "entries of folders",
        ),
    ];
    for width in [12, 16, 32] {
        for (told, damage, check) in cases {
            let mut volume = Volume::new(width);
            let file = volume.file(b"LONG    BIN", &noise(1400, 3));
            let folder = volume.folder(b"GAMES      ", b"FOGBELL EXE", &noise(600, 4));
            assert!(failed(&volume.opened()).is_empty());
            damage(&mut volume, file, folder);
            let found = failed(&volume.opened());
            assert!(found.iter().any(|f| f == check), "FAT{width}, {told}: {found:?}");
        }
    }
}

#[test]
fn clusters_that_are_marked_as_bad_belong_to_nobody_rightly() {
    for (width, bad) in [(12, 0xff7), (16, 0xfff7), (32, 0x0fff_fff7)] {
        let mut volume = Volume::new(width);
        volume.file(b"LONG    BIN", &noise(1400, 3));
        volume.link(901, bad);
        assert!(failed(&volume.opened()).is_empty(), "FAT{width}");
    }
}

#[test]
fn a_chain_that_breaks_costs_its_file_alone() {
    for width in [12, 16, 32] {
        let mut volume = Volume::new(width);
        let first = volume.file(b"FIRST   BIN", &noise(2000, 1));
        volume.file(b"SECOND  BIN", &noise(2000, 2));
        volume.link(first + 2, 1);
        let opened = volume.opened();
        let ends: Vec<bool> = opened.holds.tree.as_ref().unwrap().files().map(|(_, f)| f.source().is_ok()).collect();
        assert_eq!(ends, [false, true], "FAT{width}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]
    #[test]
    fn no_entry_of_the_table_makes_a_walk_endless(
        links in proptest::collection::vec((2usize..60, 0u32..70), 1..40),
        width in prop_oneof![Just(12usize), Just(16)],
    ) {
        let mut volume = Volume::new(width);
        volume.file(b"LONG    BIN", &noise(9000, 3));
        volume.folder(b"GAMES      ", b"FOGBELL EXE", &noise(600, 4));
        for (cluster, to) in links {
            volume.link(cluster, to);
        }
        let opened = volume.opened();
        // Whatever is read has the length that it says.
        for (node, file) in opened.holds.tree.as_ref().unwrap().files() {
            if let Ok(bytes) = read(file) {
                prop_assert_eq!(bytes.len() as u64, file.len, "{}", node.path);
            }
        }
        let _ = failed(&opened);
    }
}

/// An entry of a table of the older kind.
fn partition(kind: u8, first: u32, count: u32) -> [u8; 16] {
    let mut entry = [0; 16];
    entry[4] = kind;
    entry[8..12].copy_from_slice(&first.to_le_bytes());
    entry[12..].copy_from_slice(&count.to_le_bytes());
    entry
}

fn signed(bytes: &mut [u8], sector: usize, entries: &[[u8; 16]]) {
    let own = &mut bytes[sector * SECTOR..(sector + 1) * SECTOR];
    for (index, entry) in entries.iter().enumerate() {
        own[446 + index * 16..446 + (index + 1) * 16].copy_from_slice(entry);
    }
    own[510..].copy_from_slice(&[0x55, 0xaa]);
}

#[test]
fn logical_partitions_are_found_along_their_chain() {
    let mut bytes = vec![0; 3000 * SECTOR];
    signed(&mut bytes, 0, &[partition(6, 10, 100), partition(5, 200, 1000)]);
    // Each table: a partition from here, and the next table from the beginning of the extended one.
    signed(&mut bytes, 200, &[partition(6, 5, 50), partition(5, 100, 100)]);
    signed(&mut bytes, 300, &[partition(7, 5, 60), partition(5, 300, 100)]);
    signed(&mut bytes, 500, &[partition(0x83, 2, 70)]);
    for (sector, value) in [(10, 1u8), (205, 5), (305, 6), (502, 7)] {
        bytes[sector * SECTOR + 3] = value;
    }
    let opened = open(&Mbr, bytes.clone()).unwrap();
    let tree = opened.holds.tree.unwrap();
    let found: Vec<(String, u64, u8)> =
        tree.files().map(|(n, f)| (n.path.clone(), f.len / SECTOR as u64, read(f).unwrap()[3])).collect();
    let want = [("1", 100, 1), ("5", 50, 5), ("6", 60, 6), ("7", 70, 7)].map(|(n, l, v)| (n.to_owned(), l, v));
    assert_eq!(found, want);
    assert!(opened.told.notices.iter().all(|n| !n.is_damage), "{:?}", opened.told.notices);
    // A chain that leads back to its beginning ends, and is told.
    signed(&mut bytes, 500, &[partition(0x83, 2, 70), partition(5, 0, 100)]);
    let opened = open(&Mbr, bytes).unwrap();
    assert_eq!(opened.holds.tree.unwrap().files().count(), 4);
    assert!(opened.told.notices.iter().any(|n| n.is_damage), "{:?}", opened.told.notices);
}

/// A drive with a table of the newer kind at both ends, and one partition.
fn gpt(sectors: usize) -> Vec<u8> {
    let mut bytes = vec![0; sectors * SECTOR];
    let mut entries = vec![0; 128 * 128];
    entries[..16].fill(0xa5);
    entries[16..32].fill(0x11);
    entries[32..40].copy_from_slice(&40u64.to_le_bytes());
    entries[40..48].copy_from_slice(&139u64.to_le_bytes());
    for (index, unit) in "GAMES".encode_utf16().enumerate() {
        entries[56 + index * 2..58 + index * 2].copy_from_slice(&unit.to_le_bytes());
    }
    let sum = crc32fast::hash(&entries);
    for (own, other, table) in [(1, sectors - 1, 2), (sectors - 1, 1, sectors - 33)] {
        let mut header = vec![0; SECTOR];
        header[..8].copy_from_slice(b"EFI PART");
        header[8..12].copy_from_slice(&[0, 0, 1, 0]);
        header[12] = 92;
        header[24..32].copy_from_slice(&(own as u64).to_le_bytes());
        header[32..40].copy_from_slice(&(other as u64).to_le_bytes());
        header[40..48].copy_from_slice(&34u64.to_le_bytes());
        header[48..56].copy_from_slice(&(sectors as u64 - 34).to_le_bytes());
        header[72..80].copy_from_slice(&(table as u64).to_le_bytes());
        header[80] = 128;
        header[84] = 128;
        header[88..92].copy_from_slice(&sum.to_le_bytes());
        let own_sum = crc32fast::hash(&header[..92]);
        header[16..20].copy_from_slice(&own_sum.to_le_bytes());
        bytes[own * SECTOR..(own + 1) * SECTOR].copy_from_slice(&header);
        bytes[table * SECTOR..table * SECTOR + entries.len()].copy_from_slice(&entries);
    }
    bytes
}

#[test]
fn either_copy_of_a_table_is_enough_and_a_damaged_one_is_told() {
    let good = gpt(400);
    let held = |bytes: Vec<u8>| {
        let opened = open(&Gpt, bytes).unwrap();
        let lens: Vec<u64> = opened.holds.tree.iter().flat_map(|t| t.files()).map(|(_, f)| f.len).collect();
        (lens, opened.proof.settled.iter().filter(|s| !s.holds).count())
    };
    let partition = vec![100 * SECTOR as u64];
    assert_eq!(held(good.clone()), (partition.clone(), 0));
    for at in [SECTOR + 40, 2 * SECTOR + 33, 399 * SECTOR + 40, 367 * SECTOR + 33] {
        let mut bad = good.clone();
        bad[at] ^= 1;
        assert_eq!(held(bad), (partition.clone(), 1), "byte {at:#x}");
    }
    // Without the first header the drive is still known by the last one.
    let mut bad = good.clone();
    bad[SECTOR..SECTOR + 8].fill(0);
    assert!(Gpt.score(&decanter_core::Head::new(&Bytes(bad.clone()))).unwrap().is_some());
    assert_eq!(held(bad), (partition.clone(), 1));
    // A drive that was cut short has the first.
    let (lens, faults) = held(good[..300 * SECTOR].to_vec());
    assert_eq!((lens, faults), (partition, 1));
}
