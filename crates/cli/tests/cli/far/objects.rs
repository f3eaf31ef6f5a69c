//! Objects in a store: read in ranges, looked through, and written complete or not at all.

use super::bucket::{Bucket, Manner};
use crate::support::{Run, command, demo, folder, noise, run, text, told, tree};
use std::fs;
use std::path::Path;

fn with(bucket: &Bucket, folder: &Path, words: &[&str]) -> Run {
    told(bucket.known_to(command(folder).args(words)).output().unwrap())
}

#[test]
fn an_object_is_as_good_as_a_file() {
    let folder = folder();
    let collection = demo();
    let dvd = fs::read(&collection.dvd).unwrap();
    let bucket = Bucket::new(Manner::Good);
    bucket.put("museum/discs/Lamplighter Lane + 1.iso", &dvd);
    bucket.put("museum/box & co.zip", &fs::read(collection.archive.as_ref().unwrap()).unwrap());
    bucket.put("museum/empty", b"");
    let at = |words: &[&str]| with(&bucket, folder.path(), words);
    let lane = "s3://museum/discs/Lamplighter Lane + 1.iso";
    let here = run(folder.path(), &["digest", text(&collection.dvd), "--json"]).expect(0).json();
    let there = at(&["digest", lane, "--json"]).expect(0).json();
    assert_eq!(here["sources"][0]["digests"], there["sources"][0]["digests"]);
    at(&["identify", lane]).expect(0).says("PS2 disc image");
    at(&["verify", lane]).expect(0);
    at(&["digest", &format!("{lane}::SYSTEM.CNF")]).expect(0);
    at(&["identify", "s3://museum/box & co.zip::Kelp Courier.iso"]).expect(0).says("PS3 disc image");
    at(&["digest", "s3://museum/empty"]).expect(0).says("e3b0c44298fc1c14");
    at(&["identify", "s3://museum/"]).expect(0).says("PS2 disc image");
    at(&["identify", "s3://museum/discs"]).expect(0).says("PS2 disc image");
    at(&["digest", "s3://museum/none"]).expect(5).says("no such");
    at(&["digest", "s3://"]).expect(2).says("s3://BUCKET/KEY");
}

#[test]
fn only_what_is_needed_is_fetched() {
    let folder = folder();
    let bucket = Bucket::new(Manner::Good);
    bucket.put("museum/lane.iso", &fs::read(&demo().dvd).unwrap());
    with(&bucket, folder.path(), &["identify", "s3://museum/lane.iso"]).expect(0);
    let (sent, whole) = (bucket.state().sent, fs::metadata(&demo().dvd).unwrap().len());
    assert!(sent < 2 << 20 && sent * 4 < whole, "{sent} of {whole}");
}

#[test]
fn what_is_wrong_with_a_store_is_told_in_words() {
    let folder = folder();
    let bytes = noise(3_000_000, 4);
    for (manner, code, words) in [
        (Manner::Failing(3), 0, "file"),
        (Manner::Failing(usize::MAX), 5, "given up"),
        (Manner::Changing, 3, "has changed while it was read"),
        (Manner::Whole, 5, "range"),
    ] {
        let bucket = Bucket::new(manner);
        bucket.put("museum/file", &bytes);
        let found = with(&bucket, folder.path(), &["digest", "s3://museum/file", "--patience", "2s"]);
        assert_eq!(found.code, code, "{manner:?}: {found:?}");
        found.says(words);
    }
    let bucket = Bucket::new(Manner::Good);
    bucket.put("museum/file", &bytes);
    let mut stranger = command(folder.path());
    bucket.known_to(&mut stranger).env("AWS_ACCESS_KEY_ID", "somebody").args(["digest", "s3://museum/file"]);
    let found = told(stranger.output().unwrap()).expect(4).says("refuses");
    assert!(!found.err.contains("made up for tests"), "{found:?}");
    // Who has no key does not sign.
    let open = Bucket::new(Manner::Open);
    open.put("museum/file", &bytes);
    let mut nobody = command(folder.path());
    nobody.env("AWS_ENDPOINT_URL", &open.address).args(["digest", "s3://museum/file"]);
    told(nobody.output().unwrap()).expect(0);
    let mut nobody = command(folder.path());
    nobody.env("AWS_ENDPOINT_URL", &bucket.address).args(["digest", "s3://museum/file"]);
    told(nobody.output().unwrap()).expect(4).says("refuses");
    // The configuration says what the environment does not.
    let config = folder.path().join("own.toml");
    let text = format!(
        "[s3]\nendpoint = \"{}\"\nregion = \"shore-1\"\naccess-key = \"tidekeeper\"\nsecret-key = \"x\"\n",
        bucket.address
    );
    fs::write(&config, text).unwrap();
    run(folder.path(), &["digest", "s3://museum/file", "--config", "own.toml"]).expect(0);
}

