//! Fixity: rot, edits, what is mended, and where a good copy lies.

use super::{Collection, packed};
use std::fs;

#[test]
pub fn rot_is_found_told_again_and_mended() {
    let own = Collection::of(&[
        ("a.rom", b"kelp courier"),
        ("b.rom", b"moth"),
        ("box.zip", &packed(&[("k", b"kelp courier")])),
    ]);
    own.run(&["check"]).expect(0).says("everything that was read is as it was");
    own.rot("a.rom");
    for _ in 0..2 {
        let report = own.run(&["check", "--json"]).expect(1).json();
        let found = &report["mismatches"][0];
        assert_eq!((&found["path"], &found["damage"]), (&own.whole("a.rom").into(), &"rot".into()));
        assert_eq!(found["good_copy"], own.whole("box.zip::k"), "{report}");
        assert_eq!(own.column("--damaged", "damage"), ["rot"]);
    }
    // A scan sees nothing: time and size are as they were. A deep one reads, and does not believe it.
    own.scan().expect(0);
    assert_eq!(own.column("--damaged", "damage"), ["rot"]);
    let deep = own.run(&["scan", "--deep", "--json"]).expect(1).json();
    assert_eq!(deep["rotten"][0], own.whole("a.rom"));
    own.rot("a.rom");
    let report = own.run(&["check", "--json"]).expect(0).json();
    assert_eq!(report["mended"][0], own.whole("a.rom"));
    assert!(own.column("--damaged", "path").is_empty());
}

#[test]
pub fn an_edit_is_told_until_a_scan_takes_it_in() {
    let own = Collection::of(&[("a.rom", b"kelp courier")]);
    std::thread::sleep(std::time::Duration::from_millis(20));
    own.put("a.rom", b"kelp carrier");
    let report = own.run(&["check", "--json"]).expect(1).json();
    assert_eq!(
        (&report["mismatches"][0]["damage"], &report["mismatches"][0]["good_copy"]),
        (&"edited".into(), &serde_json::Value::Null)
    );
    assert_eq!(own.scan().expect(0).json()["changed"], 1);
    own.run(&["check"]).expect(0);
    fs::remove_file(own.at("shelf/a.rom")).unwrap();
    own.run(&["check"]).expect(1).says("unread").says("a.rom");
}

#[test]
pub fn a_good_copy_is_read_before_it_is_told() {
    let own = Collection::of(&[("a.rom", b"kelp courier"), ("b.rom", b"kelp courier")]);
    own.rot("a.rom");
    own.rot("b.rom");
    let report = own.run(&["check", "--json", "--jobs", "1"]).expect(1).json();
    assert_eq!(report["mismatches"].as_array().unwrap().len(), 2);
    assert!(report["mismatches"].as_array().unwrap().iter().all(|m| m["good_copy"].is_null()), "{report}");
}

#[test]
pub fn the_oldest_checks_come_first() {
    let own = Collection::new();
    for number in 0..50 {
        own.put(&format!("{number}.rom"), format!("dump {number}").as_bytes());
    }
    own.scan().expect(0);
    let report = own.run(&["check", "--sample", "10%", "--json"]).expect(0).json();
    assert_eq!((&report["checked"], &report["left"]), (&5.into(), &45.into()));
    assert_eq!(own.run(&["check", "--older-than", "1h", "--json"]).expect(0).json()["checked"], 0);
    assert_eq!(own.run(&["check", "--for", "1h", "--json"]).expect(0).json()["checked"], 50);
    assert_eq!(own.run(&["check", "--for", "0s", "--json"]).expect(0).json()["left"], 50);
    assert_eq!(own.run(&["check", "shelf", "--json"]).expect(0).json()["checked"], 50);
    own.run(&["check", "elsewhere"]).expect(2).says("knows no such place");
    for wrong in [["--sample", "0%"], ["--sample", "101"], ["--for", "soon"], ["--older-than", "5"]] {
        own.run(&["check", wrong[0], wrong[1]]).expect(2);
    }
}

#[test]
pub fn what_has_rotted_is_not_had() {
    let own = Collection::of(&[("a.rom", b"kelp courier")]);
    fs::write(own.at("s.dat"), super::dat("Salt", "1", &[("a", vec![super::entry("a.rom", b"kelp courier")])]))
        .unwrap();
    own.run(&["match", "--dat", "s.dat"]).expect(0);
    assert_eq!(own.json(&["status"])["sets"][0]["complete"], 1);
    own.rot("a.rom");
    own.run(&["check"]).expect(1);
    let set = &own.json(&["status"])["sets"][0];
    assert_eq!((&set["complete"], &set["partial"]), (&0.into(), &1.into()), "{set}");
}
