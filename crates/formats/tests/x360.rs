//! Content packages, built here after docs/formats, without the code that is tested: what is read of them, what is told where
//! they are damaged; and what is written, held against that.

use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::format::{Beside, Opener};
use decanter_core::opened::Opened;
use decanter_core::pour::to_memory;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use decanter_formats::optical::xdvdfs;
use decanter_formats::package::x360::{Making, stfs, svod};
use proptest::prelude::*;
use std::sync::Arc;

const BLOCK: usize = 0x1000;

fn source(bytes: Vec<u8>) -> SourceRef {
    Arc::new(Bytes(bytes))
}

fn sha1(bytes: &[u8]) -> Vec<u8> {
    of_bytes(Algorithm::Sha1, bytes).bytes
}

/// Data files beside a package.
struct Data(Vec<(String, Vec<u8>)>);

impl Beside for Data {
    fn find(&self, _: &str) -> Result<Option<(String, SourceRef)>> {
        Ok(None)
    }

    fn folder(&self, name: &str) -> Result<Option<(String, Tree)>> {
        let nodes = self.0.iter().map(|(n, b)| Node::new(n.clone(), Kind::File(File::of(source(b.clone()))), None));
        Ok((!self.0.is_empty()).then(|| (name.to_owned(), Tree { nodes: nodes.collect() })))
    }
}

fn open_beside(bytes: Vec<u8>, data: &Data) -> Result<Opened> {
    let keys = Keyring::default();
    let names = ["ROWING".to_owned()];
    Opener::new(&REGISTRY, &keys).with_names(&names).with_beside(data).open(source(bytes))
}

fn open(bytes: Vec<u8>) -> Result<Opened> {
    open_beside(bytes, &Data(Vec::new()))
}

fn read(opened: &Opened, path: &str) -> Result<Vec<u8>> {
    let node = opened.holds.tree.as_ref().unwrap().find(path).unwrap_or_else(|| panic!("{path} is not there"));
    let source = node.file().unwrap().source()?.clone();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes)?;
    Ok(bytes)
}

/// Everything that does not hold, in words.
fn faults(opened: &Opened) -> Vec<String> {
    let mut settled = opened.proof.settled.clone();
    for inspect in opened.proof.inspections.iter().chain(&opened.proof.on_reading) {
        settled.extend(inspect(&()).unwrap());
    }
    let bad = settled.into_iter().filter(|s| !s.holds && s.matters.is_some());
    bad.map(|s| format!("{}: {}", s.name, s.note.unwrap_or_default())).collect()
}

fn content(len: usize, seed: usize) -> Vec<u8> {
    (0..len).map(|i| ((i * 31 + seed * 7) ^ (i >> 8)) as u8).collect()
}

/// A header of 0x971A bytes, filled up, with this volume.
fn header(magic: &[u8; 4], volume: &[u8], kind: u32) -> Vec<u8> {
    let mut bytes = vec![0; 0xa000];
    let mut put = |at: usize, with: &[u8]| bytes[at..at + with.len()].copy_from_slice(with);
    put(0, magic);
    put(0x340, &0x971a_u32.to_be_bytes());
    put(0x344, &2u32.to_be_bytes());
    put(0x348, &2u32.to_be_bytes());
    put(0x360, &0x5350_0019_u32.to_be_bytes());
    put(0x366, &[1, 3]);
    put(0x379, volume);
    put(0x39d, &1u32.to_be_bytes());
    put(0x3a9, &kind.to_be_bytes());
    let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_be_bytes).collect::<Vec<u8>>();
    put(0x411, &utf16("Rowing"));
    put(0x511, &utf16("ボート"));
    put(0x541a + 0x200, &utf16("Гребля"));
    put(0xd11, &utf16("Six oars"));
    let digest = sha1(&bytes[0x344..]);
    bytes[0x32c..0x340].copy_from_slice(&digest);
    bytes
}

/// Data blocks, each with the next one of its chain.
type Chains = Vec<(Vec<u8>, u32)>;

/// A volume to build.
struct Volume {
    copies: usize,
    /// Whether the second copy of each table counts.
    second: bool,
    blocks: Chains,
}

