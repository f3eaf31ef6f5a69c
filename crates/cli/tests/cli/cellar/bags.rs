//! Bags: written as the standard says, and checked whoever made them.

use crate::support::{folder, run, tool, tree};
use std::fs;

#[test]
fn a_bag_has_what_the_standard_asks_for() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir_all(at("in/deep")).unwrap();
    fs::write(at("in/a.rom"), "abc").unwrap();
    fs::write(at("in/deep/100%.rom"), "").unwrap();
    run(folder.path(), &["cellar", "bag", "-o", "bag", "in"]).expect(0).says("decanter verify bag");
    assert_eq!(
        fs::read_to_string(at("bag/bagit.txt")).unwrap(),
        "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
    );
    // SHA-256 of "abc" and of nothing: FIPS 180-4.
    assert_eq!(
        fs::read_to_string(at("bag/manifest-sha256.txt")).unwrap(),
        "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad  data/in/a.rom\n\
         e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  data/in/deep/100%25.rom\n"
    );
    assert!(fs::read_to_string(at("bag/bag-info.txt")).unwrap().contains("Payload-Oxum: 3.2\n"));
    assert_eq!(fs::read_to_string(at("bag/tagmanifest-sha512.txt")).unwrap().lines().count(), 4);
    if tool("sha512sum", &["--version"], folder.path()).is_some() {
        tool("sha512sum", &["--strict", "-c", "tagmanifest-sha512.txt"], &at("bag"));
    }
    run(folder.path(), &["verify", "bag"]).expect(0).says("MATCH");
    run(folder.path(), &["cellar", "bag", "-o", "bag", "in"]).expect(2).says("already exists");
    run(folder.path(), &["cellar", "bag", "-o", "two", "in", "in"]).expect(2).says("has the same name there");
    run(folder.path(), &["cellar", "bag", "-o", "two", "gone"]).expect(5);
    assert!(!at("two").exists());
    // The same again, byte for byte.
    run(folder.path(), &["cellar", "bag", "-o", "again", "in"]).expect(0);
    assert_eq!(tree(&at("bag")), tree(&at("again")));
}

#[test]
fn whatever_is_wrong_with_a_bag_is_told() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir(at("in")).unwrap();
    fs::write(at("in/a.rom"), "abc").unwrap();
    fs::write(at("in/b.rom"), "def").unwrap();
    let wrong: [(&str, &dyn Fn(), i32, &str); 8] = [
        ("differs", &|| fs::write(at("bag/data/in/a.rom"), "abd").unwrap(), 1, "data/in/a.rom"),
        ("missing", &|| fs::remove_file(at("bag/data/in/b.rom")).unwrap(), 1, "data/in/b.rom"),
        ("unexpected", &|| fs::write(at("bag/data/new"), "x").unwrap(), 1, "no manifest lists it"),
        ("tag", &|| fs::write(at("bag/bag-info.txt"), "Payload-Oxum: 7.2\n").unwrap(), 1, "7 bytes in 2 files"),
        ("version", &|| fs::write(at("bag/bagit.txt"), "BagIt-Version: 7\n").unwrap(), 3, "version 7"),
        ("declaration", &|| fs::write(at("bag/bagit.txt"), "hello\n").unwrap(), 3, "BagIt-Version"),
        ("line", &|| fs::write(at("bag/manifest-sha256.txt"), "00  data/in/a.rom\n").unwrap(), 3, "line 1"),
        ("out", &|| fs::write(at("bag/manifest-sha256.txt"), format!("{:064}  ../x\n", 0)).unwrap(), 3, "leads out"),
    ];
    for (name, spoil, code, words) in wrong {
        if at("bag").exists() {
            fs::remove_dir_all(at("bag")).unwrap();
        }
        run(folder.path(), &["cellar", "bag", "-o", "bag", "in"]).expect(0);
        spoil();
        let found = run(folder.path(), &["verify", "bag"]);
        assert_eq!(found.code, code, "{name}: {found:?}");
        found.says(words);
    }
}

#[test]
fn bags_of_other_programs_are_checked() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir_all(at("bag/data")).unwrap();
    fs::write(at("bag/data/a b.rom"), "abc").unwrap();
    fs::write(at("bag/bagit.txt"), "BagIt-Version: 0.97\r\nTag-File-Character-Encoding: UTF-8\r\n").unwrap();
    // MD5 of "abc": RFC 1321.
    fs::write(at("bag/manifest-md5.txt"), "900150983cd24fb0d6963f7d28e17f72 *data/a b.rom\r\n").unwrap();
    run(folder.path(), &["verify", "bag"]).expect(0).says("manifest-md5.txt");
    fs::write(at("bag/fetch.txt"), "https://example.org/x 3 data/x.rom\n").unwrap();
    fs::write(
        at("bag/manifest-md5.txt"),
        "900150983cd24fb0d6963f7d28e17f72  data/a b.rom\n900150983cd24fb0d6963f7d28e17f72  data/x.rom\n",
    )
    .unwrap();
    run(folder.path(), &["verify", "bag"]).expect(1).says("to be fetched");
    fs::remove_file(at("bag/manifest-md5.txt")).unwrap();
    fs::write(at("bag/manifest-sha3-256.txt"), "00  data/x\n").unwrap();
    run(folder.path(), &["verify", "bag"]).expect(3).says("no manifest of its payload");
}
