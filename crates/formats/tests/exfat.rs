//! exFAT volumes put together by hand along docs/formats/exfat.md, with checksums computed anew: what is right is read to the
//! byte, what is wrong is told.

use decanter_core::Keyring;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::REGISTRY;
use proptest::prelude::*;
use std::sync::Arc;

const SECTOR: usize = 512;
const CLUSTER: usize = 2048;
const CLUSTERS: usize = 60;
/// Sectors before the table and before the clusters.
const TABLE: usize = 24;
const HEAP: usize = 32;
const ROOT: u32 = 4;

/// A volume that grows.
struct Volume {
    bytes: Vec<u8>,
    next: u32,
    root: Vec<u8>,
}

/// The checksum of a set of entries, as the specification spells it.
fn set_checksum(set: &[u8]) -> u16 {
    let mut sum: u16 = 0;
    for (index, byte) in set.iter().enumerate() {
        if index == 2 || index == 3 {
            continue;
        }
        sum = (if sum & 1 != 0 { 0x8000 } else { 0 }) + (sum >> 1) + u16::from(*byte);
    }
    sum
}

fn boot_checksum(sectors: &[u8]) -> u32 {
    let mut sum: u32 = 0;
    for (index, byte) in sectors.iter().enumerate() {
        if index == 106 || index == 107 || index == 112 {
            continue;
        }
        sum = (if sum & 1 != 0 { 0x8000_0000 } else { 0 }) + (sum >> 1) + u32::from(*byte);
    }
    sum
}

impl Volume {
    fn new() -> Self {
        let mut bytes = vec![0; HEAP * SECTOR + CLUSTERS * CLUSTER];
        bytes[..3].copy_from_slice(&[0xeb, 0x76, 0x90]);
        bytes[3..11].copy_from_slice(b"EXFAT   ");
        let sectors = (bytes.len() / SECTOR) as u64;
        bytes[72..80].copy_from_slice(&sectors.to_le_bytes());
        for (at, value) in [(80, TABLE), (84, 8), (88, HEAP), (92, CLUSTERS), (96, ROOT as usize)] {
            bytes[at..at + 4].copy_from_slice(&(value as u32).to_le_bytes());
        }
        bytes[104..106].copy_from_slice(&[0, 1]);
        (bytes[108], bytes[109], bytes[110]) = (9, 2, 1);
        bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        let mut own = Self { bytes, next: ROOT + 1, root: Vec::new() };
        // Cluster 2 is the map, 3 the table of capitals, 4 the root folder.
        for cluster in [2, 3, ROOT] {
            own.link(cluster, u32::MAX);
        }
        own.root.extend([0x83, 4]);
        own.root.extend("TIDE".encode_utf16().flat_map(u16::to_le_bytes));
        own.root.resize(32, 0);
        let mut map = vec![0; 32];
        map[0] = 0x81;
        map[20..24].copy_from_slice(&2u32.to_le_bytes());
        map[24..32].copy_from_slice(&(CLUSTERS.div_ceil(8) as u64).to_le_bytes());
        own.root.extend(map);
        own
    }

    fn at(cluster: u32) -> usize {
        HEAP * SECTOR + (cluster as usize - 2) * CLUSTER
    }

    fn link(&mut self, cluster: u32, next: u32) {
        let at = TABLE * SECTOR + cluster as usize * 4;
        self.bytes[at..at + 4].copy_from_slice(&next.to_le_bytes());
        let bit = cluster as usize - 2;
        self.bytes[Self::at(2) + bit / 8] |= 1 << (bit % 8);
    }

    /// Puts bytes into clusters of their own: in a row, or each one cluster further.
    fn put(&mut self, content: &[u8], is_in_a_row: bool) -> u32 {
        let step = if is_in_a_row { 1 } else { 2 };
        let first = self.next;
        let parts: Vec<&[u8]> = content.chunks(CLUSTER).collect();
        for (index, part) in parts.iter().enumerate() {
            let cluster = first + index as u32 * step;
            let next = if index + 1 == parts.len() { u32::MAX } else { cluster + step };
            self.link(cluster, next);
            if is_in_a_row {
                // The table says nothing of these.
                let at = TABLE * SECTOR + cluster as usize * 4;
                self.bytes[at..at + 4].fill(0);
            }
            let at = Self::at(cluster);
            self.bytes[at..at + part.len()].copy_from_slice(part);
            self.next = cluster + 1;
        }
        first
    }

