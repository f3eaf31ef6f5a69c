//! Cartridges: headers worked out here byte by byte, and damaged ones.

use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::rom::{Declared, Lanes, Rom, SaveKind, Shape};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Keyring};
use decanter_formats::REGISTRY;
use proptest::prelude::*;
use std::sync::Arc;

fn open(bytes: Vec<u8>) -> Result<Opened, Error> {
    let keys = Keyring::default();
    let opener = Opener::new(&REGISTRY, &keys);
    opener.open(Arc::new(Bytes(bytes)))
}

#[track_caller]
fn rom(bytes: Vec<u8>) -> (Opened, Rom) {
    let opened = open(bytes).unwrap();
    let rom = opened.holds.rom.clone().unwrap();
    (opened, rom)
}

fn all(source: &SourceRef) -> Vec<u8> {
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).unwrap();
    bytes
}

fn noise(seed: u32, len: usize) -> Vec<u8> {
    (0..len as u32).map(|i| ((i ^ seed << 7).wrapping_mul(2_654_435_761).wrapping_add(seed) >> 11) as u8).collect()
}

fn put(bytes: &mut [u8], at: usize, what: &[u8]) {
    bytes[at..at + what.len()].copy_from_slice(what);
}

/// 64 KiB, MBC5 with RAM of 32 KiB and a battery, Color, code BTDE.
fn game_boy() -> Vec<u8> {
    let mut rom = noise(1, 0x1_0000);
    rom[0x100..0x150].fill(0);
    put(&mut rom, 0x100, &[0x00, 0xc3, 0x50, 0x01]);
    put(&mut rom, 0x134, b"BRAMBLETIDBTDE\xc0");
    put(&mut rom, 0x13f, b"BTDE\xc0");
    put(&mut rom, 0x144, b"SM\x00\x1b\x01\x03\x01\x33\x02");
    let mut x = 0u8;
    for &byte in &rom[0x134..0x14d] {
        x = x.wrapping_sub(byte).wrapping_sub(1);
    }
    rom[0x14d] = x;
    let sum: u32 = rom.iter().map(|&b| u32::from(b)).sum();
    put(&mut rom, 0x14e, &(sum as u16).to_be_bytes());
    rom
}

fn advance() -> Vec<u8> {
    let mut rom = noise(2, 0x1_0000);
    rom[..0xc0].fill(0);
    put(&mut rom, 0, &[0x2e, 0, 0, 0xea]);
    put(&mut rom, 0xa0, b"MOTH PARADE\0DMPPSM\x96");
    rom[0xbc] = 1;
    let sum: u32 = rom[0xa0..0xbd].iter().map(|&b| u32::from(b)).sum();
    rom[0xbd] = (0x100 - (sum + 0x19) % 0x100) as u8;
    put(&mut rom, 0x2000, b"FLASH1M_V103\0\0\0\0SIIRTC_V001\0");
    rom
}

fn nintendo() -> Vec<u8> {
    let mut rom = b"NES\x1a\x01\x01\x43\x00\0\0\0\0\0\0\0\0".to_vec();
    rom.extend(noise(3, 24 << 10));
    rom
}

fn super_nintendo() -> Vec<u8> {
    let mut rom = noise(4, 0x2_0000);
    put(&mut rom, 0xffb0, &[0; 16]);
    put(&mut rom, 0xffb0, b"SMBRCE");
    put(&mut rom, 0xffc0, b"BRINE RACER HIGH     \x31\x02\x07\x03\x01\x33\x00\xff\xff\0\0");
    put(&mut rom, 0xffe0, &[0; 32]);
    put(&mut rom, 0xfffc, &[0x00, 0x80]);
    rom[0x8000] = 0x78;
    let sum = rom.iter().map(|&b| u32::from(b)).sum::<u32>() as u16;
    put(&mut rom, 0xffdc, &(!sum).to_le_bytes());
    put(&mut rom, 0xffde, &sum.to_le_bytes());
    rom
}

