//! Discs of the PS3 family made for one question each: what shows that they are encrypted, and what proves a key.

use decanter_core::blueprint::Blueprint;
use decanter_core::format::{Format, Opener};
use decanter_core::opened::Opened;
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Ciphered, Direction, Overlay, SectorCbc};
use decanter_core::{Error, Key, Keyring};
use decanter_formats::REGISTRY;
use decanter_formats::optical::iso9660::Iso9660;
use std::ops::Range;
use std::sync::Arc;

const SECTOR: u64 = 2048;

struct Sealed {
    sealed: SourceRef,
    plain: SourceRef,
    key: Key,
}

/// A disc with one plain file at its front and these files in one encrypted region; a plain sector ends it.
fn disc(files: &[(&str, Vec<u8>)]) -> Sealed {
    let mut tree = Tree::default();
    let mut add = |path: &str, bytes: Vec<u8>| {
        let content = Content::Whole(Arc::new(Bytes(bytes.clone())));
        let file = File { len: bytes.len() as u64, spans: Vec::new(), content };
        tree.nodes.push(Node::new(path.into(), Kind::File(file), None));
    };
    add("FRONT.TXT", vec![b'f'; 2048]);
    for (path, bytes) in files {
        add(path, bytes.clone());
    }
    add("BACK.TXT", vec![b'b'; 2048]);
    let volume = Iso9660.compose(&tree, "GULLWING").unwrap().as_source().unwrap();
    let opened = open(volume.clone(), &Keyring::default(), &["ps3-disc"]).unwrap();
    let placed = opened.holds.tree.unwrap();
    let start = |path: &str| placed.find(path).unwrap().file().unwrap().spans[0].start;
    let range = start("FRONT.TXT") + SECTOR..start("BACK.TXT");
    let last = volume.len() / SECTOR - 1;
    let words = [2, 0, 0, range.start / SECTOR - 1, range.end / SECTOR, last];
    let mut head: Vec<u8> = words.iter().flat_map(|w| (*w as u32).to_be_bytes()).collect();
    head.resize(SECTOR as usize, 0);
    head.extend(b"PlayStation3\0\0\0\0DCNT-10004                      ");
    let plain: SourceRef = Arc::new(Overlay::new(volume, vec![(0, Arc::new(Bytes(head)) as SourceRef)]).unwrap());
    let key = Key::new((100..116).collect());
    let ranges: Arc<[Range<u64>]> = Arc::from([range]);
    let cbc = SectorCbc::new(&key, Direction::Encrypt, SECTOR, ranges).unwrap();
    Sealed { sealed: Arc::new(Ciphered::new(plain.clone(), Arc::new(cbc))), plain, key }
}

fn open(source: SourceRef, keys: &Keyring, without: &[&str]) -> Result<Opened, Error> {
    let names = ["Gullwing GP".into()];
    let opener = Opener::new(&REGISTRY, keys).with_names(&names);
    opener.open_among(source, &|f| !without.contains(&f.id()))
}

fn protection(source: &SourceRef, keys: &Keyring) -> (Protection, Opened) {
    let opened = open(source.clone(), keys, &[]).unwrap();
    (opened.protection.clone().unwrap(), opened)
}

fn ring(entries: &[(&str, &Key)]) -> Keyring {
    let mut ring = Keyring::default();
    for (name, key) in entries {
        ring.add(*name, (*key).clone(), format!("file of {name}"));
    }
    ring
}

fn noise(len: usize) -> Vec<u8> {
    let mut x = 88_172_645_463_325_252u64;
    let next = |_| {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        (x >> 32) as u8
    };
    (0..len).map(next).collect()
}

#[test]
fn known_first_bytes_tell_the_state_and_prove_the_key() {
    let d = disc(&[
        ("EBOOT.BIN", [b"SCE\0".to_vec(), noise(5000)].concat()),
        ("ICON0.PNG", b"\x89PNG\r\n\x1a\nrest".to_vec()),
    ]);
    let (p, _) = protection(&d.plain, &Keyring::default());
    assert_eq!((p.state, p.key), (State::Decrypted, KeyState::NotNeeded));
    assert!(p.clear.is_none() && p.unseal.is_none());
    let (p, _) = protection(&d.sealed, &ring(&[("DCNT10004", &d.key)]));
    assert_eq!(p.state, State::Encrypted);
    assert!(
        matches!(&p.key, KeyState::Found { origin, proof: Some(f) } if origin == "file of DCNT10004" && f == "EBOOT.BIN")
    );
    let clear: Blueprint = p.clear.unwrap();
    let (view, mut have, mut want) =
        (clear.as_source().unwrap(), vec![0; d.plain.len() as usize], vec![0; d.plain.len() as usize]);
    view.read_at(0, &mut have).unwrap();
    d.plain.read_at(0, &mut want).unwrap();
    assert!(have == want);
}

