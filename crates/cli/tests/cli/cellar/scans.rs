//! Scans: what is new, changed, moved, gone, doubled; and what happens when they are cut short.

use super::{Collection, packed};
use crate::support::{command, run};
use std::fs;
use std::time::Duration;

#[test]
pub fn a_cellar_is_made_once_and_found_in_three_ways() {
    let own = Collection::new();
    run(own.root(), &["cellar", "new", "cellar"]).expect(2).says("already exists");
    run(own.root(), &["cellar", "status"]).expect(2).says("none was named");
    own.run(&["scan"]).expect(2).says("knows no place yet");
    own.run(&["status"]).expect(0);
    run(&own.at("cellar"), &["cellar", "status"]).expect(0);
    fs::write(own.at("config.toml"), "cellar = \"cellar\"\n").unwrap();
    run(own.root(), &["cellar", "status", "--config", "config.toml"]).expect(0);
    run(own.root(), &["cellar", "status", "--cellar", "nothing"]).expect(5).says("decanter cellar new nothing");
    assert!(!own.at("nothing").exists(), "asking makes none");
    run(own.root(), &["cellar", "status", "--cellar", "gopher://x"]).expect(2).says("is no place for a cellar");
}

#[test]
pub fn only_what_has_changed_is_read_again() {
    let own = Collection::of(&[("a.rom", b"kelp"), ("b/c.rom", b"fogbell"), ("b/d.rom", b"moth")]);
    let again = own.scan().expect(0).json();
    assert_eq!((&again["bytes_read"], &again["unchanged"]), (&0.into(), &3.into()));
    own.put("a.rom", b"kelp and more");
    own.put("new.rom", b"new");
    fs::rename(own.at("shelf/b/c.rom"), own.at("shelf/moved.rom")).unwrap();
    fs::remove_file(own.at("shelf/b/d.rom")).unwrap();
    let report = own.scan().expect(0).json();
    let count = |name: &str| report[name].as_u64().unwrap();
    assert_eq!([count("new"), count("changed"), count("moved"), count("gone"), count("unchanged")], [1, 1, 1, 1, 0]);
    assert_eq!(count("bytes_read"), 16, "what was moved is known: {report}");
    assert_eq!(own.scan().expect(0).json()["unchanged"], 4 - 1);
}

#[cfg(unix)]
#[test]
pub fn two_names_of_one_file_are_read_once_and_links_are_not_followed() {
    let own = Collection::of(&[("a.rom", b"kelp")]);
    fs::hard_link(own.at("shelf/a.rom"), own.at("shelf/b.rom")).unwrap();
    crate::support::link("/etc", &own.at("shelf/etc"));
    let report = own.scan().expect(0).json();
    assert_eq!((&report["files"], &report["new"], &report["bytes_read"]), (&2.into(), &1.into(), &0.into()));
    assert_eq!(own.column("--doubles", "path"), [own.whole("a.rom"), own.whole("b.rom")]);
}

#[test]
pub fn a_place_that_is_not_there_keeps_its_files() {
    let own = Collection::of(&[("a.rom", b"kelp")]);
    fs::rename(own.at("shelf"), own.at("away")).unwrap();
    let report = own.run(&["scan", "--json"]).expect(1).json();
    assert_eq!((&report["places"][0]["is_mounted"], &report["gone"]), (&false.into(), &0.into()));
    own.run(&["scan", "shelf"]).expect(1).says("not mounted: what is known of it stays (1 file)");
    let status = own.json(&["status"]);
    assert_eq!((&status["counts"]["files"], &status["places"][0]["is_mounted"]), (&1.into(), &false.into()));
    own.run(&["check"]).expect(0).says("nothing of it was checked");
    run(own.root(), &["cellar", "scan", "--cellar", own.cellar(), "nowhere"]).expect(5).says("cannot scan \"nowhere\"");
    run(own.root(), &["cellar", "scan", "--cellar", own.cellar(), "away/a.rom"]).expect(2).says("it is no folder");
}

#[test]
pub fn a_folder_of_a_place_belongs_to_it() {
    let own = Collection::of(&[("a/one.rom", b"one"), ("b/two.rom", b"two")]);
    fs::remove_file(own.at("shelf/b/two.rom")).unwrap();
    own.put("a/three.rom", b"three");
    let report = own.run(&["scan", "shelf/a", "--json"]).expect(0).json();
    assert_eq!(
        (&report["files"], &report["new"], &report["gone"]),
        (&2.into(), &1.into(), &0.into()),
        "only that folder"
    );
    assert_eq!(own.json(&["status"])["places"].as_array().unwrap().len(), 1);
    // A folder around it is a place of its own, and its files are counted once.
    let around = own.run(&["scan", ".", "--json"]).expect(0).json();
    assert_eq!(around["gone"], 1, "{around}");
    assert_eq!(own.json(&["status"])["counts"]["files"], 2, "the cellar itself is none of it");
}

#[test]
pub fn what_is_in_archives_is_looked_through() {
    let own = Collection::new();
    let box_zip = packed(&[("tide.rom", b"the tide"), ("notes/read me.txt", b"notes")]);
    own.put("box.zip", &box_zip);
    own.put("outer.zip", &packed(&[("box.zip", &box_zip)]));
    own.put("loose.rom", b"the tide");
    let mut broken = box_zip.clone();
    let at = broken.windows(8).position(|w| w == b"the tide").unwrap();
    broken[at] ^= 1;
    own.put("broken.zip", &broken);
    own.scan().expect(0);
    let doubles = own.column("--doubles", "path");
    for name in ["box.zip::tide.rom", "outer.zip::box.zip::tide.rom", "loose.rom"] {
        assert!(doubles.contains(&own.whole(name)), "{name} in {doubles:?}");
    }
    assert_eq!(own.column("--damaged", "path"), [own.whole("broken.zip::tide.rom")]);
}