fn mega_drive() -> Vec<u8> {
    let mut rom = noise(5, 0x8000);
    rom[0x100..0x200].fill(b' ');
    put(&mut rom, 0x100, b"SEGA GENESIS    (C)SM   2026.NOV");
    put(&mut rom, 0x150, b"FOGBELL");
    put(&mut rom, 0x180, b"GM T-117260-03");
    put(&mut rom, 0x1a0, &[0, 0, 0, 0, 0, 0, 0x7f, 0xff]);
    put(&mut rom, 0x1b0, b"RA\xf8\x20\x00\x20\x00\x01\x00\x20\x7f\xff");
    put(&mut rom, 0x1f0, b"U");
    let sum = rom[0x200..].chunks(2).map(|w| u32::from(w[0]) << 8 | u32::from(w[1])).sum::<u32>() as u16;
    put(&mut rom, 0x18e, &sum.to_be_bytes());
    rom
}

fn nintendo_64() -> Vec<u8> {
    let mut rom = noise(6, 0x20_0000);
    put(&mut rom, 0, &[0x80, 0x37, 0x12, 0x40]);
    put(&mut rom, 0x20, b"LAMPLIGHTER 64      ");
    put(&mut rom, 0x3b, b"NLLP\x01");
    rom
}

fn master_system() -> Vec<u8> {
    let mut rom = noise(7, 0x1_0000);
    put(&mut rom, 0x7ff0, b"TMR SEGA\0\0\0\0\x34\x12\x52\x4e");
    let sum: u32 = rom[..0x7ff0].iter().chain(&rom[0x8000..]).map(|&b| u32::from(b)).sum();
    put(&mut rom, 0x7ffa, &(sum as u16).to_le_bytes());
    rom
}

fn pc_engine() -> Vec<u8> {
    let mut rom = noise(8, 0x1_0000);
    put(&mut rom, 0x1e00, &[0x78, 0xd4, 0xa9, 0xff, 0x53, 0x01]);
    put(&mut rom, 0x1ffe, &[0x00, 0xfe]);
    rom
}

/// CRC-16, bit by bit.
fn crc16(bytes: &[u8]) -> u16 {
    let mut crc = 0xffffu16;
    for &byte in bytes {
        crc ^= u16::from(byte);
        for _ in 0..8 {
            crc = if crc & 1 == 1 { crc >> 1 ^ 0xa001 } else { crc >> 1 };
        }
    }
    crc
}

/// A DS ROM of 64 KiB whose first program begins in the secure area, with these bytes; 40 KiB are used.
fn ds(secure: &[u8]) -> Vec<u8> {
    let mut rom = vec![0xff; 0x1_0000];
    rom[..0x4000].fill(0);
    rom[0x4000..0xa000].copy_from_slice(&noise(10, 0x6000));
    rom[0x4000..0x4000 + secure.len()].copy_from_slice(secure);
    put(&mut rom, 0, b"TIDETABLE\0\0\0DTTPSM");
    let words = [
        (0x20, 0x4000u32),
        (0x28, 0x0200_0000),
        (0x2c, 0x1000),
        (0x30, 0x8000),
        (0x38, 0x0380_0000),
        (0x3c, 0x800),
        (0x80, 0xa000),
        (0x84, 0x4000),
    ];
    for (at, value) in words {
        put(&mut rom, at, &value.to_le_bytes());
    }
    let sum = crc16(&rom[0x4000..0x8000]);
    put(&mut rom, 0x6c, &sum.to_le_bytes());
    let sum = crc16(&rom[0xc0..0x15c]);
    put(&mut rom, 0x15c, &sum.to_le_bytes());
    let sum = crc16(&rom[..0x15e]);
    put(&mut rom, 0x15e, &sum.to_le_bytes());
    rom
}

