//! Disks, archives, volumes and drives: whatever the bytes are, reading them ends, and never panics.

use decanter_core::Keyring;
use decanter_core::format::{Format, Opener};
use decanter_core::source::Bytes;
use decanter_formats::REGISTRY;
use decanter_formats::archive::{lha::Lha, lzx::Lzx};
use decanter_formats::chunked::chd::Chd;
use decanter_formats::disk::{amiga, cbm, ext::Ext, fat::Fat, gpt::Gpt, mbr::Mbr, ntfs::Ntfs};
use proptest::prelude::*;
use std::sync::Arc;

/// Opens bytes, makes every check, and reads what files there are.
fn read(format: &dyn Format, bytes: Vec<u8>) -> Option<usize> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let _ = format.score(&decanter_core::Head::new(&Bytes(bytes.clone())));
    let opened = format.open(Arc::new(Bytes(bytes)), &opener).ok()?;
    for inspect in &opened.proof.inspections {
        let _ = inspect(&());
    }
    for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).take(20) {
        let Ok(source) = file.source() else { continue };
        let _ = source.read_at(0, &mut vec![0; source.len().min(1 << 16) as usize]);
    }
    Some(opened.holds.tree.map_or(0, |t| t.nodes.len()))
}

/// A disk whose sectors from `at` on are these.
fn placed(len: usize, at: usize, own: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0; len];
    let now = own.len().min(len - at);
    bytes[at..at + now].copy_from_slice(&own[..now]);
    bytes
}

#[test]
fn a_loop_and_a_wrong_chain_are_told_on_a_disk() {
    let mut disk = placed(174_848, 0x16500, &[18, 1, b'A']);
    // A directory whose sector leads to itself, with one program whose chain does the same.
    let at = 0x16600;
    disk[at..at + 9].copy_from_slice(&[18, 1, 0x82, 17, 0, b'L', b'O', b'O', b'P']);
    disk[at + 9..at + 21].fill(0xa0);
    disk[16 * 21 * 256..16 * 21 * 256 + 2].copy_from_slice(&[17, 0]);
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let opened = cbm::D64.open(Arc::new(Bytes(disk)), &opener).unwrap();
    assert!(
        opened.told.notices[0].text.contains("goes in a circle at track 18, sector 1"),
        "{:?}",
        opened.told.notices
    );
    let settled = opened.proof.inspections[0](&()).unwrap();
    assert!(!settled[0].holds && settled[0].note.as_ref().unwrap().contains("circle"), "{settled:?}");
}