/// The file table of these entries: name, flags, first block, parent, bytes.
fn table(entries: &[(&str, u8, u32, u16, u32)]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for (name, flags, first, parent, len) in entries {
        let mut entry = [0; 0x40];
        entry[..name.len()].copy_from_slice(name.as_bytes());
        entry[0x28] = flags | name.len() as u8;
        let blocks = len.div_ceil(0x1000).to_le_bytes();
        entry[0x29..0x2c].copy_from_slice(&blocks[..3]);
        entry[0x2c..0x2f].copy_from_slice(&blocks[..3]);
        entry[0x2f..0x32].copy_from_slice(&first.to_le_bytes()[..3]);
        entry[0x32..0x34].copy_from_slice(&parent.to_be_bytes());
        entry[0x34..0x38].copy_from_slice(&len.to_be_bytes());
        entry[0x38..0x3c].copy_from_slice(&[0x5d, 0x77, 0x39, 0xc2]);
        bytes.extend(entry);
    }
    bytes.resize(BLOCK, 0);
    bytes
}

impl Volume {
    /// The package: tables and blocks in the order in which they stand, not by any formula.
    fn build(&self, magic: &[u8; 4]) -> Vec<u8> {
        let groups = self.blocks.len().div_ceil(170);
        let mut lowest: Vec<Vec<u8>> = Vec::new();
        for group in self.blocks.chunks(170) {
            let mut bytes = Vec::new();
            for (block, next) in group {
                bytes.extend(sha1(block));
                bytes.extend((0x8000_0000 | next).to_be_bytes());
            }
            bytes.resize(BLOCK, 0);
            lowest.push(bytes);
        }
        let above = |below: &[Vec<u8>]| -> Vec<Vec<u8>> {
            let table = |own: &[Vec<u8>]| {
                let entry = |t: &Vec<u8>| [sha1(t), (u32::from(self.second) << 30).to_be_bytes().to_vec()].concat();
                let mut bytes: Vec<u8> = own.iter().flat_map(entry).collect();
                bytes.resize(BLOCK, 0);
                bytes
            };
            below.chunks(170).map(table).collect()
        };
        let middle = if groups > 1 { above(&lowest) } else { Vec::new() };
        let top = if groups > 170 { above(&middle) } else { Vec::new() };
        let copies = |table: &[u8]| match (self.copies, self.second) {
            (1, _) => table.to_vec(),
            (_, false) => [table, &[0xee; BLOCK]].concat(),
            (_, true) => [&[0xee; BLOCK], table].concat(),
        };
        let mut body = Vec::new();
        for (group, blocks) in self.blocks.chunks(170).enumerate() {
            if group == 1 {
                body.extend(copies(&middle[0]));
            }
            if group > 0 && group % 170 == 0 {
                if group == 170 {
                    body.extend(copies(&top[0]));
                }
                body.extend(copies(&middle[group / 170]));
            }
            body.extend(copies(&lowest[group]));
            blocks.iter().for_each(|(block, _)| body.extend(block));
        }
        let highest = top.first().or(middle.first()).unwrap_or(&lowest[0]);
        let mut volume = vec![0x24, 0, if self.copies == 1 { 1 } else { u8::from(self.second) << 1 }, 1, 0, 0, 0, 0];
        volume.extend(sha1(highest));
        volume.extend((self.blocks.len() as u32).to_be_bytes());
        volume.extend([0; 4]);
        [header(magic, &volume, 0), body].concat()
    }
}

/// A volume of `count` blocks: a folder, a file whose blocks go backwards through every other one, a small one at the end.
fn scattered(count: u32, copies: usize, second: bool) -> (Vec<u8>, Vec<u8>, Vec<u8>) {
    let chain: Vec<u32> = (1..count - 1).rev().step_by(2).collect();
    let large = content(chain.len() * BLOCK - 100, 1);
    let small = content(33, 2);
    let mut blocks = vec![(vec![0; BLOCK], 0xff_ffff); count as usize];
    for (index, block) in chain.iter().enumerate() {
        let mut bytes = large[index * BLOCK..large.len().min((index + 1) * BLOCK)].to_vec();
        bytes.resize(BLOCK, 0);
        blocks[*block as usize] = (bytes, chain.get(index + 1).copied().unwrap_or(0xff_ffff));
    }
    blocks[count as usize - 1].0[..small.len()].copy_from_slice(&small);
    let entries = [
        ("oars", 0x80, 0, 0xffff, 0),
        ("large.bin", 0, chain[0], 0, large.len() as u32),
        ("small.bin", 0x40, count - 1, 0xffff, small.len() as u32),
    ];
    blocks[0].0 = table(&entries);
    (Volume { copies, second, blocks }.build(b"LIVE"), large, small)
}

#[test]
fn scattered_files_are_read_under_every_layout_of_tables() {
    for (count, copies, second) in
        [(60, 1, false), (171, 1, false), (400, 2, false), (400, 2, true), (29_000, 1, false)]
    {
        let (bytes, large, small) = scattered(count, copies, second);
        let opened = open(bytes).unwrap();
        assert_eq!(opened.identity.format, "stfs");
        assert!(read(&opened, "oars/large.bin").unwrap() == large, "{count} blocks, {copies} copies");
        assert_eq!(read(&opened, "small.bin").unwrap(), small);
        assert_eq!(faults(&opened), [""; 0], "{count} blocks, {copies} copies");
    }
}