#[test]
fn outputs_are_put_complete_or_not_at_all() {
    let folder = folder();
    let image = demo().dvd.to_str().unwrap();
    fs::write(folder.path().join("large.bin"), noise(20 << 20, 9)).unwrap();
    let bucket = Bucket::new(Manner::Good);
    let at = |words: &[&str]| with(&bucket, folder.path(), words);
    at(&["convert", image, "--to", "zst", "-o", "s3://museum/made/lane.zst"])
        .expect(0)
        .says("s3://museum/made/lane.zst");
    at(&["convert", image, "--to", "zst", "-o", "s3://museum/made/lane.zst"]).expect(2).says("already exists");
    at(&["convert", image, "--to", "zst", "-o", "s3://museum/made/lane.zst", "--replace"]).expect(0);
    at(&["convert", "s3://museum/made/lane.zst", "--to", "iso", "-o", "back.iso"]).expect(0);
    assert!(fs::read(folder.path().join("back.iso")).unwrap() == fs::read(image).unwrap());
    let name = demo().dvd.file_stem().unwrap().to_str().unwrap();
    at(&["convert", image, "--to", "zst", "-o", "s3://museum/folder/"]).expect(0);
    assert!(bucket.bytes(&format!("museum/folder/{name}.zst")).is_some(), "{:?}", bucket.paths());
    // Large ones go in parts.
    at(&["convert", "large.bin", "--to", "zst", "-o", "s3://museum/large.zst"]).expect(0);
    assert!(bucket.state().parts >= 3 && bucket.state().uploads.is_empty());
    let expected = run(folder.path(), &["digest", "large.bin", "--json"]).json();
    let found = at(&["digest", "s3://museum/large.zst::large.bin", "--json"]).expect(0).json();
    assert_eq!(found["sources"][0]["digests"], expected["sources"][0]["digests"]);
    // Folders, every file of them.
    at(&["extract", image, "-o", "s3://museum/out"]).expect(0);
    run(folder.path(), &["extract", image, "-o", "out"]).expect(0);
    for (path, bytes) in tree(&folder.path().join("out")) {
        assert!(bucket.bytes(&format!("museum/out/{path}")).as_ref() == Some(&bytes), "{path}");
    }
    at(&["extract", image, "-o", "s3://museum/out"]).expect(2).says("already exists");
    // A source is no target, and a rehearsal puts nothing.
    at(&["convert", "s3://museum/made/lane.zst", "--to", "iso", "-o", "s3://museum/made/lane.zst", "--replace"])
        .expect(2);
    let before = bucket.paths();
    at(&["convert", image, "--to", "zst", "-o", "s3://museum/dry.zst", "--dry-run"]).expect(0);
    assert_eq!(bucket.paths(), before);
    let left: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().starts_with("s3")), "{left:?}");
}

#[test]
fn what_a_store_has_not_got_right_is_noticed() {
    let folder = folder();
    fs::write(folder.path().join("large.bin"), noise(20 << 20, 9)).unwrap();
    for (manner, code, words) in [
        (Manner::Odd, 0, "large.zst"),
        (Manner::Corrupting, 3, "not what was sent"),
        (Manner::Stubborn, 5, "InvalidPart"),
        (Manner::Failing(4), 0, "large.zst"),
    ] {
        let bucket = Bucket::new(manner);
        let found =
            with(&bucket, folder.path(), &["convert", "large.bin", "--to", "zst", "-o", "s3://museum/large.zst"]);
        assert_eq!(found.code, code, "{manner:?}: {found:?}");
        found.says(words);
        assert_eq!(bucket.bytes("museum/large.zst").is_some(), code == 0, "{manner:?}");
        assert!(bucket.state().uploads.is_empty(), "parts are taken back");
    }
}

#[test]
fn a_folder_that_a_store_does_not_list_is_named_and_keeps_its_files() {
    let folder = folder();
    for (manner, odd) in
        [(Manner::Hiding("shut/"), "museum/shelf/shut/inner.bin"), (Manner::Good, "museum/shelf/odd//x.bin")]
    {
        let bucket = Bucket::new(manner);
        bucket.put("museum/shelf/a.bin", b"kelp");
        bucket.put(odd, b"cannot be asked for");
        bucket.put("museum/shelf/z/z.bin", b"moth");
        let at = |words: &[&str]| with(&bucket, folder.path(), words);
        let cellar = format!("cellar of {}", odd.len());
        at(&["cellar", "new", &cellar]).expect(0);
        let report = at(&["cellar", "scan", "--cellar", &cellar, "s3://museum/shelf/", "--json"]).expect(1).json();
        assert_eq!((&report["files"], &report["gone"]), (&2.into(), &0.into()), "{report}");
        let shut = format!("s3://{}", odd.rsplit_once('/').unwrap().0.trim_end_matches('/'));
        assert_eq!(report["unread"][0]["path"], shut, "{report}");
        let again = at(&["cellar", "scan", "--cellar", &cellar, "--json"]).expect(1).json();
        assert_eq!((&again["unchanged"], &again["gone"]), (&2.into(), &0.into()), "{again}");
    }
}