#[test]
fn a_hunk_map_cannot_ask_for_more_than_its_bytes_allow() {
    let mut bytes = b"MComprHD\0\0\0\x7c\0\0\0\x05zlib".to_vec();
    bytes.resize(124, 0);
    bytes[32..40].copy_from_slice(&(1u64 << 40).to_be_bytes());
    bytes[40..48].copy_from_slice(&124u64.to_be_bytes());
    bytes[56..60].copy_from_slice(&65536u32.to_be_bytes());
    bytes[60..64].copy_from_slice(&512u32.to_be_bytes());
    bytes.extend([0, 0, 0, 4, 0, 0, 0, 0, 0, 124, 0, 0, 8, 8, 8, 0, 0, 0, 0, 0]);
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    let why = Chd.open(Arc::new(Bytes(bytes)), &opener).err().unwrap().to_string();
    assert!(why.contains("a hunk map of 4 bytes for 16777216 hunks"), "{why}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn no_disk_can_panic(own in proptest::collection::vec(any::<u8>(), 0..2048), flags in 0u8..8) {
        read(&cbm::D64, placed(174_848, 0x16500, &own));
        read(&cbm::D71, placed(349_696, 0x16500, &own));
        read(&cbm::D81, placed(819_200, 39 * 40 * 256, &own));
        let mut adf = placed(901_120, 880 * 512, &own);
        adf[..4].copy_from_slice(&[b'D', b'O', b'S', flags]);
        adf[880 * 512 + 3] = 2;
        adf[880 * 512 + 511] = 1;
        read(&amiga::Adf, adf);
        let mut rdb = placed(64 * 512, 0, &own);
        rdb[..4].copy_from_slice(b"RDSK");
        read(&amiga::Rdb, rdb);
    }

    #[test]
    fn no_archive_or_tape_can_panic(own in proptest::collection::vec(any::<u8>(), 64..1024), level in 0u8..3) {
        let mut lha = own.clone();
        lha[2..7].copy_from_slice(b"-lh5-");
        lha[20] = level;
        let len = usize::from(lha[0]) + 2;
        lha[1] = lha.get(2..len).map_or(0, |b| b.iter().fold(0, |s: u8, b| s.wrapping_add(*b)));
        read(&Lha, lha);
        let mut lzx = [&b"LZX\0\0\0\0\0\0\0"[..], &own].concat();
        let names = usize::from(lzx[10 + 14]) + usize::from(lzx[10 + 30]);
        lzx[36..40].fill(0);
        if let Some(head) = lzx.get(10..10 + 31 + names) {
            let crc = crc32fast::hash(head);
            lzx[36..40].copy_from_slice(&crc.to_le_bytes());
        }
        read(&Lzx, lzx);
        let mut t64 = own.clone();
        t64[..14].copy_from_slice(b"C64 tape image");
        t64[32..34].copy_from_slice(&[0, 1]);
        read(&cbm::t64::T64, t64);
        read(&cbm::crt::Crt, [&b"C64 CARTRIDGE   "[..], &own].concat());
        let head = b"VICE Snapshot File\x1a\x01\x01C64\0\0\0\0\0\0\0\0\0\0\0\0\0";
        read(&cbm::vsf::Vsf, [&head[..], &own].concat());
        // A module whose length may be anything, and one that is whole.
        let long = [&head[..], b"MAINCPU\0\0\0\0\0\0\0\0\0\x01\0", &own].concat();
        read(&cbm::vsf::Vsf, long);
        let len = (own.len() as u32 + 22).to_le_bytes();
        let whole = [&head[..], b"C64MEM\0\0\0\0\0\0\0\0\0\0\x01\0", &len, &own].concat();
        assert_eq!(read(&cbm::vsf::Vsf, whole), Some(1));
    }

    #[test]
    fn no_drive_can_panic(own in proptest::collection::vec(any::<u8>(), 4096..8192)) {
        let with = |changes: &[(usize, &[u8])]| {
            let mut bytes = own.clone();
            changes.iter().for_each(|(at, b)| bytes[*at..*at + b.len()].copy_from_slice(b));
            bytes
        };
        let boot: (usize, &[u8]) = (510, &[0x55, 0xaa]);
        read(&Mbr, with(&[boot]));
        read(&Gpt, with(&[(512, b"EFI PART")]));
        read(&Fat, with(&[(0, &[0xeb, 0, 0x90]), (11, &[0, 2, 1, 1, 0, 1, 16, 0, 15, 0, 0xf8, 1, 0]), boot]));
        read(&Ntfs, with(&[(3, b"NTFS    "), (11, &[0, 2, 1]), (48, &[2, 0, 0, 0, 0, 0, 0, 0]), (64, &[2]), (1024, b"FILE"), boot]));
        read(&Ext, with(&[(1024 + 24, &[0, 0, 0, 0]), (1024 + 56, &[0x53, 0xef])]));
        read(&Chd, with(&[(0, b"MComprHD\0\0\0\x7c\0\0\0\x05")]));
        read(&Chd, with(&[(0, b"MComprHD\0\0\0\x6c\0\0\0\x04\0\0\0\0\0\0\0\x01"), (28, &[0, 0, 0, 0, 0, 0, 0x20, 0]), (44, &[0, 0, 2, 0])]));
    }
}

/// What opening bytes gives.
fn opened(format: &dyn Format, bytes: Vec<u8>) -> decanter_core::Opened {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    format.open(Arc::new(Bytes(bytes)), &opener).unwrap()
}

/// All bytes of the file with this path.
fn content(opened: &decanter_core::Opened, path: &str) -> Vec<u8> {
    let tree = opened.holds.tree.as_ref().unwrap();
    tree.read(path, 1 << 20).unwrap().unwrap_or_else(|| panic!("{path} is not there"))
}

