//! No bytes can make a parser panic, hang, or allocate more than its input is worth.

use decanter_core::format::{Format, Opener};
use decanter_core::opened::Opened;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::{Error, Key, Keyring};
use decanter_formats::REGISTRY;
use decanter_formats::optical::iso9660::Iso9660;
use decanter_formats::record::ird::Description;
use decanter_formats::record::sfo::{Parameters, Value};
use proptest::prelude::*;
use std::io::{Cursor, Write};
use std::sync::Arc;
use zip::write::{SimpleFileOptions, ZipWriter};

fn open(bytes: Vec<u8>) -> Result<Opened, Error> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    opener.open(Arc::new(Bytes(bytes)))
}

/// Opens, and reads what is offered.
fn exercise(bytes: Vec<u8>) {
    let Ok(opened) = open(bytes) else { return };
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(50) {
        if let Ok(source) = file.source() {
            let mut head = vec![0; source.len().min(4096) as usize];
            let _ = source.read_at(0, &mut head);
            if let Some(last) = source.len().checked_sub(1).filter(|&l| l < 1 << 20) {
                let _ = source.read_at(last, &mut [0]);
            }
        }
    }
}

fn disc() -> Vec<u8> {
    let mut tree = Tree::default();
    for folder in ["lanes", "lanes/deep"] {
        tree.nodes.push(Node::new(folder.into(), Kind::Folder, Some(0)));
    }
    for (path, len) in [("lanes/a.dat", 5000u64), ("lanes/deep/b.dat", 1), ("c.txt", 0), ("d.bin", 70_000)] {
        let content = Content::Whole(Arc::new(Bytes(vec![9; len as usize])));
        tree.nodes.push(Node::new(path.into(), Kind::File(File { len, spans: vec![], content }), None));
    }
    let source = Iso9660.compose(&tree, "MOTH_PARADE").unwrap().as_source().unwrap();
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).unwrap();
    bytes
}

/// The disc with a region table and an id in its first sectors: all but the first 30 sectors encrypted, as it were.
fn sealed_disc() -> Vec<u8> {
    let mut bytes = disc();
    let last = bytes.len() as u32 / 2048;
    bytes.resize(bytes.len() + 2048, 0);
    let words = [2, 0, 0, 29, last, last];
    bytes[..24].copy_from_slice(&words.iter().flat_map(|w: &u32| w.to_be_bytes()).collect::<Vec<_>>());
    bytes[2048..2060].copy_from_slice(b"PlayStation3");
    bytes[2064..2074].copy_from_slice(b"DCNT-10003");
    bytes
}

fn description() -> Description {
    Description {
        version: 8,
        id: "DCNT10003".into(),
        title: "Moth Parade".into(),
        update_version: "3.41".into(),
        game_version: "01.00".into(),
        app_version: "01.01".into(),
        uid: Some(7),
        header: sealed_disc()[..30 * 2048].to_vec(),
        footer: vec![0; 2048],
        region_md5: vec![[1; 16], [2; 16], [3; 16]],
        file_md5: vec![(31, [4; 16]), (99, [5; 16])],
        extra: [0, 0],
        pic: Box::new([6; 115]),
        data1: Key::new(vec![7; 16]),
        data2: Key::new(vec![8; 16]),
    }
}