#[test]
fn what_comes_from_a_store_and_goes_to_one_is_recorded() {
    let folder = folder();
    let bucket = Bucket::new(Manner::Good);
    let image = fs::read(&demo().dvd).unwrap();
    bucket.put("museum/lane.iso", &image);
    let at = |words: &[&str]| with(&bucket, folder.path(), words);
    at(&["cellar", "new", "c"]).expect(0);
    let words = ["convert", "s3://museum/lane.iso", "--to", "zst", "-o", "s3://museum/lane.zst", "--cellar", "c"];
    let done = at(&words).expect(0);
    assert!(!done.err.contains("not recorded"), "{done:?}");
    at(&["convert", "s3://museum/lane.zst", "--to", "iso", "-o", "back.iso", "--cellar", "c"]).expect(0);
    let history = at(&["cellar", "history", "back.iso", "--cellar", "c", "--json"]).expect(0).json();
    assert_eq!(history["jobs"].as_array().unwrap().len(), 2, "{history}");
    assert_eq!(history["jobs"][1]["inputs"][0]["path"], "s3://museum/lane.iso");
    assert_eq!(history["jobs"][1]["inputs"][0]["sha1"], history["sha1"], "there and back");
    let history = at(&["cellar", "history", "s3://museum/lane.zst", "--cellar", "c", "--json"]).expect(0).json();
    assert_eq!(history["jobs"].as_array().unwrap().len(), 1, "{history}");
    at(&["cellar", "history", "s3://museum/none", "--cellar", "c"]).expect(5);
}

#[test]
fn a_store_is_a_place_of_the_collection() {
    let folder = folder();
    let bucket = Bucket::new(Manner::Good);
    for number in 0..9u8 {
        bucket.put(&format!("museum/shelf/{}/file {number}.bin", number % 2), &noise(5000 + usize::from(number), 7));
    }
    bucket.put("museum/shelf/box.zip", &fs::read(demo().archive.as_ref().unwrap()).unwrap());
    bucket.put("museum/shelf/0/", b"");
    bucket.put("museum/shelves/other", b"not below the place");
    let at = |words: &[&str]| with(&bucket, folder.path(), words);
    at(&["cellar", "new", "c"]).expect(0);
    let scan = |more: &[&str]| at(&[&["cellar", "scan", "--cellar", "c", "--json"], more].concat());
    let first = scan(&["s3://museum/shelf/"]).expect(0).json();
    assert_eq!((&first["files"], &first["new"]), (&10.into(), &10.into()), "{first}");
    let sent = bucket.state().sent;
    let second = scan(&[]).expect(0).json();
    assert_eq!((&second["unchanged"], &second["bytes_read"]), (&10.into(), &0.into()), "{second}");
    assert_eq!(bucket.state().sent, sent, "nothing is read again");
    bucket.put("museum/shelf/1/file 3.bin", b"edited");
    bucket.state().objects.remove("museum/shelf/0/file 2.bin");
    let third = scan(&["s3://museum/shelf"]).expect(0).json();
    assert_eq!((&third["changed"], &third["gone"]), (&1.into(), &1.into()), "{third}");
    at(&["cellar", "check", "--cellar", "c"]).expect(0);
    // The tag stays, and a byte does not.
    bucket.state().objects.get_mut("museum/shelf/1/file 5.bin").unwrap().0[17] ^= 4;
    let found = at(&["cellar", "check", "--cellar", "c", "--json"]).expect(1).json();
    assert_eq!(found["mismatches"][0]["path"], "s3://museum/shelf/1/file 5.bin", "{found}");
    assert_eq!(found["mismatches"][0]["damage"], "rot");
    at(&["cellar", "status", "--cellar", "c", "--damaged"]).expect(0).says("s3://museum/shelf/1/file 5.bin");
    at(&["cellar", "tidy", "--cellar", "c", "--plan", "p.toml"]).expect(0).says("names of objects are not changed");
    // A store that does not answer is not empty.
    let catalogue = fs::read(folder.path().join("c/catalogue.sqlite")).unwrap();
    assert!(!catalogue.windows(10).any(|bytes| bytes == b"tidekeeper"), "no key stands in the catalogue");
    let mut silent = command(folder.path());
    bucket.known_to(&mut silent).env("AWS_ENDPOINT_URL", "http://127.0.0.1:1");
    let found = told(silent.args(["cellar", "scan", "--cellar", "c", "--patience", "1s", "--json"]).output().unwrap());
    assert_eq!(found.expect(1).json()["unread"][0]["path"], "s3://museum/shelf");
    at(&["cellar", "status", "--cellar", "c", "--json"]).expect(0).says("\"files\": 9");
}