    fn set(name: &str, attributes: u16, first: u32, len: u64, written: u64, is_in_a_row: bool) -> Vec<u8> {
        let units: Vec<u16> = name.encode_utf16().collect();
        let names = units.len().div_ceil(15);
        let mut set = vec![0; 64];
        (set[0], set[1]) = (0x85, names as u8 + 1);
        set[4..6].copy_from_slice(&attributes.to_le_bytes());
        // 2001-10-19 08:00:02.
        set[12..14].copy_from_slice(&(8u16 << 11 | 1).to_le_bytes());
        set[14..16].copy_from_slice(&(21u16 << 9 | 10 << 5 | 19).to_le_bytes());
        set[32] = 0xc0;
        set[33] = 1 | if is_in_a_row { 2 } else { 0 };
        set[35] = units.len() as u8;
        set[40..48].copy_from_slice(&written.to_le_bytes());
        set[52..56].copy_from_slice(&first.to_le_bytes());
        set[56..64].copy_from_slice(&len.to_le_bytes());
        for part in units.chunks(15) {
            let mut entry = vec![0xc1, 0];
            entry.extend(part.iter().flat_map(|unit| unit.to_le_bytes()));
            entry.resize(32, 0);
            set.extend(entry);
        }
        let sum = set_checksum(&set).to_le_bytes();
        set[2..4].copy_from_slice(&sum);
        set
    }

    fn file(&mut self, name: &str, content: &[u8], is_in_a_row: bool) {
        let first = self.put(content, is_in_a_row);
        let len = content.len() as u64;
        self.root.extend(Self::set(name, 0x20, first, len, len, is_in_a_row));
    }

    fn done(mut self) -> Vec<u8> {
        let at = Self::at(ROOT);
        self.bytes[at..at + self.root.len()].copy_from_slice(&self.root);
        let sum = boot_checksum(&self.bytes[..11 * SECTOR]).to_le_bytes().repeat(SECTOR / 4);
        self.bytes[11 * SECTOR..12 * SECTOR].copy_from_slice(&sum);
        self.bytes.copy_within(0..12 * SECTOR, 12 * SECTOR);
        self.bytes
    }
}

fn text(len: usize) -> Vec<u8> {
    b"high tide, low tide. ".iter().copied().cycle().take(len).collect()
}

/// A volume with a file of each kind, and a folder.
fn volume() -> Volume {
    let mut own = Volume::new();
    own.file("Möwe at a long name, longer than one entry.iso", &text(5000), true);
    own.file("pieces.bin", &text(7000), false);
    own.file("empty", b"", true);
    // Of 6,000 bytes the first 3,000 were written.
    let first = own.put(&[text(3000), vec![0xee; 3000]].concat(), true);
    own.root.extend(Volume::set("half", 0x20, first, 6000, 3000, true));
    let inner = own.put(b"tide table", true);
    let set = Volume::set("inner.txt", 0x20, inner, 10, 10, true);
    let mut folder = set;
    folder.resize(CLUSTER, 0);
    let place = own.put(&folder, true);
    own.root.extend(Volume::set("GAMES", 0x10, place, CLUSTER as u64, CLUSTER as u64, true));
    own
}

fn open(bytes: Vec<u8>) -> decanter_core::Result<Opened> {
    let keys = Keyring::default();
    let source: SourceRef = Arc::new(Bytes(bytes));
    Opener::new(&REGISTRY, &keys).open(source)
}

fn content(opened: &Opened, path: &str) -> Option<Vec<u8>> {
    let source = opened.holds.tree.as_ref()?.find(path)?.file()?.source().ok()?.clone();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).ok()?;
    Some(bytes)
}

fn failed(opened: &Opened) -> Vec<String> {
    let found = opened.proof.inspections[0](&()).unwrap();
    found.iter().filter(|s| !s.holds).map(|s| format!("{}: {}", s.name, s.note.clone().unwrap_or_default())).collect()
}

