use super::*;
use decanter_core::Error;
use decanter_core::digest::{Algorithm, hex, of_bytes};
use decanter_core::pour::to_memory;
use decanter_core::protection::KeyState;
use decanter_core::seal::Expected;
use decanter_core::view::{CtrRanges, Keystream, Streamed};
use decanter_formats::package::ps3::pkg::{Making, compose, compose_early};
use decanter_formats::record::sfo::{Parameters, Value};
use proptest::prelude::*;

const ID: &str = "UP0001-DCNT10001_00-KELPCOURIER00000";
const KEYS: [(&str, u8); 2] = [("ps3.pkg.key", 0), ("ps3.pkg.key.psp", 0x10)];
const COUNTER: [u8; 16] = *b"pier nine, low t";

fn making(key: Option<Key>) -> Making {
    Making { content_id: ID.into(), content_type: 5, version: 0x0102, key }
}

fn parameters() -> Vec<u8> {
    let text = |name: &str, text: &str| (name.to_owned(), Value::Text(text.to_owned()));
    let entries = vec![
        text("CATEGORY", "HG"),
        text("TITLE", "Kelp Courier"),
        text("TITLE_02", "Le courrier des algues"),
        text("TITLE_ID", "DCNT10001"),
        text("VERSION", "01.02"),
    ];
    Parameters { entries, ..Parameters::default() }.compose()
}

/// An item for [`build`]: name, flags, bytes.
type Item<'a> = (&'a str, u32, &'a [u8]);

/// An entry as it goes into the table: name, its length, bytes, their length, flags.
type Entry = (u32, u32, u64, u64, u32);