#[test]
fn a_header_tells_what_it_is() {
    let opened = open(scattered(60, 1, false).0).unwrap();
    assert_eq!(opened.identity.title.as_deref(), Some("Rowing"));
    assert_eq!(opened.get("id"), Some("SP-025 (53500019)"));
    assert_eq!((opened.get("kind"), opened.get("disc")), (Some("add-on"), Some("1 of 3")));
    assert_eq!(opened.get("description"), Some("Six oars"));
    assert!(opened.get("signature").unwrap().starts_with("not checked"));
    let titles = opened.told.label.as_ref().unwrap().titles.clone();
    let wanted = [("English", "Rowing"), ("Japanese", "ボート"), ("Russian", "Гребля")];
    assert_eq!(titles, wanted.map(|(language, text)| (language, text.to_owned())));
    let node = opened.holds.tree.as_ref().unwrap().find("small.bin").unwrap();
    assert_eq!(node.modified.map(decanter_formats::time::text).as_deref(), Some("2026-11-23 07:14:04"));
}

#[test]
fn one_byte_is_told_wherever_it_is() {
    let (bytes, large, small) = scattered(400, 2, true);
    let damaged = |at: usize| {
        let mut bytes = bytes.clone();
        bytes[at] ^= 1;
        open(bytes).unwrap()
    };
    // The header.
    assert!(faults(&damaged(0x412))[0].contains("digest of the header"));
    // Two copies of a table of level 0, the first block behind them, the file table.
    let block = 0xa000 + 2 * BLOCK;
    let opened = damaged(block + BLOCK * 10 + 5);
    let told = read(&opened, "oars/large.bin").unwrap_err().to_string();
    assert!(told.contains("block 0xa at 0x16000 should have SHA-1"), "{told}");
    assert_eq!(read(&opened, "small.bin").unwrap(), small);
    // A block of no file.
    assert!(faults(&damaged(block + BLOCK * 11)).is_empty(), "nobody needs it");
    // The copy that does not count.
    let opened = damaged(0xa000);
    assert!(faults(&opened).is_empty() && read(&opened, "oars/large.bin").unwrap() == large);
    // The one that does: the other is no better.
    let opened = damaged(0xa000 + BLOCK + 3);
    assert!(faults(&opened).iter().any(|f| f.contains("both copies of the table of level 0")), "{:?}", faults(&opened));
    assert!(read(&opened, "oars/large.bin").is_err());
    // If the other one holds, it is read, and that is told.
    let mut both = bytes.clone();
    both.copy_within(0xa000 + BLOCK..0xa000 + 2 * BLOCK, 0xa000);
    both[0xa000 + BLOCK + 3] ^= 1;
    let opened = open(both).unwrap();
    assert!(faults(&opened)[0].contains("hold in the copy that does not count"));
    assert!(read(&opened, "oars/large.bin").unwrap() == large);
}

#[test]
fn chains_that_lead_nowhere_are_told() {
    let build = |change: &dyn Fn(&mut Chains)| {
        let mut blocks = vec![(vec![7; BLOCK], 0xff_ffff); 12];
        blocks[0].0 = table(&[
            ("loop.bin", 0, 1, 0xffff, 5 * 4096),
            ("good.bin", 0x40, 8, 0xffff, 2 * 4096),
            ("lost.bin", 0, 11, 7, 10),
        ]);
        (1..5).for_each(|n| blocks[n].1 = n as u32 + 1);
        blocks[8].1 = 9;
        change(&mut blocks);
        open(Volume { copies: 1, second: false, blocks }.build(b"CON ")).unwrap()
    };
    let why = |opened: &Opened, path: &str| read(opened, path).err().map(|e| e.to_string()).unwrap_or_default();
    let opened = build(&|_| {});
    assert!(read(&opened, "loop.bin").is_ok());
    assert!(opened.told.notices[0].text.contains("entry 7, which is no folder"));
    assert!(why(&build(&|b| b[3].1 = 2), "loop.bin").contains("comes to block 0x2 again"));
    assert!(why(&build(&|b| b[3].1 = 500), "loop.bin").contains("is 0x1f4, the volume has 0xc"));
    assert!(why(&build(&|b| b[3].1 = 0xff_ffff), "loop.bin").contains("ends after 3 of 5"));
    let crossed = build(&|b| b[3].1 = 8);
    assert!(why(&crossed, "good.bin").contains("one of another file") && !crossed.told.notices.is_empty());
    let told = faults(&build(&|b| b[8].1 = 5));
    assert!(told.iter().any(|f| f.contains("chain of good.bin goes on from 0x8 to 0x5, not to 0x9")), "{told:?}");
}