#[test]
fn files_are_read_to_the_byte() {
    let opened = open(volume().done()).unwrap();
    assert_eq!((opened.identity.format, opened.get("label")), ("exfat", Some("TIDE")));
    assert_eq!(content(&opened, "Möwe at a long name, longer than one entry.iso"), Some(text(5000)));
    assert_eq!(content(&opened, "pieces.bin"), Some(text(7000)));
    assert_eq!(content(&opened, "empty"), Some(Vec::new()));
    assert_eq!(content(&opened, "half"), Some([text(3000), vec![0; 3000]].concat()));
    assert_eq!(content(&opened, "GAMES/inner.txt"), Some(b"tide table".to_vec()));
    let tree = opened.holds.tree.as_ref().unwrap();
    assert_eq!(tree.find("pieces.bin").unwrap().modified, Some(1_003_478_402));
    // Three of its own, three and four pieces, three, one and one: fifteen clusters of sixty.
    assert_eq!(opened.extent.free, Some((60 - 15) * CLUSTER as u64));
    assert_eq!(failed(&opened), Vec::<String>::new());
}

#[test]
fn every_kind_of_damage_is_told_by_its_check() {
    let with = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = volume().done();
        change(&mut bytes);
        open(bytes)
    };
    let first_sector = failed(&with(&|b| b[2000] ^= 1).unwrap());
    assert_eq!(first_sector, ["first sectors: the first sectors have another checksum"]);
    let copy = failed(&with(&|b| b[12 * SECTOR + 2000] ^= 1).unwrap());
    assert_eq!(copy, ["first sectors: their copy have another checksum"]);
    // A bit of a name.
    let root = Volume::at(ROOT);
    let name = failed(&with(&|b| b[root + 64 + 64 + 4] ^= 1).unwrap());
    assert!(name[0].starts_with("entries of folders: the entry of M"), "{name:?}");
    // A chain that ends early, one that leaves the volume, one that is a circle: unreadable, and named.
    let pieces = (5 + 3) as usize;
    let table = |cluster: usize| TABLE * SECTOR + cluster * 4;
    for (value, words) in [(u32::MAX, "ends before it does"), (900, "which is none"), (8, "claims its block")] {
        let opened = with(&|b| b[table(pieces)..table(pieces) + 4].copy_from_slice(&value.to_le_bytes())).unwrap();
        let node = opened.holds.tree.as_ref().unwrap().find("pieces.bin").unwrap();
        let told = node.file().unwrap().source().err().unwrap().to_string();
        assert!(told.contains(words), "{value}: {told}");
        assert_eq!(content(&opened, "GAMES/inner.txt"), Some(b"tide table".to_vec()), "the others are read");
    }
    let map = failed(&with(&|b| b[Volume::at(2)..Volume::at(2) + 4].fill(0)).unwrap());
    assert_eq!(map, ["map of clusters: files and folders have 14 clusters, of which the map knows 0"]);
    assert!(with(&|b| b[108] = 13).map_or(true, |o| o.identity.format != "exfat"), "no sector has 8 KiB");
    let cut = with(&|b| b.truncate(Volume::at(9))).unwrap();
    assert!(cut.extent.promised_len.unwrap() > Volume::at(9) as u64);
}

#[test]
fn a_folder_in_itself_is_not_followed() {
    let mut own = Volume::new();
    own.root.extend(Volume::set("round", 0x10, ROOT, CLUSTER as u64, CLUSTER as u64, true));
    let opened = open(own.done()).unwrap();
    assert!(opened.told.notices.iter().any(|n| n.text.contains("not followed")), "{:?}", opened.told.notices.len());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn no_bytes_can_panic(changes in proptest::collection::vec((0usize..70_000, any::<u8>()), 1..12), cut in 512usize..140_000) {
        let mut bytes = volume().done();
        for (at, value) in changes {
            // Most of what is worth changing stands in the first sector, the table and the root folder.
            let len = bytes.len();
            bytes[at % len] = value;
            bytes[Volume::at(ROOT) + at % 700] = value;
        }
        bytes.truncate(cut);
        if let Ok(opened) = open(bytes) {
            for inspect in &opened.proof.inspections {
                let _ = inspect(&());
            }
            for (node, _) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                let _ = content(&opened, &node.path);
            }
        }
    }
}
