//! The 3DS family against samples that were put together by hand.

mod n3ds;

use decanter_core::error::KeyTrouble;
use decanter_core::format::Opener;
use decanter_core::opened::Opened;
use decanter_core::pour::to_memory;
use decanter_core::protection::{KeyState, State};
use decanter_core::seal::Expected;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content as Held, Tree};
use decanter_core::{Blueprint, Error, Keyring};
use decanter_formats::REGISTRY;
use decanter_formats::package::n3ds::ncch;
use n3ds::{PLAIN, TITLE, Way, cartridge, content, keys, package, sha};
use proptest::prelude::*;
use std::sync::{Arc, LazyLock};

fn open_with(bytes: Vec<u8>, keys: &Keyring) -> Result<Opened, Error> {
    let opener = Opener::new(&REGISTRY, keys);
    opener.open(Arc::new(Bytes(bytes)))
}

fn open(bytes: Vec<u8>) -> Opened {
    open_with(bytes, &keys()).unwrap()
}

fn poured(blueprint: &Blueprint) -> Vec<u8> {
    to_memory(blueprint, 1 << 30, &()).unwrap()
}

fn bytes_of(source: &SourceRef) -> Vec<u8> {
    let mut bytes = vec![0; source.len() as usize];
    source.read_at(0, &mut bytes).unwrap();
    bytes
}

fn file(tree: &Tree, path: &str) -> Vec<u8> {
    bytes_of(tree.find(path).and_then(|n| n.file()).unwrap_or_else(|| panic!("{path}")).source().unwrap())
}

/// Every way in which contents are encrypted.
fn ways() -> Vec<(&'static str, Way)> {
    let sealed = Way { encrypted: true, ..PLAIN };
    vec![
        ("one slot", sealed),
        ("slot 0x25", Way { method: 1, ..sealed }),
        ("slot 0x18", Way { method: 10, ..sealed }),
        ("slot 0x1B", Way { method: 11, ..sealed }),
        ("a seed", Way { method: 11, seeded: true, ..sealed }),
        ("a seed with one slot", Way { seeded: true, ..sealed }),
        ("a key of zeros", Way { fixed: true, ..sealed }),
        ("the system's key", Way { fixed: true, title: 0x0004_0010_0002_1000, ..sealed }),
        ("version 1", Way { version: 1, method: 1, ..sealed }),
        ("version 0", Way { version: 0, method: 1, ..sealed }),
        ("no RomFS", Way { method: 1, with_romfs: false, ..sealed }),
        ("filler under the first slot", Way { method: 1, fills: false, ..sealed }),
    ]
}

#[test]
fn every_way_of_encryption_opens_to_the_same_bytes() {
    for (name, way) in ways() {
        let (stored, clear) = content(way);
        let opened = open(stored);
        let protection = opened.protection.unwrap();
        assert_eq!(protection.state, State::Encrypted, "{name}");
        assert!(matches!(&protection.key, KeyState::Found { proof: Some(_), .. }), "{name}: {:?}", protection.key);
        assert!(poured(&protection.clear.unwrap()) == clear, "{name}");
        assert_eq!(
            opened.told.facts.iter().find(|f| f.name == "title").map(|f| f.value.as_str()),
            Some("Brine & Bramble")
        );
        let again = open_with(clear, &Keyring::default()).unwrap();
        assert_eq!(again.protection.unwrap().state, State::Decrypted, "{name}: no key is needed any more");
    }
}