#[test]
fn a_wrong_key_beside_the_right_one_is_passed_over_and_told() {
    let d = disc(&[("EBOOT.BIN", b"SCE\0 and more".to_vec())]);
    let wrong = Key::new(vec![1; 16]);
    let (p, opened) = protection(&d.sealed, &ring(&[("gullwing_gp", &wrong), ("dcnt-10004", &d.key)]));
    assert!(matches!(&p.key, KeyState::Found { origin, .. } if origin == "file of dcnt-10004"));
    assert!(
        opened.told.notices.iter().any(|n| n.text.contains("file of gullwing_gp is wrong")),
        "{:?}",
        opened.told.notices
    );
    let (p, opened) = protection(&d.sealed, &ring(&[("DCNT10004", &wrong), ("DCNT10004", &Key::new(vec![1; 8]))]));
    let KeyState::Trouble(trouble) = p.key else { panic!("a wrong key was taken") };
    assert_eq!(trouble.wrong.len(), 2, "{trouble}");
    assert!(trouble.to_string().starts_with("the disc key for DCNT-10004 is wrong"));
    // Nothing of noise is offered: encrypted files are locked, plain ones are there.
    let tree = opened.holds.tree.unwrap();
    assert!(matches!(tree.find("EBOOT.BIN").unwrap().file().unwrap().content, Content::Locked(_)));
    assert!(matches!(tree.read("EBOOT.BIN", 100), Err(Error::Key(_))));
    assert_eq!(tree.read("front.txt", 4096).unwrap().unwrap(), vec![b'f'; 2048]);
}

#[test]
fn without_known_files_the_spread_of_bytes_decides() {
    let words = b"the tide stood under the mark ".repeat(400);
    let d = disc(&[("A.DAT", words.clone()), ("B.DAT", words)]);
    let (p, _) = protection(&d.plain, &Keyring::default());
    assert_eq!(p.state, State::Decrypted, "{}", p.evidence);
    let (p, _) = protection(&d.sealed, &Keyring::default());
    assert_eq!(p.state, State::Encrypted, "{}", p.evidence);
    let (p, _) = protection(&d.sealed, &ring(&[("DCNT10004", &d.key)]));
    assert!(matches!(p.key, KeyState::Found { proof: Some(_), .. }));
}

#[test]
fn a_key_that_nothing_can_prove_is_used_with_a_notice() {
    let d = disc(&[("A.DAT", noise(6000)), ("B.DAT", noise(9000))]);
    let (p, opened) = protection(&d.sealed, &ring(&[("DCNT10004", &d.key)]));
    assert!(matches!(p.key, KeyState::Found { proof: None, .. }));
    assert!(opened.told.notices.iter().any(|n| n.text.contains("can prove the key")), "{:?}", opened.told.notices);
}

#[test]
fn a_disc_with_one_plain_region_needs_no_key() {
    let d = disc(&[("EBOOT.BIN", b"SCE\0".to_vec())]);
    let last = (d.plain.len() / SECTOR - 1) as u32;
    let table: Vec<u8> = [1, 0, 0, last].iter().flat_map(|w: &u32| w.to_be_bytes()).collect();
    let open_disc: SourceRef = Arc::new(Overlay::new(d.plain, vec![(0, Arc::new(Bytes(table)) as SourceRef)]).unwrap());
    let (p, opened) = protection(&open_disc, &Keyring::default());
    assert_eq!((p.state, p.key), (State::Decrypted, KeyState::NotNeeded));
    assert_eq!(opened.extent.regions.len(), 1);
}

#[test]
fn the_parameter_file_is_read_through_the_cipher() {
    let text = |n: &str, v: &str| (n.to_owned(), decanter_formats::record::sfo::Value::Text(v.to_owned()));
    let sfo = decanter_formats::record::sfo::Parameters {
        entries: vec![text("TITLE", "Gullwing GP"), text("TITLE_ID", "DCNT10009"), text("VERSION", "01.02")],
        ..Default::default()
    };
    let d = disc(&[("PARAM.SFO", sfo.compose())]);
    let (_, opened) = protection(&d.sealed, &ring(&[("DCNT10004", &d.key)]));
    assert_eq!((opened.get("title"), opened.get("version")), (Some("Gullwing GP"), Some("01.02")));
    assert_eq!(opened.get("id"), Some("DCNT-10004"));
    assert!(
        opened.told.notices.iter().any(|n| n.text.contains("DCNT10009")),
        "two ids are told: {:?}",
        opened.told.notices
    );
}