#[test]
fn what_is_written_is_what_the_description_says() {
    let nodes = vec![
        Node::new("oars".into(), Kind::Folder, None),
        Node::new("oars/large.bin".into(), Kind::File(File::of(source(content(300 * BLOCK, 3)))), None),
        Node::new("small.bin".into(), Kind::File(File::of(source(content(33, 4)))), None),
    ];
    let tree = Tree { nodes };
    for (signer, copies) in [
        (decanter_formats::package::x360::header::Signer::Console, 2),
        (decanter_formats::package::x360::header::Signer::Live, 1),
    ] {
        let making = Making { signer, name: "Rowing".into(), ..Making::default() };
        let bytes = to_memory(&stfs::compose(&tree, &making, &()).unwrap(), 8 << 20, &()).unwrap();
        // Byte for byte what is built here: one block of file table, 300 and 1 of files.
        let mut blocks = vec![(Vec::new(), 0xff_ffff)];
        blocks.extend(content(300 * BLOCK, 3).chunks(BLOCK).enumerate().map(|(n, b)| (b.to_vec(), n as u32 + 2)));
        blocks.last_mut().unwrap().1 = 0xff_ffff;
        blocks.push((content(33, 4), 0xff_ffff));
        blocks[301].0.resize(BLOCK, 0);
        let mut own = table(&[
            ("oars", 0x80, 0, 0xffff, 0),
            ("large.bin", 0x40, 1, 0, 300 * 4096),
            ("small.bin", 0x40, 301, 0xffff, 33),
        ]);
        (0..3).for_each(|n| own[n * 0x40 + 0x38..n * 0x40 + 0x40].fill(0));
        blocks[0].0 = own;
        let built = Volume { copies, second: false, blocks }.build(b"CON ");
        // Tables say how many blocks they are about, and both copies are written: those are not built here.
        let at = |n: usize| (0xa000 + n * BLOCK)..(0xa000 + (n + 1) * BLOCK);
        let data = |copies: usize, block: usize| copies + block + if block >= 170 { 2 * copies } else { 0 };
        for block in 0..302 {
            assert!(bytes[at(data(copies, block))] == built[at(data(copies, block))], "block {block}, {copies} copies");
        }
        let opened = open(bytes.clone()).unwrap();
        assert_eq!(faults(&opened), [""; 0]);
        assert!(read(&opened, "oars/large.bin").unwrap() == content(300 * BLOCK, 3));
        assert_eq!(bytes.len(), built.len());
    }
}

fn disc() -> (SourceRef, Vec<u8>) {
    let nodes = vec![
        Node::new("media".into(), Kind::Folder, None),
        Node::new("media/a.bin".into(), Kind::File(File::of(source(content(1_000_000, 5)))), None),
        Node::new("b.bin".into(), Kind::File(File::of(source(content(70_000, 6)))), None),
    ];
    let disc = xdvdfs::compose_placed(&Tree { nodes }).unwrap().blueprint.as_source().unwrap();
    let mut bytes = vec![0; disc.len() as usize];
    disc.read_at(0, &mut bytes).unwrap();
    bytes.resize(bytes.len().next_multiple_of(BLOCK), 0);
    (disc, bytes)
}

/// A package and its one data file, of these blocks.
fn svod_of(stored: &[u8], features: u8, first: u8) -> (Vec<u8>, Vec<u8>) {
    let mut groups = Vec::new();
    let mut master = Vec::new();
    for group in stored.chunks(204 * BLOCK) {
        let mut table: Vec<u8> = group.chunks(BLOCK).flat_map(sha1).collect();
        table.resize(BLOCK, 0);
        master.extend(sha1(&table));
        groups.extend(table);
        groups.extend(group);
    }
    master.resize(BLOCK, 0);
    let count = (stored.len() / BLOCK) as u32;
    let mut volume = vec![0x24, 5, 5, 0x11];
    volume.extend(sha1(&master));
    volume.push(features);
    volume.extend(&count.to_le_bytes()[..3]);
    volume.extend([first, 0, 0, 0, 0, 0, 0, 0]);
    (header(b"LIVE", &volume, 1), [master, groups].concat())
}