#[test]
fn the_secure_area_of_a_ds_rom() {
    let area = |bytes: &[u8]| open(bytes.to_vec()).unwrap().get("secure area").unwrap_or_default().to_owned();
    let encrypted = ds(&noise(11, 0x800));
    let (opened, found) = rom(encrypted.clone());
    assert_eq!(
        (opened.identity.format, opened.get("id"), found.declared),
        ("nds", Some("DTTP"), Some(Declared::Used(0xa000)))
    );
    assert_eq!(found.shape, Shape::Padded { from: 0xa000, byte: 0xff });
    assert!(found.checks.iter().all(|c| c.is_right), "{:?}", found.checks);
    assert!(area(&encrypted).starts_with("encrypted, as on the cartridge"));
    assert!(area(&ds(&[0xff, 0xde, 0xff, 0xe7, 0xff, 0xde, 0xff, 0xe7])).starts_with("decrypted"));
    assert!(area(&ds(&[0; 0x800])).starts_with("missing"));
    let mut changed = encrypted.clone();
    changed[0x7000] ^= 1;
    assert!(area(&changed).contains("its checksum does not hold"));
    assert!(area(&encrypted[..0x6000]).starts_with("cut off"));
    // A signature for download play belongs to what is used.
    let mut signed = encrypted;
    put(&mut signed, 0xa000, b"ac\x01\0");
    assert_eq!(rom(signed).1.declared, Some(Declared::Used(0xa088)));
}

fn families() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("gb", game_boy()),
        ("gba", advance()),
        ("nes", nintendo()),
        ("snes", super_nintendo()),
        ("md", mega_drive()),
        ("n64", nintendo_64()),
        ("sms", master_system()),
        ("pce", pc_engine()),
    ]
}

#[test]
fn each_family_is_known_by_its_content() {
    for (id, bytes) in families() {
        let (opened, rom) = rom(bytes.clone());
        assert_eq!(opened.identity.format, id);
        assert_eq!(all(&rom.forms.iter().find(|f| f.id == rom.form).unwrap().source), bytes, "{id}");
        if id != "n64" {
            assert!(rom.checks.iter().all(|c| c.is_right), "{id}: {:?}", rom.checks);
        }
        assert_eq!(rom.shape, Shape::Complete, "{id}");
    }
}

#[test]
fn facts_of_headers() {
    let facts = |bytes: Vec<u8>, names: &[&str]| -> Vec<String> {
        let opened = open(bytes).unwrap();
        names.iter().map(|n| opened.get(n).unwrap_or_default().to_owned()).collect()
    };
    assert_eq!(facts(game_boy(), &["title", "id", "maker", "version"]), ["BRAMBLETIDB", "BTDE", "code SM", "1.2"]);
    assert_eq!(facts(advance(), &["title", "id", "region", "version"]), ["MOTH PARADE", "DMPP", "Europe", "1.1"]);
    assert_eq!(facts(nintendo(), &["mapper", "mirroring"]), ["4 (MMC3)", "vertical"]);
    assert_eq!(facts(super_nintendo(), &["title", "id", "maker"]), ["BRINE RACER HIGH", "BRCE", "code SM"]);
    assert_eq!(
        facts(mega_drive(), &["title", "id", "version", "region"]),
        ["FOGBELL", "T-117260", "revision 03", "Americas"]
    );
    assert_eq!(facts(nintendo_64(), &["title", "id", "region"]), ["LAMPLIGHTER 64", "NLLP", "Europe"]);
    assert_eq!(facts(master_system(), &["id", "version", "region"]), ["51234", "2", "outside Japan"]);
}

#[test]
fn save_memory_and_how_it_is_known() {
    let save = |bytes| rom(bytes).1.save;
    let gba = save(advance());
    assert_eq!((gba.kind, gba.sizes, gba.clock), (SaveKind::Flash, vec![128 << 10], true));
    assert!(gba.known_by.contains("FLASH1M_V103") && gba.known_by.contains("SIIRTC_V001"));
    assert_eq!(save(game_boy()).sizes, [32 << 10]);
    assert_eq!(save(nintendo()).sizes, [8 << 10]);
    assert_eq!(save(super_nintendo()).sizes, [8 << 10]);
    let md = save(mega_drive());
    assert_eq!((md.sizes, md.lanes), (vec![16 << 10], Lanes::Odd));
    assert_eq!(save(nintendo_64()).kind, SaveKind::Unknown);
}