/// A finalized package after docs/formats/pkg.md, made without the code that is tested. `change` may spoil its table.
fn build(items: &[Item<'_>], platform: u16, change: &dyn Fn(&mut [Entry])) -> Vec<u8> {
    let mut names = Vec::new();
    let mut entries: Vec<Entry> = Vec::new();
    for (name, flags, bytes) in items {
        entries.push(((items.len() * 32 + names.len()) as u32, name.len() as u32, 0, bytes.len() as u64, *flags));
        names.extend(name.as_bytes());
        names.resize(names.len().next_multiple_of(16), 0);
    }
    let mut at = items.len() * 32 + names.len();
    let mut area = vec![0; at];
    for (entry, (.., bytes)) in entries.iter_mut().zip(items) {
        entry.2 = at as u64;
        area.extend(*bytes);
        at = area.len().next_multiple_of(16);
        area.resize(at, 0);
    }
    let placed = entries.clone();
    change(&mut entries);
    let mut table = Vec::new();
    for (name, name_len, data, len, flags) in &entries {
        table.extend([name.to_be_bytes(), name_len.to_be_bytes()].concat());
        table.extend([data.to_be_bytes(), len.to_be_bytes()].concat());
        table.extend([flags.to_be_bytes(), [0; 4]].concat());
    }
    table.extend(names);
    area[..table.len()].copy_from_slice(&table);
    let under = |first: u8| {
        let counter = u128::from_be_bytes(COUNTER);
        let stream = Keystream { range: 0..area.len() as u64, origin: 0, counter, key: key(first) };
        let view = Streamed::new(source(&area), Arc::new(CtrRanges::new(vec![stream]).unwrap()));
        bytes_of(&(Arc::new(view) as SourceRef)).unwrap()
    };
    let (own, psp) = (under(0), under(0x10));
    let mut closed = if platform == 2 { psp.clone() } else { own.clone() };
    for (name, name_len, data, len, flags) in placed {
        let from = if flags & 0x1000_0000 != 0 { &psp } else { &own };
        for (at, len) in [(name as usize, name_len as usize), (data as usize, len as usize)] {
            closed[at..at + len].copy_from_slice(&from[at..at + len]);
        }
    }
    let total = 0xd0 + closed.len() as u64 + 0x20;
    let mut file = b"\x7fPKG\x80\x00".to_vec();
    file.extend(platform.to_be_bytes());
    // Metadata: one packet of 8 bytes, and no digests behind it.
    for word in [0xc0, 1, 0x10, items.len() as u32] {
        file.extend(word.to_be_bytes());
    }
    for long in [total, 0xd0, closed.len() as u64] {
        file.extend(long.to_be_bytes());
    }
    file.extend(ID.as_bytes());
    file.resize(0x70, 0);
    file.extend(COUNTER);
    let digest = of_bytes(Algorithm::Sha1, &file).bytes;
    file.resize(0xb8, 0);
    file.extend(&digest[12..]);
    file.extend([[0, 0, 0, 2], [0, 0, 0, 8], [0, 0, 0, 15], [0; 4]].concat());
    file.extend(closed);
    let digest = of_bytes(Algorithm::Sha1, &file).bytes;
    file.extend(digest);
    file.resize(total as usize, 0);
    file
}

fn whole(making: &Making, tree: &Tree) -> Vec<u8> {
    to_memory(&compose(tree, making).unwrap(), 1 << 22, &()).unwrap()
}

#[test]
fn fixed_bytes_of_a_debug_package_are_read() {
    let bytes = unhex(include_str!("fixed/debug_package.hex"));
    let opened = open(&bytes, &Keyring::default()).unwrap();
    assert_eq!(opened.identity.kind, "PS3 package, debug: game");
    assert_eq!(opened.identity.id.as_deref(), Some("DCNT10001"));
    for (name, value) in [
        ("content id", ID),
        ("pkg version", "01.05"),
        ("DRM", "local licence"),
        ("needs system", "04.2000"),
        ("installs to", "DCNT10001"),
        ("items", "3"),
    ] {
        assert_eq!(opened.get(name), Some(value), "{name}");
    }
    let tree = opened.holds.tree.as_ref().unwrap();
    let paths: Vec<&str> = tree.nodes.iter().map(|n| n.path.as_str()).collect();
    assert_eq!(paths, ["PARAM.SFO", "USRDIR", "USRDIR/a.txt"]);
    assert_eq!(tree.read("USRDIR/a.txt", 100).unwrap().unwrap(), b"tide");
    assert_eq!(faults(&opened), Vec::<String>::new());
    let Expected::Digest(sha1) = &opened.proof.sealed[0].seals[0].expected else { panic!("a SHA-1 of all of it") };
    assert_eq!(*sha1, of_bytes(Algorithm::Sha1, &bytes[..bytes.len() - 0x20]));
}

/// The stream is made here once more, block by block, and what is under it is held against a table written by hand.
#[test]
fn fixed_bytes_of_a_new_package() {
    let new = whole(&making(None), &tree(&[("USRDIR", None), ("USRDIR/a", Some(b"tide")), ("b", Some(b""))]));
    assert_eq!(
        hex(&new[..0x30]),
        "7f504b4700000001000000c00000000500000080000000030000000000000240000000000000014000000000000000a0"
    );
    let metadata = "0000000100000004000000030000000200000004000000050000000300000004\
0000000e00000004000000080000000000000240000000050000000400000102";
    assert_eq!(hex(&new[0xc0..0x100]), metadata);
    let seed = &new[0x60..0x70];
    let mut area = new[0x140..0x1e0].to_vec();
    for (step, block) in area.chunks_mut(16).enumerate() {
        let mut input = [&seed[..8], &seed[..8], &seed[8..], &seed[8..], &[0; 24]].concat();
        input.extend((step as u64).to_be_bytes());
        block.iter_mut().zip(of_bytes(Algorithm::Sha1, &input).bytes).for_each(|(b, k)| *b ^= k);
    }
    let table = "000000600000000600000000000000900000000000000000\
8000000400000000\
000000700000000800000000000000900000000000000004\
8000000300000000\
000000800000000100000000000000a00000000000000000\
8000000300000000";
    assert_eq!(hex(&area[..0x60]), table);
    let names_and_bytes = [&b"USRDIR"[..], &[0; 10], b"USRDIR/a", &[0; 8], b"b", &[0; 15], b"tide", &[0; 12]];
    assert_eq!(area[0x60..], names_and_bytes.concat());
    let digest = of_bytes(Algorithm::Sha1, &new[..0x80]).bytes;
    assert_eq!((&new[0x80..0x90], &new[0xb8..0xc0]), (&digest[3..19], &digest[12..]));
    assert_eq!(&new[new.len() - 0x20..][..20], of_bytes(Algorithm::Sha1, &new[..new.len() - 0x20]).bytes);
}

#[test]
fn what_was_packed_comes_out_and_makes_the_same_package_again() {
    let sfo = parameters();
    let noise: Vec<u8> = (0..70_000u32).map(|i| (i * 7 + i / 251) as u8).collect();
    let nodes: [(&str, Option<&[u8]>); 6] = [
        ("PARAM.SFO", Some(&sfo)),
        ("USRDIR", None),
        ("USRDIR/EBOOT.BIN", Some(b"SCE\0 program")),
        ("USRDIR/empty", None),
        ("USRDIR/noise", Some(&noise)),
        ("USRDIR/zero", Some(b"")),
    ];
    let tree = tree(&nodes);
    let keys = ring(&KEYS);
    for key in [None, Some(key(0))] {
        let is_finalized = key.is_some();
        let making = making(key);
        let new = whole(&making, &tree);
        let opened = open(&new, &keys).unwrap();
        assert_eq!(opened.get("title"), Some("Kelp Courier"));
        assert_eq!(opened.told.label.as_ref().unwrap().titles, [("French", "Le courrier des algues".to_owned())]);
        assert_eq!(faults(&opened), Vec::<String>::new());
        let found = opened.holds.tree.clone().unwrap();
        for (path, bytes) in nodes {
            match (bytes, &found.find(path).unwrap().kind) {
                (Some(bytes), Kind::File(file)) => assert_eq!(bytes_of(file.source().unwrap()).unwrap(), bytes),
                (None, Kind::Folder) => {}
                _ => panic!("{path} is of another kind"),
            }
        }
        assert_eq!(whole(&making, &found), new, "the same package of what was in it");
        let early = to_memory(&compose_early(&tree, &making, &()).unwrap(), 1 << 22, &()).unwrap();
        assert_eq!(early, new);
        let proof = match opened.protection.map(|p| p.key) {
            Some(KeyState::Found { proof, .. }) => proof,
            _ => None,
        };
        assert_eq!(proof.as_deref(), is_finalized.then_some("the CMAC of its header"));
    }
}

#[test]
fn items_of_the_handheld_are_under_its_key() {
    let items: [Item<'_>; 3] = [("USRDIR", 0x8000_0004, b""), ("USRDIR/a", 0x9000_0003, b"moth"), ("b", 3, b"tide")];
    for platform in [1, 2] {
        let bytes = build(&items, platform, &|_| ());
        let opened = open(&bytes, &ring(&KEYS)).unwrap();
        let tree = opened.holds.tree.as_ref().unwrap();
        assert_eq!(tree.read("USRDIR/a", 9).unwrap().unwrap(), b"moth");
        assert_eq!(tree.read("b", 9).unwrap().unwrap(), b"tide");
        assert_eq!(faults(&opened), Vec::<String>::new());
        assert!(matches!(opened.protection.unwrap().key, KeyState::Found { .. }));
        // Without one of them, the other's items are there.
        let half = open(&bytes, &ring(&KEYS[usize::from(platform == 2)..][..1])).unwrap();
        let tree = half.holds.tree.unwrap();
        let locked = |path: &str| match tree.find(path).and_then(|n| n.file()).map(|f| f.source()) {
            Some(Ok(source)) => matches!(source.read_at(0, &mut [0]), Err(Error::Key(_))),
            _ => panic!("{path}"),
        };
        let (own, other) = if platform == 1 { ("b", "item 1") } else { ("USRDIR/a", "item 2") };
        assert!(!locked(own) && locked(other), "{platform}");
        assert!(matches!(half.protection.unwrap().key, KeyState::Trouble(_)));
    }
}

#[test]
fn a_wrong_second_key_is_told_as_such() {
    let items: [Item<'_>; 3] =
        [("a", 3, b"tide"), ("parade/moth.bin", 0x1000_0003, b"moth"), ("parade/wing.bin", 0x1000_0003, b"wing")];
    let bytes = build(&items, 1, &|_| ());
    let opened = open(&bytes, &ring(&[KEYS[0], ("ps3.pkg.key.psp", 0x80)])).unwrap();
    assert_eq!(faults(&opened), Vec::<String>::new(), "a wrong key is no damage");
    assert_eq!(opened.holds.tree.as_ref().unwrap().read("a", 9).unwrap().unwrap(), b"tide");
    match opened.protection.unwrap().key {
        KeyState::Trouble(trouble) => {
            assert!(trouble.need.contains("ps3.pkg.key.psp"));
            assert_eq!(trouble.wrong, ["a list"]);
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_key_that_is_missing_or_wrong_is_told() {
    let bytes = build(&[("a", 3, b"tide")], 1, &|_| ());
    let trouble = |ring: &Keyring| {
        let opened = open(&bytes, ring).unwrap();
        assert!(opened.holds.tree.is_none() && faults(&opened).is_empty());
        opened.closed_by().cloned().unwrap()
    };
    let missing = trouble(&Keyring::default());
    assert!(missing.need.contains("ps3.pkg.key") && missing.need.contains(ID) && missing.wrong.is_empty());
    assert_eq!(trouble(&ring(&[("ps3.pkg.key", 9)])).wrong, ["a list"]);
}

#[test]
fn faults_in_the_table_are_named_and_the_rest_is_read() {
    let items: [Item<'_>; 4] = [("a", 3, &[1; 40]), ("b", 3, &[2; 40]), ("c", 4, b""), ("d", 3, b"x")];
    let fault = |change: &dyn Fn(&mut [Entry])| {
        let opened = open(&build(&items, 1, change), &ring(&KEYS)).unwrap();
        let tree = opened.holds.tree.as_ref().unwrap();
        let broken = tree.files().filter(|(_, f)| f.source().is_err()).count();
        assert_eq!(tree.nodes.len(), 4);
        assert!(tree.read("a", 100).unwrap().is_some_and(|b| b == [1; 40]) || broken > 1);
        let faults = faults(&opened);
        assert_eq!((faults.len(), broken), (1, 1), "{faults:?}");
        faults[0].clone()
    };
    let says = |change: &dyn Fn(&mut [Entry]), words: &str| {
        let fault = fault(change);
        assert!(fault.contains(words), "{fault}: {words}");
    };
    says(&|t| t[1].2 = t[0].2 + 16, "b: its bytes, from 0xd0 on, overlap those of a");
    says(&|t| t[3].2 = 16, "d: its bytes, from 0x10 on, overlap the table of items");
    says(&|t| t[1].3 = 1 << 40, "b: bytes");
    says(&|t| t[1].2 = u64::MAX - 3, "b: bytes");
    says(&|t| t[3].0 = 0x4000_0000, "item 3: its name, at 0x40000000, lies outside the names");
    says(&|t| t[3].0 = 8, "item 3: its name, at 0x8, lies in the table of items");
    says(&|t| t[3].1 = 0, "item 3: a name of 0 bytes");
    says(&|t| (t[3].0, t[3].1) = (t[0].0, t[0].1), "a: another item has the same name");
}

#[test]
fn every_byte_of_the_header_is_proven_by_something() {
    let new = whole(&making(Some(key(0))), &tree(&[("a", Some(b"tide"))]));
    for at in 0..0x90 {
        let mut bytes = new.clone();
        bytes[at] ^= 0x40;
        let Ok(opened) = open(&bytes, &ring(&KEYS)) else { continue };
        let is_told = !faults(&opened).is_empty() || opened.closed_by().is_some() || opened.holds.tree.is_none();
        assert!(is_told, "{at:#x}");
    }
}

#[test]
fn what_has_no_place_in_a_package_is_refused() {
    let refused = |tree: &Tree, making: &Making| compose(tree, making).err().unwrap().to_string();
    let link = Tree { nodes: vec![Node::new("l".into(), Kind::Link("a".into()), None)] };
    assert!(refused(&link, &making(None)).contains("the link \"l\""));
    let long = "x".repeat(1025);
    assert!(refused(&tree(&[(long.as_str(), None)]), &making(None)).contains("the name"));
    let wrong = Making { content_id: "UP0001-DCNT10001_00-SHORT".into(), ..making(None) };
    assert!(refused(&tree(&[]), &wrong).contains("36 characters"));
}

#[test]
fn impossible_headers_have_offsets() {
    let new = whole(&making(None), &tree(&[("a", Some(b"tide"))]));
    let offset = |at: usize, bytes: &[u8]| {
        let mut changed = new.clone();
        changed[at..at + bytes.len()].copy_from_slice(bytes);
        match open(&changed, &Keyring::default()) {
            Err(Error::Malformed { offset, .. }) => offset,
            Err(e) => panic!("{e}"),
            Ok(_) => panic!("it was opened"),
        }
    };
    assert_eq!(offset(0x0c, &[0xff; 4]), 0x0c, "packets");
    assert_eq!(offset(0xc4, &[0xff; 4]), 0xc4, "length of a packet");
    assert_eq!(offset(0x14, &[0, 0, 0xff, 0]), 0x14, "items");
    assert_eq!(offset(0x20, &[0; 8]), 0x20, "data area in the header");
    assert_eq!(offset(0x28, &[0xff; 8]), 0x28, "length of the data area");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]

    /// Whatever the bytes are, opening and reading them ends.
    #[test]
    fn any_bytes_are_a_package_or_an_error(
        changes in proptest::collection::vec((0usize..0x300, any::<u8>()), 0..12),
        cut in 0usize..0x300,
        is_finalized in any::<bool>(),
    ) {
        let making = making(is_finalized.then(|| key(0)));
        let mut bytes = whole(&making, &tree(&[("PARAM.SFO", Some(&parameters())), ("d", None), ("d/a", Some(b"tide"))]));
        for (at, byte) in changes {
            if let Some(place) = bytes.get_mut(at) {
                *place = byte;
            }
        }
        bytes.truncate(bytes.len() - cut.min(bytes.len()) / 3);
        if let Ok(opened) = open(&bytes, &ring(&KEYS)) {
            for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()) {
                if let Ok(source) = file.source() {
                    let _ = source.read_at(0, &mut vec![0; source.len().min(4096) as usize]);
                }
            }
        }
    }

    #[test]
    fn any_tree_comes_out_again(
        files in proptest::collection::btree_map("[a-z]{1,8}(/[a-z ]{1,8})?", proptest::collection::vec(any::<u8>(), 0..200), 0..8),
        is_finalized in any::<bool>(),
    ) {
        let nodes: Vec<(&str, Option<&[u8]>)> = files.iter().map(|(p, b)| (p.as_str(), Some(b.as_slice()))).collect();
        let new = whole(&making(is_finalized.then(|| key(0))), &tree(&nodes));
        let opened = open(&new, &ring(&KEYS)).unwrap();
        let found = opened.holds.tree.unwrap();
        prop_assert_eq!(found.files().count(), files.len());
        for (path, bytes) in &files {
            prop_assert_eq!(&found.read(path, 1000).unwrap().unwrap(), bytes);
        }
    }
}