fn archive() -> Vec<u8> {
    let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, method) in [("a.txt", zip::CompressionMethod::Stored), ("b/c.txt", zip::CompressionMethod::Deflated)] {
        writer.start_file(name, SimpleFileOptions::default().compression_method(method)).unwrap();
        writer.write_all(&b"brine and bramble ".repeat(300)).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn parameters() -> Vec<u8> {
    let text = |n: &str, v: &str| (n.to_owned(), Value::Text(v.to_owned()));
    Parameters {
        entries: vec![text("TITLE", "Moth Parade"), ("BOOTABLE".into(), Value::Number(1))],
        ..Parameters::default()
    }
    .compose()
}

#[test]
fn the_fixtures_are_what_they_should_be() {
    let format = |bytes| open(bytes).map(|o| o.identity.format).unwrap();
    assert_eq!(format(disc()), "iso9660");
    assert_eq!(format(sealed_disc()), "ps3-disc");
    assert_eq!(format(description().compose().unwrap()), "ird");
    assert_eq!(format(archive()), "zip");
    assert_eq!(format(parameters()), "sfo");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]
    #[test]
    fn no_bytes_can_panic(bytes in proptest::collection::vec(any::<u8>(), 0..4096), magic in 0usize..6) {
        let mut bytes = bytes;
        let starts: [&[u8]; 6] = [b"", b"PK\x03\x04", b"3IRD\x09", b"\0PSF", b"\x1f\x8b\x08\0", b"PK\x05\x06"];
        bytes.splice(0..0, starts[magic].iter().copied());
        exercise(bytes);
    }

    #[test]
    fn no_damage_can_panic(
        which in 0usize..5,
        flips in proptest::collection::vec((any::<usize>(), any::<u8>()), 0..12),
        fields in proptest::collection::vec((any::<usize>(), prop_oneof![Just(0u32), Just(u32::MAX), Just(0x8000_0000), any::<u32>()]), 0..4),
        near in 0usize..40_000,
        cut in prop_oneof![2 => Just(usize::MAX), 1 => any::<usize>()],
    ) {
        let mut bytes = [disc(), sealed_disc(), description().compose().unwrap(), archive(), parameters()][which].clone();
        let n = bytes.len();
        for (at, value) in flips {
            // Half of the damage goes where the structures are.
            let at = if at % 2 == 0 { at % n } else { (32_768 + at % (near + 1)) % n };
            bytes[at] ^= value;
        }
        for (at, value) in fields {
            let at = (32_768 + at % (near + 1)) % (n - 4);
            bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        if cut != usize::MAX {
            bytes.truncate(cut % n);
        }
        exercise(bytes);
    }

    #[test]
    fn a_description_survives_any_damage_inside_its_packing(
        flips in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..6),
    ) {
        // Unpacked, with its CRC made right again: the fields themselves are hostile.
        let packed = description().compose().unwrap();
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(packed.as_slice()), &mut bytes).unwrap();
        let n = bytes.len() - 4;
        for (at, value) in flips {
            bytes[5 + at % (n - 5)] ^= value;
        }
        let crc = crc32fast::hash(&bytes[..n]);
        bytes[n..].copy_from_slice(&crc.to_le_bytes());
        exercise(bytes);
    }
}

#[test]
fn descriptions_come_back_as_they_went_in() {
    for version in 6..=9 {
        let uid = (version > 6).then_some(7);
        let made = Description { version, uid, ..description() };
        let read = Description::parse(&made.compose().unwrap()).unwrap();
        assert!(read == made, "version {version}");
    }
    let title = "Ö".repeat(100);
    let long = Description { title: title.clone(), ..description() };
    assert_eq!(Description::parse(&long.compose().unwrap()).unwrap().title, title, "200 bytes");
    assert!(Description { title: "x".repeat(20_000), ..description() }.compose().is_err());
    assert!(matches!(
        Description::parse(&Description { version: 5, ..description() }.compose().unwrap()),
        Err(Error::Unsupported { .. })
    ));
}

/// The fields of a version 9 description at offsets counted by hand.
#[test]
fn a_description_has_its_fields_where_the_layout_says() {
    let d = Description {
        version: 9,
        header: vec![],
        footer: vec![],
        region_md5: vec![],
        file_md5: vec![(0x0102, [0xaa; 16])],
        ..description()
    };
    let mut bytes = Vec::new();
    let packed = d.compose().unwrap();
    std::io::Read::read_to_end(&mut flate2::read::GzDecoder::new(packed.as_slice()), &mut bytes).unwrap();
    assert_eq!(&bytes[..40], b"3IRD\x09DCNT10003\x0bMoth Parade3.4101.0001.01");
    // Two packed blocks of no bytes, each with its length; then no regions and one file.
    let first = u32::from_le_bytes(bytes[40..44].try_into().unwrap()) as usize;
    let second = 44 + first;
    let at = second + 4 + u32::from_le_bytes(bytes[second..second + 4].try_into().unwrap()) as usize;
    assert_eq!(bytes[at..at + 5], [0, 1, 0, 0, 0]);
    assert_eq!(bytes[at + 5..at + 13], [2, 1, 0, 0, 0, 0, 0, 0]);
    assert_eq!(bytes[at + 13..at + 29], [0xaa; 16]);
    assert_eq!(bytes[at + 29..at + 33], [0; 4], "the two reserved fields");
    assert_eq!(bytes[at + 33..at + 148], [6; 115], "the PIC area");
    assert_eq!(bytes[at + 148..at + 164], [7; 16]);
    assert_eq!(bytes[at + 164..at + 180], [8; 16]);
    assert_eq!(bytes[at + 180..at + 184], [7, 0, 0, 0], "the number");
    assert_eq!(bytes.len(), at + 188, "the CRC is the end");
}