fn trouble(way: Way, without: &str, wrong: &str) -> (KeyTrouble, Opened) {
    let mut ring = Keyring::default();
    let names = ["n3ds.scrambler", "n3ds.slot0x2C.x", "n3ds.slot0x25.x", "n3ds.slot0x1B.x"];
    for name in names.into_iter().filter(|n| *n != without) {
        let key = keys().named(name).unwrap().key.clone();
        let key = if name == wrong { decanter_core::Key::new(vec![0xee; 16]) } else { key };
        ring.add(name, key, format!("list with {name}"));
    }
    let opened = open_with(content(way).0, &ring).unwrap();
    match &opened.protection.as_ref().unwrap().key {
        KeyState::Trouble(trouble) => (trouble.clone(), opened),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_missing_or_wrong_key_is_named_with_its_region() {
    let way = Way { method: 1, encrypted: true, ..PLAIN };
    let (missing, opened) = trouble(way, "n3ds.slot0x25.x", "");
    assert!(missing.need.contains("n3ds.slot0x25.x") && missing.need.contains("RomFS"), "{missing}");
    // What the first slot opens can be read nevertheless.
    let tree = opened.holds.tree.unwrap();
    assert_eq!(file(&tree, "exefs/icon.bin")[..4], *b"SMDH");
    let code = tree.find("exefs/code.bin").and_then(|n| n.file()).unwrap();
    assert!(matches!(code.content, Held::Locked(_)));
    assert!(opened.protection.unwrap().clear.is_none());
    let (wrong, opened) = trouble(way, "", "n3ds.slot0x25.x");
    let tree = opened.holds.tree.unwrap();
    let code = tree.find("exefs/code.bin").and_then(|n| n.file()).unwrap();
    assert!(matches!(code.content, Held::Locked(_)), "noise is not handed out as a program");
    assert!(wrong.need.contains("RomFS") && wrong.wrong == ["list with n3ds.slot0x25.x"], "{wrong}");
    let (wrong, _) = trouble(Way { with_romfs: false, ..way }, "", "n3ds.slot0x25.x");
    assert!(wrong.need.contains("code"), "{wrong}");
    let (wrong, _) = trouble(way, "", "n3ds.slot0x2C.x");
    assert!(wrong.need.contains("extended header"), "{wrong}");
    let (missing, _) = trouble(Way { method: 11, seeded: true, ..way }, "", "");
    assert!(missing.need.contains("n3ds.seed.000400000f1e2d00"), "{missing}");
}

#[test]
fn damage_is_no_wrong_key() {
    // A hit in what the hash of one part is of: the other parts prove that the keys are right.
    let (stored, clear) = content(Way { method: 1, encrypted: true, ..PLAIN });
    let romfs = u32::from_le_bytes(stored[0x1b0..0x1b4].try_into().unwrap()) as usize * 0x200;
    for (at, name) in [(0x210, "extended header"), (0xc00 + 0x1f0, "ExeFS"), (romfs + 0x70, "RomFS")] {
        let mut bytes = stored.clone();
        bytes[at] ^= 1;
        let opened = open(bytes);
        let protection = opened.protection.as_ref().unwrap();
        assert!(matches!(protection.key, KeyState::Found { .. }), "{name}: {:?}", protection.key);
        assert!(opened.told.notices.iter().any(|n| n.text.contains("damaged") && n.text.contains(name)), "{name}");
        let mut wanted = clear.clone();
        wanted[at] ^= 1;
        assert!(poured(protection.clear.as_ref().unwrap()) == wanted, "{name}: everything else is decrypted");
    }
}

#[test]
fn flags_that_lie_are_seen_through() {
    let mut bytes = content(PLAIN).0;
    bytes[0x18f] = 0;
    let opened = open_with(bytes, &Keyring::default()).unwrap();
    let protection = opened.protection.unwrap();
    assert_eq!(protection.state, State::Unclear);
    assert!(protection.evidence.contains("its flags say encrypted"), "{}", protection.evidence);
    assert!(poured(&protection.clear.unwrap()) == content(PLAIN).1, "decrypting corrects the flags");
}

#[test]
fn files_stand_where_the_tables_say_and_the_folder_rebuilds_to_the_same_bytes() {
    for way in [PLAIN, Way { with_romfs: false, ..PLAIN }] {
        let (bytes, _) = content(way);
        let tree = open(bytes.clone()).holds.tree.unwrap();
        assert_eq!(file(&tree, "exefs/code.bin"), n3ds::members()[0].1);
        if way.with_romfs {
            assert_eq!(file(&tree, "romfs/a/ü.bin"), n3ds::noise(3, 5000));
            assert_eq!(file(&tree, "romfs/z.bin"), b"tide mark");
            assert_eq!(file(&tree, "romfs/a/b/empty"), b"");
        }
        let again = poured(&ncch::compose(&ncch::from_tree(&tree).unwrap()).unwrap());
        assert!(again == bytes, "the order of names is kept");
    }
}

#[test]
fn a_changed_folder_gets_new_tables_and_hashes() {
    let mut tree = open(content(PLAIN).0).holds.tree.unwrap();
    for node in &mut tree.nodes {
        if node.path == "romfs/z.bin" {
            let source: SourceRef = Arc::new(Bytes(vec![7; 10_000]));
            let (len, content) = (source.len(), Held::Whole(source));
            node.kind = decanter_core::tree::Kind::File(decanter_core::tree::File { len, spans: Vec::new(), content });
        }
    }
    let again = open(poured(&ncch::compose(&ncch::from_tree(&tree).unwrap()).unwrap()));
    assert!(holds(&again), "every digest is that of the new bytes");
    let tree = again.holds.tree.unwrap();
    assert_eq!(file(&tree, "romfs/z.bin"), [7; 10_000]);
    assert_eq!(file(&tree, "romfs/a/ü.bin"), n3ds::noise(3, 5000));
    let mut stray = tree.clone();
    stray.nodes[0].path = "heder.bin".into();
    assert!(ncch::from_tree(&stray).is_err(), "a folder without header.bin");
}

/// Whether every digest that a source carries is that of its bytes: computed here, from its views.
fn holds(opened: &Opened) -> bool {
    opened.proof.settled.iter().all(|s| s.holds || s.matters.is_none())
        && opened.proof.sealed.iter().all(|sealed| {
            let stored = bytes_of(&sealed.source);
            let mut clear = stored.clone();
            if let Some(transform) = &sealed.transform {
                transform.apply(0, &mut clear);
            }
            sealed.seals.iter().all(|seal| {
                let bytes = if seal.of_plaintext { &clear } else { &stored };
                let bytes = &bytes[seal.range.start as usize..seal.range.end as usize];
                match &seal.expected {
                    Expected::Digest(digest) => sha(bytes) == digest.bytes,
                    Expected::Beginning(digest) => sha(bytes).starts_with(&digest.bytes),
                    Expected::Blocks { digests, block, .. } => {
                        let mut bytes = bytes.to_vec();
                        bytes.resize(bytes.len().next_multiple_of(*block as usize), 0);
                        let found: Vec<u8> = bytes.chunks(*block as usize).flat_map(sha).collect();
                        bytes_of(digests).starts_with(&found)
                    }
                }
            })
        })
}

static SEALED: LazyLock<(Vec<u8>, Vec<u8>)> = LazyLock::new(|| content(Way { method: 1, encrypted: true, ..PLAIN }));

fn sealed_cartridge() -> Vec<u8> {
    let manual = content(Way { encrypted: true, ..PLAIN }).0;
    let mut image = cartridge(&[(0, &SEALED.0), (1, &manual)], 0x200);
    image.resize(0x200 * 0x200, 0xff);
    image
}

#[test]
fn a_cartridge_is_decrypted_as_a_whole() {
    let opened = open(sealed_cartridge());
    assert!(holds(&opened));
    assert_eq!(opened.get("version"), Some("1040"));
    assert_eq!(opened.get("length"), Some("full"));
    let clear = poured(&opened.protection.unwrap().clear.unwrap());
    let mut wanted = sealed_cartridge();
    wanted[0x4000..0x4000 + SEALED.1.len()].copy_from_slice(&SEALED.1);
    wanted[0x1100..0x1200].copy_from_slice(&SEALED.1[0x100..0x200]);
    let manual = content(Way { encrypted: true, ..PLAIN }).1;
    let at = 0x4000 + SEALED.1.len();
    wanted[at..at + manual.len()].copy_from_slice(&manual);
    assert!(clear == wanted);
}

#[test]
fn a_package_is_opened_through_both_layers() {
    for (encrypted, state) in [(true, State::Encrypted), (false, State::Encrypted)] {
        let opened = open(package(&[(0, &SEALED.0), (1, &content(PLAIN).0)], encrypted));
        assert_eq!(opened.protection.as_ref().unwrap().state, state);
        assert!(holds(&opened));
        let clear = open_with(poured(&opened.protection.unwrap().clear.unwrap()), &Keyring::default()).unwrap();
        assert_eq!(clear.protection.as_ref().unwrap().state, State::Decrypted);
        assert!(holds(&clear), "contents and metadata fit each other again");
        assert_eq!(file(clear.holds.tree.as_ref().unwrap(), "game/romfs/z.bin"), b"tide mark");
        assert_eq!(clear.get("title id"), Some("000400000f1e2d00"));
    }
}

#[test]
fn what_headers_say_of_each_other_is_checked() {
    let good = package(&[(0, &SEALED.0), (1, &content(PLAIN).0)], false);
    let wrong = |at: usize, flip: u8| -> Vec<String> {
        let mut bytes = good.clone();
        bytes[at] ^= flip;
        open(bytes).proof.settled.into_iter().filter(|s| !s.holds).map(|s| s.name).collect()
    };
    assert!(wrong(0x2f, 0).is_empty());
    assert_eq!(wrong(0x20, 0x20), ["content index bitmap"], "a third content that the metadata does not have");
    assert_eq!(wrong(0x18, 0x10), ["length of all contents"]);
    // Ticket at 0x2a40, metadata at 0x2dc0.
    assert_eq!(wrong(0x2a40 + 0x1e0, 1), ["title id of metadata and ticket"]);
    assert_eq!(wrong(0x2dc0 + 0x1e4, 1), ["title metadata, information records"]);
    assert!(wrong(0x2dc0 + 0xb20, 1).contains(&"title metadata, content records".to_owned()));
}

#[test]
fn a_wrong_common_key_is_told_before_anything_is_written() {
    let mut ring = keys();
    ring.add("unrelated", decanter_core::Key::new(vec![1; 16]), "x");
    let mut wrong = Keyring::default();
    wrong.add("n3ds.common.1", decanter_core::Key::new(vec![1; 16]), "a wrong list");
    wrong.append(&ring);
    let opened = open_with(package(&[(0, &SEALED.0)], true), &wrong).unwrap();
    let KeyState::Trouble(trouble) = &opened.protection.as_ref().unwrap().key else { panic!("it was taken") };
    assert!(trouble.need.contains("title key") && trouble.need.contains(&format!("{TITLE:016x}")), "{trouble}");
    assert!(opened.protection.unwrap().clear.is_none());
}

#[test]
fn contents_of_another_kind_are_carried() {
    // As titles of the DS mode have them: no mark, and a key that only the hash proves.
    let other = n3ds::noise(77, 0x3000);
    let opened = open(package(&[(0, &other)], true));
    let KeyState::Found { proof: Some(proof), .. } = &opened.protection.as_ref().unwrap().key else {
        panic!("no proof")
    };
    assert!(proof.contains("hash of content 0"), "{proof}");
    assert!(holds(&opened));
    let clear = open_with(poured(&opened.protection.unwrap().clear.unwrap()), &Keyring::default()).unwrap();
    assert!(file(clear.holds.tree.as_ref().unwrap(), "game.bin") == other && holds(&clear));
}

#[test]
fn a_file_behind_the_end_is_broken_and_the_rest_stays() {
    let mut bytes = content(PLAIN).0;
    let word = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
    let level3 = word(0x1b0) * 0x200 + 0x1000;
    let entry = level3 + word(level3 + 0x1c);
    bytes[entry + 8 + 5] = 1;
    let tree = open(bytes).holds.tree.unwrap();
    let broken = tree.find("romfs/z.bin").and_then(|n| n.file()).unwrap();
    assert!(matches!(&broken.content, Held::Broken(why) if why.contains("behind the end")));
    assert_eq!(file(&tree, "romfs/a/ü.bin"), n3ds::noise(3, 5000));
}

#[test]
fn cut_sources_say_how_much_is_missing() {
    let whole = sealed_cartridge();
    for cut in [0x1200, 0x4100, 0x5000, 0x6000] {
        let opened = open(whole[..cut].to_vec());
        assert!(opened.extent.promised_len.unwrap() > cut as u64);
        assert!(opened.protection.unwrap().clear.is_none(), "{cut:#x}");
    }
    let package = package(&[(0, &SEALED.0)], true);
    let opened = open(package[..package.len() - 100].to_vec());
    assert_eq!(opened.extent.promised_len, Some(package.len() as u64));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(192))]
    #[test]
    fn no_damage_can_panic(
        which in 0usize..4,
        hits in proptest::collection::vec((0usize..0x8000, any::<u8>()), 1..6),
        cut in proptest::option::of(0usize..0x9000),
    ) {
        let mut bytes = match which {
            0 => SEALED.0.clone(),
            1 => SEALED.1.clone(),
            2 => cartridge(&[(0, &SEALED.0)], 0x100),
            _ => package(&[(0, &SEALED.0)], hits[0].1 & 1 == 1),
        };
        for (at, value) in hits {
            let len = bytes.len();
            bytes[at % len] = value;
        }
        bytes.truncate(cut.unwrap_or(usize::MAX));
        if let Ok(opened) = open_with(bytes, &keys()) {
            for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = file.source() {
                    let mut head = vec![0; source.len().min(4096) as usize];
                    let _ = source.read_at(0, &mut head);
                }
            }
        }
    }

    #[test]
    fn any_tables_are_a_romfs_or_not(hits in proptest::collection::vec((0usize..0x1100, any::<u8>()), 1..8)) {
        let mut bytes = SEALED.1.clone();
        let at = u32::from_le_bytes([bytes[0x1b0], bytes[0x1b1], bytes[0x1b2], bytes[0x1b3]]) as usize * 0x200;
        for (offset, value) in hits {
            bytes[at + offset] = value;
        }
        let opened = open_with(bytes, &Keyring::default());
        prop_assert!(opened.is_ok_and(|o| o.holds.tree.is_some()), "a broken RomFS leaves the rest readable");
    }
}
