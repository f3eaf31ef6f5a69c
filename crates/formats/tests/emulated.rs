//! Snapshots that emulators save: what stands where, laid out by hand; and what may not be taken for a moment.

use decanter_core::source::Bytes;
use decanter_formats::disk::cbm::vsf::{Saved, moment};
use proptest::prelude::*;

/// A module of zeros but for these bytes.
struct Module(&'static str, (u8, u8), usize, Vec<(usize, Vec<u8>)>);

/// Every field has a value of its own, so that one for another is seen.
fn modules() -> Vec<Module> {
    let cia = |port, latch: u8| {
        vec![
            (0, vec![port, 0xb1, 0x3f, 0xd1]),
            (4, vec![0x41, 0x42, 0x43, 0x44]),
            (8, vec![0x09, 0x59, 0x30, 0x92]),
            (13, vec![0xe3, 0x01, 0x08]),
            (16, vec![latch, 0x52, 0x53, 0x54]),
        ]
    };
    let ram = (0..0x1_0000u32).map(|at| (at ^ at >> 8) as u8).collect();
    vec![
        Module("MAINCPU", (1, 1), 40, vec![(0, vec![9, 9, 9, 9, 0xa1, 0xa2, 0xa3, 0xf4, 0x37, 0x0c, 0xa5, 0xea])]),
        Module("C64MEM", (0, 1), 4 + 0x1_0000, vec![(0, vec![0x35, 0x2e, 1, 1]), (4, ram)]),
        Module("CIA1", (2, 2), 60, cia(0x7e, 0x51)),
        // Port A: bits 0 and 1 are turned around, so that the bank is the third.
        Module("CIA2", (1, 0), 20, cia(0x95, 0x61)),
        Module(
            "VIC-II",
            (1, 1),
            1188,
            vec![
                (43, (0..1024u32).map(|at| (at % 16) as u8).collect()),
                (1116, vec![64, 0x37, 0x01]),
                (1119, (0..64).map(|at| 0x80 + at).collect()),
                (1186, vec![0x00, 0x80]),
            ],
        ),
        Module("SID", (1, 1), 34, vec![(2, (0..32).map(|at| 0x20 + at).collect())]),
        Module("KEYBOARD", (1, 0), 3, vec![]),
    ]
}

fn file(machine: &str, is_later: bool, modules: &[Module]) -> Vec<u8> {
    let name = |text: &str| {
        let mut own = [0; 16];
        own[..text.len()].copy_from_slice(text.as_bytes());
        own
    };
    let mut bytes = [&b"VICE Snapshot File\x1a\x01\x00"[..], &name(machine)].concat();
    if is_later {
        bytes.extend(b"VICE Version\x1a\x02\x04\x00\x00\x10\x20\x00\x00");
    }
    for Module(title, (major, minor), len, parts) in modules {
        bytes.extend(name(title));
        bytes.extend([*major, *minor]);
        bytes.extend((*len as u32 + 22).to_le_bytes());
        let from = bytes.len();
        bytes.resize(from + len, 0);
        for (at, part) in parts {
            bytes[from + at..from + at + part.len()].copy_from_slice(part);
        }
    }
    bytes
}

fn read(bytes: Vec<u8>) -> Result<Saved, String> {
    moment(&Bytes(bytes)).map_err(|e| e.to_string())
}

/// What is said when one of the modules is another one.
fn refused(name: &str, change: impl Fn(&mut Module)) -> String {
    let mut all = modules();
    all.iter_mut().filter(|m| m.0 == name).for_each(change);
    read(file("C64", false, &all)).err().unwrap()
}

#[test]
fn each_field_is_read_from_its_place() {
    for is_later in [false, true] {
        let saved = read(file("C64", is_later, &modules())).unwrap();
        let m = &saved.moment;
        assert_eq!((m.pc, m.a, m.x, m.y, m.sp, m.p), (0x0c37, 0xa1, 0xa2, 0xa3, 0xf4, 0xa5));
        assert_eq!((m.port, m.direction), (0x35, 0x2e));
        assert_eq!((m.memory.len(), m.memory[0], m.memory[0x1234], m.memory[0xffff]), (0x1_0000, 0, 0x26, 0));
        assert_eq!(m.vic, (0x80..0x80 + 47).collect::<Vec<u8>>());
        assert_eq!(m.sid, (0x20..0x20 + 25).collect::<Vec<u8>>());
        assert!(m.colours.len() == 1024 && m.colours[17] == 1 && m.colours[1023] == 15);
        // Timers begin anew with what they are loaded with, not with what they count.
        assert_eq!(m.cia[0].registers, [0x7e, 0xb1, 0x3f, 0xd1, 0x51, 0x52, 0x53, 0x54, 0, 0, 0, 0, 0, 0, 1, 8]);
        assert_eq!((m.cia[1].registers[0], m.cia[1].registers[4]), (0x95, 0x61));
        assert_eq!((m.cia[0].mask, m.cia[1].mask), (3, 3));
        assert!(saved.missing.is_empty());
        assert_eq!(saved.others, ["KEYBOARD"]);
    }
}

#[test]
fn what_stands_in_two_places_has_to_agree() {
    let put = |at: usize, bytes: &'static [u8]| move |m: &mut Module| m.3.push((at, bytes.to_vec()));
    let why = refused("VIC-II", put(1187, &[0x40]));
    assert!(why.contains("the bank is $4000, and by port A of CIA2 ($d5) it is $8000"), "{why}");
    // An input is pulled up, whatever was written to it.
    let why = refused("CIA2", put(2, &[0x3c]));
    assert!(why.contains("the bank is $8000") && why.contains("it is $0000"), "{why}");
    assert!(refused("VIC-II", put(1117, &[0x38, 1])).contains("line 312"));
    assert!(refused("VIC-II", put(1116, &[65])).contains("cycle 65"));
    assert!(refused("VIC-II", put(1067, &[2])).contains("a flag of 2"));
    assert!(refused("CIA1", put(10, &[0x5a])).contains("the clock has $5a"));
    assert!(refused("CIA1", put(11, &[0x13])).contains("the clock has $13"));
    assert!(refused("C64MEM", put(3, &[0])).contains("a cartridge is in sight"));
    // A clock of eight bytes moves everything by four: the status lands where nothing may stand.
    let later = refused("MAINCPU", |m| {
        m.3 = vec![(0, vec![9, 9, 9, 9, 0, 0, 0, 0, 0xa1, 0xa2, 0xa3, 0xf4, 0x37, 0x0c, 0xa5, 0xea])];
    });
    assert!(later.contains("the last instruction is 0xa50c37f4"), "{later}");
}

#[test]
fn what_is_not_known_is_not_guessed() {
    let why = refused("VIC-II", |m| m.1 = (1, 2));
    assert!(why.contains("version 1.2 of module VIC-II (known are 1.0, 1.1)"), "{why}");
    let why = refused("CIA2", |m| m.1 = (3, 0));
    assert!(why.contains("version 3.0 of module CIA2 (known are 1.x, 2.x)"), "{why}");
    assert!(refused("CIA1", |m| m.0 = "CIA7").contains("without module CIA1"));
    let why = refused("MAINCPU", |m| {
        (m.2, m.3) = (14, vec![]);
    });
    assert!(why.contains("module MAINCPU has 14 bytes, where 15 are read"), "{why}");
    let why = read(file("C64SC", true, &modules())).err().unwrap();
    assert!(why.contains("a moment of a C64SC"), "{why}");
    // Without the sound chip it is a moment still, and what is missing is said.
    let mut all = modules();
    all[5].1 = (1, 4);
    let saved = read(file("C64", false, &all)).unwrap();
    assert!(saved.moment.sid.is_empty() && saved.missing[0].contains("version 1.4 of module SID"));
}

#[test]
fn a_broken_chain_of_modules_is_told_with_its_place() {
    let good = file("C64", false, &modules());
    let with = |at: usize, bytes: &[u8]| {
        let mut own = good.clone();
        own[at..at + bytes.len()].copy_from_slice(bytes);
        read(own).err().unwrap()
    };
    assert!(with(37 + 18, &[21, 0, 0, 0]).contains("module MAINCPU has 21 bytes by its header"));
    assert!(with(37 + 18, &[0xff, 0xff, 0xff, 0xff]).contains("at offset 0x37"));
    assert!(with(37, b"\x01").contains("the name of a module is none at offset 0x25"));
    assert!(with(37 + 62, b"MAINCPU\0").contains("a second module MAINCPU at offset 0x63"));
    assert!(with(19, &[3]).contains("version 3.0 (known are 1 and 2)"));
    assert!(with(0, b"X").contains("no signature"));
    assert!(read(good[..good.len() - 1].to_vec()).err().unwrap().contains("module KEYBOARD has 25 bytes"));
    assert!(read([&good[..], &[0; 21]].concat()).err().unwrap().contains("21 bytes are left"));
    assert!(read(good[..37].to_vec()).err().unwrap().contains("no modules"));
    assert!(read(good[..36].to_vec()).err().unwrap().contains("ends within its header"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// One byte of the chips' modules in another place, and either nothing that is read has moved, or it is refused.
    #[test]
    fn a_layout_that_has_moved_is_no_moment(by in 1usize..24, before in 0usize..1119) {
        let mut all = modules();
        let video = &mut all[4];
        video.2 += by;
        for (at, _) in video.3.iter_mut().filter(|(at, _)| *at >= before) {
            *at += by;
        }
        prop_assert!(read(file("C64", false, &all)).is_err());
    }
}
