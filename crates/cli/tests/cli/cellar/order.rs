//! Order: plans, what they do, and all of it back; originals that are put away and come back.

use super::{Collection, dat, entry, packed};
use crate::support::{noise, run, tree};
use std::fs;
use std::path::Path;

/// A shelf in disorder, its set, and a plan.
fn in_disorder() -> Collection {
    let own = Collection::new();
    own.put("x.rom", b"fogbell");
    own.put("deep/down/y.rom", b"tide one");
    own.put("z.zip", &packed(&[("k.rom", b"kelp")]));
    own.put("again/x.rom", b"fogbell");
    own.put("stranger.rom", b"who");
    let games = [
        ("Fogbell", vec![entry("Fogbell.rom", b"fogbell")]),
        ("Tide", vec![entry("Tide (1).rom", b"tide one"), entry("Tide (2).rom", b"tide two")]),
        ("Kelp", vec![entry("Kelp.rom", b"kelp")]),
    ];
    fs::write(own.at("s.dat"), dat("Salt", "1", &games)).unwrap();
    own.scan().expect(0);
    own.run(&["match", "--dat", "s.dat"]).expect(0);
    own
}

/// Everything below the shelf: names, bytes, times, permissions, folders too.
pub fn picture(folder: &Path) -> Vec<String> {
    let mut lines = Vec::new();
    let mut todo = vec![folder.to_owned()];
    while let Some(path) = todo.pop() {
        let meta = fs::metadata(&path).unwrap();
        let bytes = if meta.is_file() { crc32fast::hash(&fs::read(&path).unwrap()) } else { 0 };
        let mode = meta.permissions();
        lines.push(format!("{} {:?} {mode:?} {bytes:08x}", path.display(), meta.modified().unwrap()));
        if meta.is_dir() {
            todo.extend(fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
    }
    lines.sort();
    lines
}

pub fn names(folder: &Path) -> Vec<String> {
    tree(folder).into_iter().map(|(name, _)| name).collect()
}

#[test]
pub fn a_plan_is_done_and_taken_back() {
    let own = in_disorder();
    let before = picture(&own.at("shelf"));
    let report = own.json(&["tidy", "--plan", "p.toml", "--doubles", "doubles"]);
    assert_eq!(
        (&report["moves"], &report["doubles"], &report["unnamed"]),
        (&4.into(), &1.into(), &1.into()),
        "{report}"
    );
    assert_eq!(picture(&own.at("shelf")), before, "a plan moves nothing");
    own.run(&["tidy", "--plan", "p.toml"]).expect(2).says("already exists");
    own.run(&["tidy", "--apply", "p.toml", "--dry-run"]).expect(0).says("would move");
    assert_eq!(picture(&own.at("shelf")), before);
    own.run(&["tidy", "--apply", "p.toml"]).expect(0).says("4 files");
    let done = ["Salt/Fogbell.rom", "Salt/Kelp.zip", "Salt/Tide/Tide (1).rom", "doubles/x.rom", "stranger.rom"];
    assert_eq!(names(&own.at("shelf")), done);
    assert!(!own.at("shelf/deep").exists(), "nothing was left in it");
    let status = own.json(&["status"]);
    assert_eq!((&status["counts"]["matching"], &status["counts"]["renamed"]), (&2.into(), &2.into()), "{status}");
    assert_eq!(own.scan().expect(0).json()["bytes_read"], 0, "the catalogue knows it");
    own.run(&["tidy", "--apply", "p.toml"]).expect(2).says("applied already");
    own.run(&["tidy", "--undo", "p.toml"]).expect(0).says("moved back");
    assert_eq!(picture(&own.at("shelf")), before);
    own.run(&["tidy", "--undo", "p.toml"]).expect(2).says("nothing was done by it");
    assert_eq!(own.scan().expect(0).json()["bytes_read"], 0);
}

#[test]
pub fn names_by_a_template() {
    let own = in_disorder();
    own.run(&["tidy", "--plan", "p.toml", "--template", "{set}/{game} ({region}) [{id}].{ext}"]).expect(0);
    own.run(&["tidy", "--apply", "p.toml"]).expect(0);
    let names = names(&own.at("shelf"));
    assert!(names.contains(&"Salt/Fogbell.rom".to_owned()) && names.contains(&"stranger.rom".to_owned()), "{names:?}");
    for (template, words) in [("{titel}", "{title}"), ("../{name}", "leads out"), ("{name", "a brace")] {
        own.run(&["tidy", "--plan", "q.toml", "--template", template]).expect(2).says(words);
    }
}

#[test]
pub fn a_line_that_makes_no_sense_is_refused_with_its_number() {
    let own = in_disorder();
    own.run(&["tidy", "--plan", "p.toml"]).expect(0);
    let plan = fs::read_to_string(own.at("p.toml")).unwrap();
    let before = picture(&own.at("shelf"));
    let line = plan.lines().position(|l| l.contains("Salt/Fogbell.rom")).unwrap() + 1;
    let to = "to = \"Salt/Fogbell.rom\"";
    fs::create_dir(own.at("outside")).unwrap();
    let wrong = [
        ("to = \"../out.rom\"", "leads out"),
        ("to = \"/tmp/out.rom\"", "leads out"),
        ("to = \"a/../../out.rom\"", "leads out"),
        ("to = \"\"", "names no file"),
        ("to = \"stranger.rom\"", "something stands"),
        ("to = \"Salt/Kelp.zip\"", "is the name that line"),
        ("too = \"Salt/x.rom\"", "there is no field \"too\""),
        ("to = 5", "line"),
    ];
    for (text, words) in wrong {
        fs::write(own.at("q.toml"), plan.replace(to, text)).unwrap();
        let run = own.run(&["tidy", "--apply", "q.toml"]).expect(2).says(words).says("line ");
        assert!(line > 1, "{run:?}");
        assert_eq!(picture(&own.at("shelf")), before, "{text}");
        assert!(!own.at("q.toml.journal").exists(), "{text}");
    }
    #[cfg(unix)]
    {
        crate::support::link("../outside", &own.at("shelf/link"));
        fs::write(own.at("q.toml"), plan.replace(to, "to = \"link/x.rom\"")).unwrap();
        own.run(&["tidy", "--apply", "q.toml"]).expect(2).says("leads through");
        assert!(fs::read_dir(own.at("outside")).unwrap().next().is_none());
    }
}

#[test]
pub fn what_has_changed_since_stays() {
    let own = in_disorder();
    own.run(&["tidy", "--plan", "p.toml"]).expect(0);
    std::thread::sleep(std::time::Duration::from_millis(20));
    own.put("deep/down/y.rom", b"tide, edited");
    fs::remove_file(own.at("shelf/z.zip")).unwrap();
    own.run(&["tidy", "--apply", "p.toml"]).expect(1).says("it has changed since the plan").says("z.zip");
    assert!(own.at("shelf/deep/down/y.rom").exists() && own.at("shelf/Salt/Fogbell.rom").exists());
}

#[test]
pub fn files_can_change_names_with_each_other() {
    let own = Collection::of(&[("A.rom", b"one"), ("B.rom", b"two")]);
    fs::write(
        own.at("s.dat"),
        dat("S", "1", &[("a", vec![entry("B.rom", b"one")]), ("b", vec![entry("A.rom", b"two")])]),
    )
    .unwrap();
    own.run(&["match", "--dat", "s.dat"]).expect(0);
    own.run(&["tidy", "--plan", "p.toml", "--template", "{name}"]).expect(0);
    own.run(&["tidy", "--apply", "p.toml"]).expect(0);
    assert_eq!(tree(&own.at("shelf")), [("A.rom".to_owned(), b"two".to_vec()), ("B.rom".to_owned(), b"one".to_vec())]);
    assert_eq!(own.json(&["status"])["counts"]["matching"], 2);
    own.run(&["tidy", "--undo", "p.toml"]).expect(0);
    assert_eq!(fs::read(own.at("shelf/A.rom")).unwrap(), b"one");
}

#[test]
fn a_killed_run_is_completed_or_taken_back() {
    for undoes in [false, true] {
        let own = in_disorder();
        let before = picture(&own.at("shelf"));
        own.run(&["tidy", "--plan", "p.toml", "--doubles", "doubles"]).expect(0);
        own.run(&["tidy", "--apply", "p.toml"]).expect(0);
        let done = names(&own.at("shelf"));
        // As a kill leaves it: the last line is missing, and half of the next; some files have their old names.
        let journal = fs::read_to_string(own.at("p.toml.journal")).unwrap();
        fs::create_dir_all(own.at("shelf/deep/down")).unwrap();
        fs::rename(own.at("shelf/Salt/Tide/Tide (1).rom"), own.at("shelf/deep/down/y.rom")).unwrap();
        let cut: String = journal.lines().filter(|l| !l.contains("applied")).flat_map(|l| [l, "\n"]).collect();
        fs::write(own.at("p.toml.journal"), cut + "{\"what\":\"app").unwrap();
        if undoes {
            own.run(&["tidy", "--undo", "p.toml"]).expect(0);
            assert_eq!(picture(&own.at("shelf")), before);
        } else {
            own.run(&["tidy", "--apply", "p.toml"]).expect(0).says("complete now");
            assert_eq!(names(&own.at("shelf")), done);
        }
    }
}

#[test]
pub fn a_run_that_was_killed_before_it_began_begins_anew() {
    let own = in_disorder();
    own.run(&["tidy", "--plan", "p.toml"]).expect(0);
    fs::write(own.at("p.toml.journal"), "{\"what\":\"make\",\"path\":\"/x\"}\n{\"what\":").unwrap();
    own.run(&["tidy", "--apply", "p.toml"]).expect(0);
    assert!(own.at("shelf/Salt/Fogbell.rom").exists());
    fs::write(own.at("p.toml.journal"), "no journal\n").unwrap();
    own.run(&["tidy", "--undo", "p.toml"]).expect(3).says("line 1 of the journal");
}

#[test]
pub fn an_original_goes_once_something_makes_it_again() {
    let own = Collection::new();
    let image = noise(300_000, 5);
    own.put("copy a.rom", b"kelp courier");
    own.put("copy b.rom", b"kelp courier");
    own.put("packed.rom", b"moth parade");
    own.put("box.zip", &packed(&[("inner.rom", b"moth parade")]));
    own.put("big.rom", &[image.clone(), vec![0xff; 5000]].concat());
    own.put("trimmed/big.bin", &image);
    own.put("alone.rom", b"nothing makes it");
    fs::copy(&crate::support::demo().dvd, own.at("shelf/lane.iso")).unwrap();
    run(own.root(), &["convert", "shelf/lane.iso", "--to", "zst", "-o", "shelf/lane.zst", "--cellar", own.cellar()])
        .expect(0);
    own.scan().expect(0);
    let before = picture(&own.at("shelf"));
    let words = [
        "retire",
        "shelf/copy a.rom",
        "shelf/packed.rom",
        "shelf/big.rom",
        "shelf/alone.rom",
        "shelf/lane.iso",
        "--json",
    ];
    let report = own.run(&words).expect(1).json();
    assert_eq!(report["kept"][0]["path"], own.whole("alone.rom"), "{report}");
    assert_eq!(report["retired"].as_array().unwrap().len(), 4, "{report}");
    for (one, kept) in
        report["retired"].as_array().unwrap().iter().zip(["copy b.rom", "box.zip", "trimmed/big.bin", "lane.zst"])
    {
        assert_eq!(one["kept"], own.whole(kept));
        let receipt = fs::read_to_string(own.root().join(one["receipt"].as_str().unwrap())).unwrap();
        assert!(receipt.contains(&own.whole(kept)) && receipt.contains(one["original"].as_str().unwrap()), "{receipt}");
        assert!(!Path::new(one["original"].as_str().unwrap()).exists());
    }
    let scan = own.scan().expect(0).json();
    assert_eq!(
        (&scan["new"], &scan["gone"]),
        (&0.into(), &0.into()),
        "what was put away is no dump of the shelf: {scan}"
    );
    // Two come back from where they were moved to, two are made again.
    fs::remove_file(own.at("shelf/.retired/packed.rom")).unwrap();
    fs::write(own.at("shelf/.retired/big.rom"), "other bytes").unwrap();
    for name in ["copy a.rom", "packed.rom", "big.rom", "lane.iso"] {
        own.run(&["restore", &format!("shelf/{name}")]).expect(0);
        own.run(&["restore", &format!("shelf/{name}")]).expect(2).says("already exists");
    }
    fs::remove_dir_all(own.at("shelf/.retired")).unwrap();
    let without_folders =
        |lines: Vec<String>| lines.into_iter().filter(|l| !l.contains("00000000")).collect::<Vec<_>>();
    assert_eq!(without_folders(picture(&own.at("shelf"))), without_folders(before), "bytes, times and permissions");
    own.run(&["restore", "shelf/never.rom"]).expect(2).says("no receipt names it");
}

#[test]
pub fn nothing_goes_for_a_copy_that_has_rotted_or_goes_itself() {
    let own = Collection::of(&[("a.rom", b"kelp courier"), ("b.rom", b"kelp courier")]);
    own.run(&["retire", "shelf/a.rom", "shelf/b.rom", "--remove"])
        .expect(1)
        .says("nothing that is known makes it again");
    own.rot("b.rom");
    own.run(&["retire", "shelf/a.rom", "--remove"]).expect(1).says("does not make the same bytes");
    own.rot("b.rom");
    own.rot("a.rom");
    own.run(&["retire", "shelf/a.rom", "--remove"]).expect(1).says("it has changed since it was scanned");
    own.rot("a.rom");
    assert_eq!(names(&own.at("shelf")), ["a.rom", "b.rom"]);
    own.run(&["retire", "shelf/a.rom", "--remove", "--dry-run"]).expect(0).says("would retire");
    own.run(&["retire", "shelf/a.rom", "--remove"]).expect(0);
    assert_eq!(names(&own.at("shelf")), ["b.rom"]);
    own.rot("b.rom");
    own.run(&["restore", "shelf/a.rom"]).expect(3).says("does not make the same bytes any more");
    assert!(!own.at("shelf/a.rom").exists());
    own.rot("b.rom");
    own.run(&["restore", "shelf/a.rom"]).expect(0);
    assert_eq!(fs::read(own.at("shelf/a.rom")).unwrap(), b"kelp courier");
}

#[test]
fn a_merged_file_makes_its_parts_again() {
    let demo = crate::support::demo();
    let keys = demo.shelf.join("keys");
    let keys = keys.to_str().unwrap();
    let own = Collection::new();
    let shelf = demo.shelf.join("Kelp Courier");
    let mut parts: Vec<_> = fs::read_dir(shelf).unwrap().map(|e| e.unwrap().path()).collect();
    parts.retain(|path| path.extension().is_some_and(|e| e == "nsp"));
    for part in &parts {
        fs::copy(part, own.at("shelf").join(part.file_name().unwrap())).unwrap();
    }
    // The merged file takes the newest update only: an older one stays.
    run(own.root(), &["merge", "shelf", "--to", "xci", "-o", "kept/", "--keys", keys, "--cellar", own.cellar()])
        .expect(0);
    let before = tree(&own.at("shelf"));
    own.scan().expect(0);
    let report = own.run(&["retire", "--remove", "--keys", keys, "shelf", "--json"]).expect(1).json();
    let kept: Vec<&str> = report["kept"].as_array().unwrap().iter().map(|k| k["path"].as_str().unwrap()).collect();
    assert_eq!(kept, [own.whole("Kelp Courier (update 1).nsp")], "{report}");
    for one in report["retired"].as_array().unwrap() {
        assert!(one["how"].as_str().unwrap().starts_with("taken apart"), "{one}");
        own.run(&["restore", one["original"].as_str().unwrap(), "--keys", keys]).expect(0);
    }
    assert_eq!(tree(&own.at("shelf")), before);
}