#[test]
fn wrong_checksums_say_what_they_should_be() {
    for (id, at) in [("gb", 0x14d), ("gba", 0xbd), ("snes", 0xffde), ("md", 0x18e), ("sms", 0x7ffa)] {
        let bytes = families().into_iter().find(|(i, _)| *i == id).unwrap().1;
        let right = rom(bytes.clone()).1.checks;
        let mut wrong = bytes;
        wrong[at] ^= 0x40;
        let (opened, changed) = rom(wrong);
        let check = changed.checks.iter().find(|c| !c.is_right).unwrap();
        let before = right.iter().find(|c| c.name == check.name).unwrap();
        if id != "gb" {
            assert_eq!(check.right, before.stored, "{id}");
        }
        assert!(!opened.told.notices.is_empty(), "{id}: a wrong checksum is a notice");
    }
}

#[test]
fn byte_orders_and_headers_lead_to_each_other() {
    for (bytes, wanted) in [
        (nintendo_64(), vec!["z64", "v64", "n64"]),
        (super_nintendo(), vec!["sfc", "smc"]),
        (mega_drive(), vec!["md", "smd"]),
    ] {
        let (_, plain) = rom(bytes.clone());
        assert_eq!(plain.forms.iter().map(|f| f.id).collect::<Vec<_>>(), wanted);
        for form in &plain.forms {
            let (_, again) = rom(all(&form.source));
            assert_eq!(again.form, form.id);
            assert!(all(&again.body) == bytes, "{}", form.id);
            assert_eq!(again.through.is_some(), form.id != wanted[0]);
        }
    }
    let (_, nes) = rom(nintendo());
    assert_eq!(all(&nes.body), nintendo()[16..]);
}

#[test]
fn two_roms_in_one_file_are_two_files() {
    let two = [game_boy(), game_boy()[..0x8000].to_vec(), noise(9, 0x8000)].concat();
    let (opened, rom) = rom(two);
    assert_eq!(rom.shape, Shape::Trailing { from: 0x1_0000, is_rom: true });
    assert_eq!(opened.holds.tree.unwrap().files().count(), 2);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(160))]
    #[test]
    fn no_damage_can_panic(
        which in 0usize..8,
        flips in proptest::collection::vec((any::<usize>(), any::<u8>()), 0..20),
        cut in proptest::option::of(any::<usize>()),
        near in prop_oneof![Just(0usize), Just(0x100), Just(0x7fc0), Just(0x7fe0), Just(0xffb0), Just(0x1e00)],
    ) {
        let mut bytes = families()[which].1.clone();
        let n = bytes.len();
        for (at, value) in flips {
            bytes[(near + at % 0x100) % n] ^= value;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut % n);
        }
        if let Ok(opened) = open(bytes)
            && let Some(rom) = opened.holds.rom
        {
            for form in &rom.forms {
                let mut last = [0; 1];
                prop_assert!(form.source.is_empty() || form.source.read_at(form.source.len() - 1, &mut last).is_ok());
            }
        }
    }

    #[test]
    fn no_bytes_can_panic(bytes in proptest::collection::vec(any::<u8>(), 0..2000), at in 0usize..6) {
        let marks: [(usize, &[u8]); 6] =
            [(0, b"NES\x1a"), (0x100, b"SEGA"), (0, b"\x80\x37\x12\x40"), (0xb2, b"\x96"), (3, b"\xea"), (0, b"7z\xbc\xaf\x27\x1c")];
        let mut bytes = bytes;
        let (place, mark) = marks[at];
        if bytes.len() >= place + mark.len() {
            put(&mut bytes, place, mark);
        }
        let _ = open(bytes);
    }
}