/// A volume laid out by hand after ECMA-119: one folder record, one file of two extents that do not follow each other.
#[test]
fn a_file_in_two_extents_is_one_file() {
    let mut image = vec![0u8; 24 * 2048];
    let both = |v: u32| [v.to_le_bytes(), v.to_be_bytes()].concat();
    let record = |name: &[u8], sector: u32, len: u32, flags: u8| {
        let mut r = vec![0u8; (33 + name.len()).next_multiple_of(2)];
        r[0] = r.len() as u8;
        r[2..10].copy_from_slice(&both(sector));
        r[10..18].copy_from_slice(&both(len));
        r[25] = flags;
        r[28..32].copy_from_slice(&[1, 0, 0, 1]);
        r[32] = name.len() as u8;
        r[33..33 + name.len()].copy_from_slice(name);
        r
    };
    let pvd = &mut image[16 * 2048..17 * 2048];
    pvd[..7].copy_from_slice(b"\x01CD001\x01");
    pvd[80..88].copy_from_slice(&both(24));
    pvd[128..132].copy_from_slice(&[0, 8, 8, 0]);
    pvd[156..190].copy_from_slice(&record(&[0], 18, 2048, 2));
    image[17 * 2048..17 * 2048 + 7].copy_from_slice(b"\xffCD001\x01");
    let records = [
        record(&[0], 18, 2048, 2),
        record(&[1], 18, 2048, 2),
        record(b"BIG.DAT;1", 22, 2048, 0x80),
        record(b"BIG.DAT;1", 20, 10, 0),
        record(b"NODOT.;1", 21, 1, 0),
    ];
    image[18 * 2048..18 * 2048 + records.concat().len()].copy_from_slice(&records.concat());
    image[22 * 2048..23 * 2048].fill(b'A');
    image[20 * 2048..20 * 2048 + 10].fill(b'B');
    let opened = open(image).unwrap();
    assert!(opened.told.notices.is_empty(), "{:?}", opened.told.notices);
    let tree = opened.holds.tree.unwrap();
    let names: Vec<_> = tree.nodes.iter().map(|n| n.path.as_str()).collect();
    assert_eq!(names, ["BIG.DAT", "NODOT"]);
    let bytes = tree.read("big.dat", 1 << 20).unwrap().unwrap();
    assert!(bytes == [vec![b'A'; 2048], vec![b'B'; 10]].concat());
}

#[test]
fn files_outside_the_volume_are_broken_and_overlaps_are_told() {
    let mut bytes = disc();
    // d.bin is the last file; its record in the Joliet tree gets an extent far outside.
    let wide: Vec<u8> = "d.bin".encode_utf16().flat_map(u16::to_be_bytes).collect();
    let at = bytes.windows(wide.len()).position(|w| w == wide).unwrap() - 33;
    bytes[at + 2..at + 6].copy_from_slice(&0x00ff_ffffu32.to_le_bytes());
    let opened = open(bytes.clone()).unwrap();
    let tree = opened.holds.tree.unwrap();
    let broken = tree.find("d.bin").unwrap().file().unwrap();
    assert!(matches!(&broken.content, Content::Broken(why) if why.contains(&format!("offset {at:#x}"))));
    assert!(tree.read("lanes/a.dat", 10_000).is_ok());
    // The same record onto the second sector of a.dat: both overlap there.
    let a = tree.find("lanes/a.dat").unwrap().file().unwrap().spans[0].start / 2048 + 1;
    bytes[at + 2..at + 6].copy_from_slice(&(a as u32).to_le_bytes());
    let opened = open(bytes).unwrap();
    assert!(opened.told.notices.iter().any(|n| n.text.contains("overlap")), "{:?}", opened.told.notices);
}

#[test]
fn archives_in_archives_end_somewhere() {
    let mut bytes = archive();
    for _ in 0..3 {
        let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
        writer.start_file("in.zip", SimpleFileOptions::default()).unwrap();
        writer.write_all(&bytes).unwrap();
        bytes = writer.finish().unwrap().into_inner();
    }
    let keys = Keyring::default();
    let mut opener = Opener::new(&REGISTRY, &keys);
    let mut source: SourceRef = Arc::new(Bytes(bytes));
    for _ in 0..3 {
        let tree = opener.open(source.clone()).unwrap().holds.tree.unwrap();
        source = tree.find("in.zip").unwrap().file().unwrap().source().unwrap().clone();
        opener = opener.inside().unwrap();
    }
    assert_eq!(opener.open(source).unwrap().holds.tree.unwrap().files().count(), 2);
    opener = opener.at_depth(decanter_core::format::MOST_DEPTH);
    assert!(matches!(opener.inside(), Err(Error::Limit { .. })));
}