#[cfg(target_os = "linux")]
#[test]
fn odd_names_are_kept_and_told() {
    use std::os::unix::ffi::OsStrExt;
    let own = Collection::new();
    for name in [&b"caf\xe9.rom"[..], b"a\nb.rom", b"\x1b[31m.rom", b"-x.rom"] {
        fs::write(own.at("shelf").join(std::ffi::OsStr::from_bytes(name)), name).unwrap();
    }
    assert_eq!(own.scan().expect(0).json()["new"], 4);
    assert_eq!(own.scan().expect(0).json()["unchanged"], 4);
    own.put("set.dat", super::dat("Nothing", "1", &[("x", vec![super::entry("x", b"x")])]).as_bytes());
    own.run(&["match", "--dat", "shelf/set.dat"]).expect(0);
    let told = own.run(&["status", "--unknown"]).expect(0);
    assert!(!told.out.contains('\x1b') && told.out.contains("a\\nb.rom"), "{}", told.out);
    assert_eq!(own.json(&["status", "--unknown"])["rows"].as_array().unwrap().len(), 4);
    own.run(&["check"]).expect(0);
}

#[test]
pub fn a_scan_that_is_killed_goes_on() {
    let own = Collection::new();
    for number in 0..3000 {
        own.put(&format!("{}/{number}.rom", number % 30), format!("dump {number} {}", "x".repeat(3000)).as_bytes());
    }
    for wait in [5, 30, 80, 150] {
        let mut child =
            command(own.root()).args(["cellar", "scan", "--cellar", own.cellar(), "shelf"]).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        child.kill().unwrap();
        child.wait().unwrap();
        own.run(&["status"]).expect(0);
    }
    let report = own.scan().expect(0).json();
    assert_eq!(report["files"], 3000);
    assert_eq!(own.json(&["status"])["counts"]["files"], 3000);
    let again = own.scan().expect(0).json();
    assert_eq!((&again["unchanged"], &again["bytes_read"]), (&3000.into(), &0.into()));
}

#[test]
pub fn others_ask_while_a_scan_runs() {
    let own = Collection::new();
    for number in 0..2000 {
        own.put(&format!("{}/{number}.rom", number % 30), format!("dump {number} {}", "x".repeat(9000)).as_bytes());
    }
    let mut child = command(own.root()).args(["cellar", "scan", "--cellar", own.cellar(), "shelf"]).spawn().unwrap();
    while child.try_wait().unwrap().is_none() {
        own.run(&["status"]).expect(0);
        own.run(&["match"]).expect(0);
    }
    assert!(child.wait().unwrap().success());
    assert_eq!(own.json(&["status"])["counts"]["files"], 2000);
}

#[test]
pub fn a_catalogue_of_a_newer_program_is_left_alone() {
    let own = Collection::of(&[("a.rom", b"kelp")]);
    let path = own.at("cellar/catalogue.sqlite");
    let mut bytes = fs::read(&path).unwrap();
    // The user's version is the number at byte 60, most significant byte first.
    assert_eq!(bytes[60..64], [0, 0, 0, 2]);
    bytes[63] = 99;
    fs::write(&path, &bytes).unwrap();
    for words in [&["status"][..], &["scan"], &["check"], &["tidy", "--plan", "x.toml"]] {
        own.run(words).expect(3).says("version 99").says("docs/cellar.md");
    }
    assert_eq!(fs::read(&path).unwrap(), bytes);
    fs::write(&path, "this is no catalogue, however long it may be ".repeat(99)).unwrap();
    own.run(&["status"]).expect(3).says("is damaged, or no catalogue");
}

#[test]
pub fn a_scan_that_is_stopped_keeps_what_it_has() {
    let own = Collection::new();
    for number in 0..6000 {
        own.put(&format!("{}/{number}.rom", number % 30), format!("dump {number} {}", "x".repeat(9000)).as_bytes());
    }
    let mut child = command(own.root()).args(["cellar", "scan", "--cellar", own.cellar(), "shelf"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(700));
    let stopped = std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    let code = child.wait().unwrap().code();
    // It may have been faster than the signal.
    assert!(stopped.success() && matches!(code, Some(130 | 0)), "{code:?}");
    let kept = own.json(&["status"])["counts"]["files"].as_u64().unwrap();
    let report = own.scan().expect(0).json();
    assert_eq!(report["unchanged"].as_u64().unwrap(), kept, "what was read is not read again");
    assert_eq!(own.json(&["status"])["counts"]["files"], 6000);
}

#[test]
pub fn a_member_that_is_locked_is_told_with_its_reason() {
    let own = Collection::new();
    // A zip entry whose first flag says that it is encrypted.
    let mut locked = packed(&[("secret.rom", b"the tide is in")]);
    locked[6] |= 1;
    let central = locked.windows(4).position(|w| w == b"PK\x01\x02").unwrap();
    locked[central + 8] |= 1;
    own.put("locked.zip", &locked);
    own.scan().expect(0);
    assert_eq!(own.column("--damaged", "damage"), ["unreadable"]);
    assert!(own.column("--damaged", "why")[0].contains("encrypted"));
}