#[test]
fn a_tape_with_the_usual_wrong_end_address() {
    let mut tape = b"C64S tape image file".to_vec();
    tape.resize(64, 0);
    tape[32..38].copy_from_slice(&[0, 1, 2, 0, 2, 0]);
    tape[40..64].copy_from_slice(b"PIER TAPES              ");
    for (name, load, end, at) in
        [(b"FOGBELL         ", 0x0801u16, 0xc3c6u16, 128u32), (b"BRINE           ", 0xc000, 0xc004, 148)]
    {
        let mut entry = vec![1, 0x82];
        entry.extend(load.to_le_bytes());
        entry.extend(end.to_le_bytes());
        entry.extend([0, 0]);
        entry.extend(at.to_le_bytes());
        entry.extend([0; 4]);
        entry.extend(name);
        tape.extend(entry);
    }
    tape.extend((0..20).collect::<Vec<u8>>());
    tape.extend([0xa9, 0, 0x60, 0]);
    let tape = opened(&cbm::t64::T64, tape);
    assert_eq!(content(&tape, "FOGBELL.prg"), [&[1, 8][..], &(0..20).collect::<Vec<u8>>()].concat());
    assert_eq!(content(&tape, "BRINE.prg"), [0x00, 0xc0, 0xa9, 0, 0x60, 0]);
    assert!(
        tape.told.notices[0].text.contains("its end address $c3c6 is wrong; by what the image holds it is $0815"),
        "{:?}",
        tape.told.notices
    );
}

#[test]
fn a_cartridge_bank_by_bank() {
    let mut crt = b"C64 CARTRIDGE   \0\0\0\x40\x01\0\0\x05\x01\x00".to_vec();
    crt.resize(32, 0);
    crt.extend(b"FOGBELL");
    crt.resize(64, 0);
    for bank in 0..2u8 {
        crt.extend([&b"CHIP\0\0\0\x14\0\0\0"[..], &[bank], &[0x80, 0, 0, 4], &[bank; 4]].concat());
    }
    let crt = opened(&cbm::crt::Crt, crt);
    assert_eq!((crt.get("title"), crt.get("hardware")), (Some("FOGBELL"), Some("type 5, EXROM 1, GAME 0")));
    assert_eq!(content(&crt, "bank 001 at 8000.bin"), [1; 4]);
}

#[test]
fn members_of_all_header_levels() {
    let crc = |raw: &[u8]| {
        raw.iter()
            .fold(0u16, |c, b| (0..8).fold(c ^ u16::from(*b), |c, _| if c & 1 == 1 { c >> 1 ^ 0xa001 } else { c >> 1 }))
    };
    let raw = b"low tide";
    let head = |level: u8, packed: usize| {
        let mut head = b"-lh0-".to_vec();
        head.extend((packed as u32).to_le_bytes());
        head.extend((raw.len() as u32).to_le_bytes());
        head.extend(if level == 2 { 1_000_000_000u32.to_le_bytes() } else { [0, 0x60, 0x21, 0x28] });
        head.extend([if level == 2 { 0x20 } else { 0x80 }, level]);
        head
    };
    // Level 0: the name with its folder, a comment behind a zero byte.
    let mut zero = head(0, raw.len());
    let name = b"Pier\\one\0a note";
    zero.push(name.len() as u8);
    zero.extend(name);
    zero.extend(crc(raw).to_le_bytes());
    zero.push(b'A');
    let sum = |h: &[u8]| h.iter().fold(0u8, |s, b| s.wrapping_add(*b));
    let mut archive = [&[zero.len() as u8, sum(&zero)][..], &zero, raw].concat();
    // Level 1: the folder in a further header, which counts as packed.
    let folder = b"\x02Pier\xff\0\0";
    let mut one = head(1, raw.len() + folder.len());
    one.push(3);
    one.extend(b"two");
    one.extend(crc(raw).to_le_bytes());
    one.push(b'A');
    one.extend((folder.len() as u16).to_le_bytes());
    archive.extend([&[one.len() as u8, sum(&one)][..], &one, folder, raw].concat());
    // Level 2: everything in further headers.
    let extras = [&b"\x01three\x08\0"[..], b"\x02Pier\xff\0\0"].concat();
    let mut two = head(2, raw.len());
    two.extend(crc(raw).to_le_bytes());
    two.push(b'A');
    two.extend(8u16.to_le_bytes());
    two.extend(&extras);
    archive.extend([&((two.len() + 2) as u16).to_le_bytes()[..], &two, raw, &[0]].concat());
    let lha = opened(&Lha, archive);
    for path in ["Pier/one", "Pier/two", "Pier/three"] {
        assert_eq!(content(&lha, path), raw, "{path}");
    }
    let nodes = &lha.holds.tree.as_ref().unwrap().nodes;
    assert_eq!(nodes[0].about.as_ref().unwrap().words, ["h---rwed", "\"a note\""]);
    assert!(nodes[2].about.is_none(), "level 2 keeps no attributes there");
    assert_eq!((nodes[0].modified, nodes[2].modified), (Some(946_728_000), Some(1_000_000_000)));
}
