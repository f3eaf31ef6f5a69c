//! What is made for the shelf, read back; and the same with bytes in it changed: nothing panics, hangs, or is believed.

use decanter_core::format::Opener;
use decanter_core::seal::Expected;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::{Error, Keyring};
use decanter_demo::hybrid::{self, COURIER, Crypto, Files, Wish};
use decanter_formats::REGISTRY;
use decanter_formats::package::nx::nca::Nca;
use decanter_formats::package::nx::{self, bktr, nsp};
use proptest::prelude::*;
use std::sync::{Arc, OnceLock};

fn keys() -> Keyring {
    let mut ring = Keyring::default();
    assert!(ring.add_list(&hybrid::keys::list(), "the museum").is_empty());
    ring
}

fn wish() -> Wish<'static> {
    Wish {
        title_id: COURIER,
        base: COURIER,
        version: 0,
        crypto: Crypto::KeyArea,
        generation: 3,
        names: &[(0, "Kelp Courier")],
        shown: "1.0.0",
        is_for_card: false,
    }
}

fn update() -> Wish<'static> {
    Wish { title_id: COURIER | 0x800, version: 1 << 16, ..wish() }
}

/// Base and update in one package.
fn both() -> &'static Files {
    static BOTH: OnceLock<Files> = OnceLock::new();
    BOTH.get_or_init(|| {
        let mut files = hybrid::base(&wish(), 60_000).unwrap();
        files.extend(hybrid::update(&update(), 60_000).unwrap());
        files
    })
}

fn source(bytes: Vec<u8>) -> SourceRef {
    Arc::new(Bytes(bytes))
}

fn bytes(source: &SourceRef) -> Vec<u8> {
    read_vec(source.as_ref(), 0, source.len(), "a test", 64 << 20).unwrap()
}

#[test]
fn an_update_over_its_base_is_the_new_game() {
    let contents = nsp::read(&source(hybrid::package(both())), &keys()).unwrap();
    assert_eq!(contents.titles.len(), 2);
    let nodes = contents.readable(&nx::contents::Bases::default(), &mut Vec::new()).unwrap();
    let file = |path: &str| bytes(nodes.iter().find(|n| n.path == path).unwrap().file().unwrap().source().unwrap());
    assert_eq!(file("base/romfs/data/sea.bin"), file("update/romfs/data/sea.bin"));
    assert_ne!(file("base/romfs/letters/00.xml"), file("update/romfs/letters/00.xml"));
    assert_eq!(file("base/romfs/letters/05.xml"), file("update/romfs/letters/05.xml"));
    assert_eq!(file("update/romfs/tides/new in 1.txt"), b"Release 1: new tides.\n");
}

/// Each hash of each level, checked with nothing but the digests and the bytes that a seal names.
#[test]
fn every_seal_holds_and_each_changed_byte_is_seen() {
    let package = hybrid::package(both());
    let contents = nsp::read(&source(package.clone()), &keys()).unwrap();
    let digests = nx::contents::digests(&contents, &nx::contents::Bases::default()).unwrap();
    assert!(digests.faults.is_empty() && digests.without_base.is_empty());
    let count: usize = digests.sealed.iter().map(|s| s.seals.len()).sum();
    assert!(count > 25, "{count}");
    for sealed in &digests.sealed {
        let stored = bytes(&sealed.source);
        let mut clear = stored.clone();
        if let Some(transform) = &sealed.transform {
            transform.apply(0, &mut clear);
        }
        for seal in &sealed.seals {
            let all = if seal.of_plaintext { &clear } else { &stored };
            let own = &all[seal.range.start as usize..seal.range.end as usize];
            match &seal.expected {
                Expected::Beginning(_) => panic!("records have whole digests"),
                Expected::Digest(digest) => assert_eq!(decanter_core::digest::of_bytes(digest.algorithm, own), *digest),
                Expected::Blocks { digests, block, is_filled_up } => {
                    let table = bytes(digests);
                    for (number, piece) in own.chunks(*block as usize).enumerate() {
                        let mut piece = piece.to_vec();
                        if *is_filled_up {
                            piece.resize(*block as usize, 0);
                        }
                        let found = decanter_core::digest::of_bytes(decanter_core::Algorithm::Sha256, &piece);
                        assert_eq!(
                            found.bytes,
                            table[number * 32..number * 32 + 32],
                            "{} {} {number}",
                            sealed.name,
                            seal.name
                        );
                    }
                }
            }
        }
    }
}