#[test]
fn a_disc_is_read_in_both_layouts_and_behind_its_header() {
    let (_, disc) = disc();
    let plain = svod_of(&disc, 0, 0);
    // The volume descriptor in front, then what follows from sector 34 on.
    let enhanced = svod_of(&disc[0x1_0000..], 0x40, 0x11);
    for (package, data) in [&plain, &enhanced] {
        let data = Data(vec![("Data0000".into(), data.clone())]);
        let opened = open_beside(package.clone(), &data).unwrap();
        assert_eq!(opened.identity.format, "god");
        assert!(read(&opened, "media/a.bin").unwrap() == content(1_000_000, 5));
        assert!(read(&opened, "b.bin").unwrap() == content(70_000, 6));
        assert_eq!(faults(&opened), [""; 0]);
    }
    let (package, data) = &plain;
    let opened = open([package.clone(), data.clone()].concat()).unwrap();
    assert!(read(&opened, "media/a.bin").unwrap() == content(1_000_000, 5));
}

#[test]
fn damage_of_a_disc_is_told_by_block_and_file() {
    let (_, disc) = disc();
    let (package, data) = svod_of(&disc, 0, 0);
    let opened = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut data = data.clone();
        change(&mut data);
        open_beside(package.clone(), &Data(vec![("Data0000".into(), data)])).unwrap()
    };
    let told = |opened: &Opened, path: &str| read(opened, path).err().map(|e| e.to_string()).unwrap_or_default();
    // Block 0x20 stands behind two tables.
    let hit = opened(&|data| data[0x2000 + 0x20 * BLOCK] ^= 1);
    assert!(told(&hit, "media/a.bin").contains("block 0x20, at 0x22000 of ROWING.data/Data0000, should have SHA-1"));
    assert!(told(&hit, "b.bin").is_empty() && faults(&hit).is_empty());
    let table = opened(&|data| data[0x1000] ^= 1);
    assert!(faults(&table)[0].contains("table 0 of ROWING.data/Data0000 at 0x1000"), "{:?}", faults(&table));
    assert!(table.told.notices.iter().any(|n| n.is_damage));
    let cut = opened(&|data| data.truncate(0x2000 + 0x30 * BLOCK));
    assert!(told(&cut, "media/a.bin").contains("ROWING.data/Data0000 has 204,800 bytes instead of 1,"));
    // The first sector of the disc belongs to no file.
    let blank = opened(&|data| data[0x2000] ^= 1);
    assert!(faults(&blank)[0].contains("blocks that no file has: block 0x0, at 0x2000"), "{:?}", faults(&blank));
}

#[test]
fn a_disc_is_written_as_it_is_built_here() {
    let (source, bytes) = disc();
    let laid = svod::compose(&source, &Making::default(), &()).unwrap();
    let (_, data) = svod_of(&bytes, 0, 0);
    assert_eq!(laid.files.len(), 1);
    assert!(to_memory(&laid.files[0], 8 << 20, &()).unwrap() == data);
    let opened = open_beside(laid.header, &Data(vec![("Data0000".into(), data)])).unwrap();
    assert_eq!(faults(&opened), [""; 0]);
}

#[test]
fn headers_that_cannot_be_right_are_refused() {
    let bytes = scattered(60, 1, false).0;
    let with = |at: usize, value: &[u8]| {
        let mut bytes = bytes.clone();
        bytes[at..at + value.len()].copy_from_slice(value);
        open(bytes)
    };
    let why = |r: Result<Opened>| r.err().map(|e| e.to_string()).unwrap_or_default();
    assert!(why(with(0x340, &[0, 0, 1, 0])).contains("a header of 256 bytes at offset 0x340"));
    assert!(why(with(0x395, &[0xff; 4])).contains("a volume of 4294967295 blocks"));
    assert!(why(with(0x37c, &[0xff, 0xff])).contains("a file table of 65535 blocks"));
    assert!(matches!(open(bytes[..0x5000].to_vec()), Err(Error::NotUnderstood { .. })));
    let cut = open(bytes[..bytes.len() - 3 * BLOCK].to_vec()).unwrap();
    let tree = cut.holds.tree.unwrap();
    assert!(matches!(tree.find("small.bin").unwrap().file().unwrap().content, Content::Cut { missing: 33 }));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn changed_bytes_are_told_or_harmless(at in 0usize..0x971a, value in any::<u8>(), more in 0usize..300_000) {
        let (mut bytes, ..) = scattered(60, 2, false);
        bytes[at] = value;
        let more = more % bytes.len();
        bytes[more] ^= 0x55;
        if let Ok(opened) = open(bytes) {
            for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = file.source() {
                    let mut head = vec![0; source.len().min(1 << 20) as usize];
                    let _ = source.read_at(0, &mut head);
                }
            }
            let _ = faults(&opened);
        }
    }
}
