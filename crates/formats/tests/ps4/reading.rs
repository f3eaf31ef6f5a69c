//! What is read of packages.

use super::builder::{self, CONTENT_ID, Wish, ZEROS};
use super::{check_files, faults, long, open, open_with, read, ring};
use decanter_core::protection::KeyState;
use decanter_core::tree::Content;
use decanter_core::{Error, Key, Keyring};

#[test]
fn every_form_of_image_is_read() {
    for (newer, wide, scattered, deflated) in [
        (false, false, false, false),
        (true, false, false, true),
        (false, true, true, false),
        (true, true, true, true),
        (false, false, true, true),
    ] {
        let (wish, built) = long(Wish { newer, wide, scattered, deflated, ..Wish::default() });
        let opened = open(built.bytes).unwrap();
        assert_eq!(opened.identity.format, "ps4-pkg");
        check_files(&opened, &wish);
        let (faults, count) = faults(&opened);
        assert!(faults.is_empty() && count > 15, "{faults:?}, {count} checks");
    }
}

#[test]
fn what_it_says_of_itself_is_told() {
    let opened = open(builder::package(&Wish::default()).bytes).unwrap();
    let told = |name: &str| opened.get(name).unwrap_or_default().to_owned();
    assert_eq!(opened.identity.title.as_deref(), Some("Pier Nine"));
    assert_eq!((told("id"), told("content id")), ("DCNT40001".into(), CONTENT_ID.into()));
    assert_eq!((told("category"), told("app version")), ("game (gd)".into(), "01.00".into()));
    assert_eq!(told("passcode"), "32 zeros");
    let tree = opened.holds.tree.as_ref().unwrap();
    let paths: Vec<&str> = tree.nodes.iter().map(|n| n.path.as_str()).collect();
    assert!(paths.contains(&"Eboot.bin") && paths.contains(&"data/deep") && paths.contains(&"sce_sys/icon0.png"));
    assert_eq!(paths.iter().filter(|p| p.eq_ignore_ascii_case("sce_sys")).count(), 1);
}

#[test]
fn encrypted_entries_are_under_the_keys_of_the_passcode() {
    let mut wish = Wish::default();
    // One of them is filled up to whole blocks.
    for (id, name, len, under) in [(0x402, "nptitle.dat", 160, 3), (0x403, "npbind.dat", 131, 5)] {
        wish.entries.push((id, name, builder::noise(id, len), Some(under)));
    }
    let built = builder::package(&wish);
    let opened = open(built.bytes.clone()).unwrap();
    check_files(&opened, &wish);
    assert_eq!(faults(&opened).0, Vec::<String>::new());
    let mut damaged = built.bytes.clone();
    damaged[built.entries[&0x402].0 + 9] ^= 1;
    let told = read(&open(damaged).unwrap(), "sce_sys/nptitle.dat").unwrap_err().to_string();
    assert!(told.contains("sce_sys/nptitle.dat at"), "{told}");
    // With the image key alone they stay closed.
    let opened = open_with(built.bytes, &ring(CONTENT_ID, &builder::key(CONTENT_ID, &ZEROS, 1))).unwrap();
    assert!(read(&opened, "Eboot.bin").is_ok());
}

#[test]
fn a_passcode_is_known_by_the_digest_of_its_first_key() {
    let passcode = *b"saltmarsh-pier-arcade-museum-001";
    let wish = Wish { passcode, ..Wish::default() };
    let built = builder::package(&wish);
    let opened = open_with(built.bytes.clone(), &ring("ps4.pkg.passcode", &passcode)).unwrap();
    check_files(&opened, &wish);
    assert_eq!(opened.get("passcode"), Some("known"));
    // The image key alone opens the image.
    let image_key = builder::key(CONTENT_ID, &passcode, 1);
    let opened = open_with(built.bytes.clone(), &ring(CONTENT_ID, &image_key)).unwrap();
    check_files(&opened, &wish);
    // Without any of them: header, parameters, pictures.
    for keys in [Keyring::default(), ring("ps4.pkg.passcode", &[b'x'; 32]), ring(CONTENT_ID, &[1; 32])] {
        let opened = open_with(built.bytes.clone(), &keys).unwrap();
        assert_eq!(opened.identity.title.as_deref(), Some("Pier Nine"));
        assert!(read(&opened, "sce_sys/icon0.png").is_ok());
        let tree = opened.holds.tree.as_ref().unwrap();
        let image = tree.find("pfs_image.dat").unwrap().file().unwrap();
        assert!(matches!(image.content, Content::Locked(_)));
        let Some(KeyState::Trouble(trouble)) = opened.protection.as_ref().map(|p| &p.key) else { panic!("it is open") };
        assert!(trouble.need.contains(CONTENT_ID), "{trouble}");
        assert!(matches!(read(&opened, "pfs_image.dat"), Err(Error::Key(_))));
        let (faults, _) = faults(&opened);
        assert_eq!(faults, Vec::<String>::new(), "the digests of the container hold");
    }
    // What was typed is meant: the zeros are not tried instead.
    let zeros = builder::package(&Wish::default());
    let mut keys = Keyring::default();
    keys.add("ps4.pkg.passcode", Key::new(vec![b'1'; 32]), "--passcode");
    let opened = open_with(zeros.bytes, &keys).unwrap();
    let Some(KeyState::Trouble(trouble)) = opened.protection.as_ref().map(|p| &p.key) else { panic!("it is open") };
    assert_eq!(trouble.wrong, ["--passcode"]);
}

#[test]
fn a_plain_image_stands_by_itself() {
    let wish = Wish::default();
    let files = builder::inner(&wish.files);
    for bytes in [files.clone(), builder::pfsc(&files, true)] {
        let opened = open(bytes).unwrap();
        let opened = match opened.identity.format {
            "pfsc" => {
                let (_, file) = opened.holds.tree.as_ref().unwrap().files().next().unwrap();
                let mut inside = vec![0; file.len as usize];
                file.source().unwrap().read_at(0, &mut inside).unwrap();
                open(inside).unwrap()
            }
            _ => opened,
        };
        assert_eq!(opened.identity.format, "pfs");
        for (path, bytes) in &wish.files {
            assert!(read(&opened, path).unwrap() == *bytes, "{path}");
        }
        assert_eq!(faults(&opened).0, Vec::<String>::new());
    }
}

/// The image of a package by itself, with its key in the ring.
#[test]
fn a_closed_image_stands_by_itself_with_its_key() {
    let wish = Wish { newer: true, ..Wish::default() };
    let built = builder::package(&wish);
    let image = built.bytes[built.image_at..].to_vec();
    let key = builder::key(CONTENT_ID, &ZEROS, 1);
    let opened = open_with(image.clone(), &ring("ps4.pfs.key", &key)).unwrap();
    assert_eq!(read(&opened, "pfs_image.dat").unwrap(), builder::pfsc_file(&wish));
    for keys in [Keyring::default(), ring("ps4.pfs.key", &[9; 32])] {
        let opened = open_with(image.clone(), &keys).unwrap();
        assert!(opened.holds.tree.is_none());
        assert!(matches!(opened.protection.map(|p| p.key), Some(KeyState::Trouble(_))));
    }
}