#[test]
fn a_wrong_header_key_is_told_from_damage() {
    let package = hybrid::package(&hybrid::base(&wish(), 5000).unwrap());
    let mut other = Keyring::default();
    other.add("header_key", decanter_core::Key::new(vec![3; 32]), "somewhere");
    let contents = nsp::read(&source(package.clone()), &other).unwrap();
    assert!(contents.trouble.as_ref().is_some_and(|t| t.wrong == ["somewhere"]), "{:?}", contents.trouble);
    let own = nsp::read(&source(package.clone()), &keys()).unwrap();
    let meta = own.files[own.titles[0].meta].range.start as usize;
    let mut torn = package;
    torn[meta + 0x208] ^= 1;
    let contents = nsp::read(&source(torn), &keys()).unwrap();
    assert!(
        contents.trouble.is_none() && contents.failed[0].1.contains("the header is damaged"),
        "{:?}",
        contents.failed
    );
}

#[test]
fn a_missing_generation_is_named_and_the_rest_is_read() {
    let mut ring = Keyring::default();
    let list: String = hybrid::keys::list().lines().filter(|l| !l.contains(".02")).map(|l| format!("{l}\n")).collect();
    ring.add_list(&list, "the museum");
    let contents = nsp::read(&source(hybrid::package(both())), &ring).unwrap();
    let trouble = contents.trouble.unwrap();
    assert!(trouble.need.starts_with("nx.area.application.02 (for ") && trouble.wrong.is_empty(), "{trouble}");
}

/// A content with nothing encrypted in it, so that changed bytes reach the structures themselves.
fn plain(which: usize) -> Vec<u8> {
    let contents = nsp::read(&source(hybrid::package(both())), &keys()).unwrap();
    let index = contents.titles[which].file_of(nx::cnmt::Role::Program).unwrap();
    let mut own = bytes(&contents.nca(index).unwrap().clear);
    for section in 0..4 {
        let head = 0x400 + section * 0x200;
        if own[head] == 2 && matches!(own[head + 4], 3 | 4) {
            own[head + 4] = 1;
        }
    }
    own
}

fn exercise(bytes: Vec<u8>) {
    let ring = keys();
    let source = source(bytes);
    let Ok(nca) = Nca::read(&source, &ring, "a changed content") else { return };
    for base in [None, Some(&nca)] {
        for node in nca.nodes("", base, &mut Vec::new()).unwrap().iter().take(60) {
            let Some(Ok(file)) = node.file().map(|f| f.source()) else { continue };
            let mut head = vec![0; file.len().min(64) as usize];
            let _ = file.read_at(0, &mut head);
        }
    }
    let sealed = nca.sealed("changed", None);
    for inside in sealed.seals.iter().filter_map(|s| s.inside.as_ref()) {
        inside();
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn a_changed_content_is_refused_or_read(
        which in 0usize..2,
        noise in proptest::collection::vec((any::<proptest::sample::Index>(), any::<u8>(), any::<bool>()), 1..6),
        cut in proptest::option::of(any::<proptest::sample::Index>()),
    ) {
        static PLAIN: OnceLock<[Vec<u8>; 2]> = OnceLock::new();
        let mut bytes = PLAIN.get_or_init(|| [plain(0), plain(1)])[which].clone();
        for (at, byte, is_in_head) in noise {
            let room = if is_in_head { 0xc00 } else { bytes.len() };
            let at = at.index(room);
            bytes[at] = byte;
        }
        if let Some(cut) = cut {
            let len = bytes.len();
            bytes.truncate(cut.index(len));
        }
        exercise(bytes);
    }

    #[test]
    fn a_changed_card_is_refused_or_read(noise in proptest::collection::vec((any::<proptest::sample::Index>(), any::<u8>()), 1..6), has_area in any::<bool>()) {
        static CARD: OnceLock<Vec<u8>> = OnceLock::new();
        let mut bytes = CARD.get_or_init(|| hybrid::gamecard(&hybrid::base(&wish(), 5000).unwrap()).unwrap()).clone();
        if has_area {
            bytes.splice(0..0, vec![7; 0x1000]);
        }
        for (index, (at, byte)) in noise.into_iter().enumerate() {
            let at = if index % 2 == 0 { at.index(bytes.len().min(0x2000)) } else { at.index(bytes.len()) };
            bytes[at] = byte;
        }
        let ring = keys();
        let opened = Opener::new(&REGISTRY, &ring).open(source(bytes));
        if let Ok(mut opened) = opened {
            opened.look_inside().unwrap();
            for inspect in &opened.proof.inspections {
                inspect(&()).unwrap();
            }
        }
    }
}

#[test]
fn a_card_with_and_without_its_key_area_is_the_same_game() {
    let files = hybrid::base(&wish(), 5000).unwrap();
    let card = hybrid::gamecard(&files).unwrap();
    let behind = [vec![9; 0x1000], card.clone()].concat();
    let ring = keys();
    let open = |bytes: Vec<u8>| Opener::new(&REGISTRY, &ring).open(source(bytes)).unwrap();
    let (plain, keyed) = (open(card.clone()), open(behind));
    assert_eq!(plain.holds.titles, keyed.holds.titles);
    assert_eq!((plain.get("key area"), keyed.get("key area")), (None, Some("there, before the header")));
    assert_eq!(plain.get("system update on the card"), Some("5.0.2"));
    let short = Opener::new(&REGISTRY, &ring).open(source(card[..card.len() - 0x400].to_vec())).unwrap();
    assert_eq!(short.extent.promised_len, Some(card.len() as u64));
    assert!(short.told.notices.iter().any(|n| n.is_damage && n.text.contains("1,024 bytes of that are missing")));
}

/// The tables of an update, out of order in the file itself: the update says so, and the rest of it is read.
#[test]
fn tables_out_of_order_are_told_with_their_offset() {
    let mut own = plain(1);
    let nca = Nca::read(&source(own.clone()), &keys(), "x").unwrap();
    let patch = nca.sections.iter().find_map(|s| s.patch.clone().map(|p| (s.range.start, p))).unwrap();
    let entry = (patch.0 + patch.1.moved.range.start + bktr::NODE + 0x10 + 0x14) as usize;
    own[entry..entry + 8].copy_from_slice(&0u64.to_le_bytes());
    let nca = Nca::read(&source(own), &keys(), "x").unwrap();
    let section = nca.sections.iter().find(|s| s.patch.is_some()).unwrap();
    let why = nca.joined(section, Some(&nca)).err().map(|e| e.to_string()).unwrap_or_default();
    let oddity = section.oddity.clone().unwrap_or_default();
    assert!(format!("{why}{oddity}").contains("does not follow after the one before"), "{why} {oddity}");
}

#[test]
fn another_base_is_refused() {
    let contents = nsp::read(&source(hybrid::package(both())), &keys()).unwrap();
    let update = contents.nca(contents.titles[1].file_of(nx::cnmt::Role::Program).unwrap()).unwrap();
    // The same layout with other bytes in it.
    let mut bytes = plain(0);
    let own = Nca::read(&source(bytes.clone()), &keys(), "x").unwrap();
    let rom = own.sections.iter().find(|s| s.index == 1).unwrap();
    let data = rom.levels.as_ref().unwrap().data().clone();
    let place = (rom.range.start + data.start) as usize..(rom.range.start + data.end) as usize;
    bytes[place].iter_mut().for_each(|b| *b ^= 0x55);
    let wrong = Nca::read(&source(bytes), &keys(), "x").unwrap();
    let section = update.sections.iter().find(|s| s.patch.is_some()).unwrap();
    let told = update.joined(section, Some(&wrong));
    assert!(matches!(&told, Err(Error::Damaged { what }) if what.contains("for another base")), "{:?}", told.err());
}

/// Without its ticket, a title key comes out of a list: rights id, and the key as tickets have it.
#[test]
fn a_title_key_out_of_a_list_is_as_good_as_a_ticket() {
    let files = hybrid::update(&Wish { crypto: Crypto::TitleKey, ..update() }, 5000).unwrap();
    let (tickets, rest): (Files, Files) = files.into_iter().partition(|(name, _)| name.ends_with(".tik"));
    let package = source(hybrid::package(&rest));
    let mut ring = keys();
    let program = |ring: &Keyring| {
        let contents = nsp::read(&package, ring).unwrap();
        contents.nca(contents.titles[0].file_of(nx::cnmt::Role::Program).unwrap()).unwrap().clone()
    };
    assert!(program(&ring).trouble().is_some_and(|t| t.need.starts_with("the title key of 05009a3e11d20800")));
    let rights = tickets[0].0.strip_suffix(".tik").unwrap();
    ring.add(rights, decanter_core::Key::new(tickets[0].1[0x180..0x190].to_vec()), "titles.keys");
    assert!(program(&ring).trouble().is_none());
    let mut wrong = keys();
    wrong.add(rights, decanter_core::Key::new(vec![9; 16]), "titles.keys");
    assert!(program(&wrong).trouble().is_some_and(|t| t.wrong[0].starts_with("titles.keys")));
}
