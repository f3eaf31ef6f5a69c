//! Archives that are taken apart, and files that become archives: proven, taken back, and completed after a kill.

use super::order::{names, picture};
use super::{Collection, dat, entry, packed};
use crate::support::{command, run};
use std::fs;
use std::io::Read;

/// A shelf with a packed game, a loose one, and archives that no set knows as a whole.
fn mixed() -> Collection {
    let own = Collection::new();
    own.put("in/box.zip", &packed(&[("a.rom", b"tide one"), ("b.rom", b"tide two")]));
    own.put("in/half.zip", &packed(&[("k.rom", b"kelp"), ("read me.txt", b"who knows")]));
    own.put("loose/x.rom", b"moth in the light, moth in the light, moth in the light");
    own.put("loose/y.rom", b"moth at dusk");
    let games = [
        ("Tide", vec![entry("Tide (1).rom", b"tide one"), entry("Tide (2).rom", b"tide two")]),
        ("Kelp", vec![entry("Kelp.rom", b"kelp")]),
        (
            "Moth",
            vec![
                entry("Moth (1).rom", b"moth in the light, moth in the light, moth in the light"),
                entry("sub/Moth (2).rom", b"moth at dusk"),
            ],
        ),
    ];
    fs::write(own.at("s.dat"), dat("Salt", "1", &games)).unwrap();
    own.scan().expect(0);
    own.run(&["match", "--dat", "s.dat"]).expect(0);
    own
}

fn in_zip(path: &std::path::Path) -> Vec<(String, Vec<u8>)> {
    let mut archive = zip::ZipArchive::new(fs::File::open(path).unwrap()).unwrap();
    let mut found = Vec::new();
    for number in 0..archive.len() {
        let mut file = archive.by_index(number).unwrap();
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes).unwrap();
        found.push((file.name().unwrap().into_owned(), bytes));
    }
    found
}

#[test]
pub fn archives_are_taken_apart_and_put_together_again() {
    let own = mixed();
    let before = picture(&own.at("shelf"));
    let plan = own.run(&["tidy", "--plan", "p.toml", "--archives", "loose", "--json"]).expect(0).json();
    assert_eq!((&plan["unpack"], &plan["pack"]), (&1.into(), &0.into()), "{plan}");
    assert_eq!(plan["taken"][0], own.whole("in/half.zip"), "a set does not know all of it");
    assert_eq!(picture(&own.at("shelf")), before);
    own.run(&["tidy", "--apply", "p.toml", "--dry-run"]).expect(0).says("would move");
    own.run(&["tidy", "--apply", "p.toml"]).expect(0).says("repacked");
    let there = names(&own.at("shelf"));
    for name in ["Salt/Tide/Tide (1).rom", "Salt/Tide/Tide (2).rom", ".retired/in/box.zip", "Salt/Kelp.zip"] {
        assert!(there.iter().any(|n| n == name), "{name}: {there:?}");
    }
    assert_eq!(fs::read(own.at("shelf/Salt/Tide/Tide (2).rom")).unwrap(), b"tide two");
    let status = own.json(&["status"]);
    assert_eq!((&status["sets"][0]["complete"], &status["counts"]["missing"]), (&3.into(), &0.into()), "{status}");
    let scan = own.scan().expect(0).json();
    assert_eq!((&scan["bytes_read"], &scan["gone"]), (&0.into(), &0.into()), "the catalogue knows it: {scan}");
    own.run(&["tidy", "--undo", "p.toml"]).expect(0);
    assert_eq!(picture(&own.at("shelf")), before);
    assert_eq!(own.json(&["status"])["sets"][0]["complete"], 3);
    assert_eq!(own.scan().expect(0).json()["gone"], 0);
}

#[test]
pub fn files_become_an_archive_for_each_game() {
    let own = mixed();
    let before = picture(&own.at("shelf"));
    let plan = own.run(&["tidy", "--plan", "p.toml", "--archives", "zip", "--json"]).expect(0).json();
    assert_eq!((&plan["unpack"], &plan["pack"]), (&0.into(), &1.into()), "{plan}");
    own.run(&["tidy", "--apply", "p.toml"]).expect(0);
    let found = in_zip(&own.at("shelf/Salt/Moth.zip"));
    let names: Vec<&str> = found.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["Moth (1).rom", "sub/Moth (2).rom"]);
    assert_eq!(found[1].1, b"moth at dusk");
    assert!(!own.at("shelf/loose").exists(), "nothing was left in it");
    let bytes = fs::read(own.at("shelf/Salt/Moth.zip")).unwrap();
    assert_eq!(own.json(&["status"])["sets"][0]["complete"], 3);
    run(own.root(), &["verify", "--against", "s.dat", "shelf/Salt/Moth.zip"]).expect(0);
    own.run(&["tidy", "--undo", "p.toml"]).expect(0);
    assert_eq!(picture(&own.at("shelf")), before);
    own.run(&["tidy", "--apply", "p.toml"]).expect(0);
    assert!(fs::read(own.at("shelf/Salt/Moth.zip")).unwrap() == bytes, "the same files, the same archive");
}

#[test]
fn what_is_not_what_the_catalogue_knows_stays() {
    let own = mixed();
    own.run(&["tidy", "--plan", "p.toml", "--archives", "zip"]).expect(0);
    // Rot: the time says nothing.
    own.rot("loose/y.rom");
    let report = own.run(&["tidy", "--apply", "p.toml", "--json"]).expect(1).json();
    assert!(report["stays"][0]["why"].as_str().unwrap().contains("does not have the bytes"), "{report}");
    assert!(own.at("shelf/loose/x.rom").exists() && !own.at("shelf/Salt/Moth.zip").exists());
    own.run(&["tidy", "--undo", "p.toml"]).expect(0);
    // A name in the archive that is wrong, a digest that is none.
    let own = mixed();
    own.run(&["tidy", "--plan", "p.toml", "--archives", "loose"]).expect(0);
    let plan = fs::read_to_string(own.at("p.toml")).unwrap();
    for (from, to, code, words) in [
        ("name = \"a.rom\"", "name = \"../a.rom\"", 2, "leads out of its place"),
        ("name = \"a.rom\"", "name = \"gone.rom\"", 1, "stays"),
        ("to = \"Salt/Tide/Tide (1).rom\"", "to = \"in/half.zip\"", 2, "something stands at"),
        ("to = \"Salt/Tide/Tide (1).rom\"", "to = \"/etc/x\"", 2, "leads out of its place"),
        ("to = \"Salt/Tide/Tide (1).rom\"", "to = \"Salt/Tide/Tide (2).rom\"", 2, "gives, too"),
        ("sha1 = \"", "sha1 = \"x", 2, "is none"),
    ] {
        assert!(plan.contains(from), "{plan}");
        fs::write(own.at("q.toml"), plan.replacen(from, to, 1)).unwrap();
        own.run(&["tidy", "--apply", "q.toml"]).expect(code).says(words);
        assert!(own.at("shelf/in/box.zip").exists(), "{words}");
        if code == 1 {
            own.run(&["tidy", "--undo", "q.toml"]).expect(0);
        }
    }
}

#[test]
fn a_killed_run_is_completed_or_taken_back() {
    for undoes in [false, true] {
        let own = Collection::new();
        let mut games = Vec::new();
        for number in 0..60 {
            let bytes = format!("game {number} {}", "x".repeat(30_000)).into_bytes();
            own.put(&format!("{number}.zip"), &packed(&[("g.rom", &bytes)]));
            games.push((format!("Game {number}"), vec![entry(&format!("Game {number}.rom"), &bytes)]));
        }
        let games: Vec<(&str, Vec<String>)> = games.iter().map(|(n, e)| (n.as_str(), e.clone())).collect();
        fs::write(own.at("s.dat"), dat("Salt", "1", &games)).unwrap();
        own.scan().expect(0);
        own.run(&["match", "--dat", "s.dat"]).expect(0);
        let before = picture(&own.at("shelf"));
        own.run(&["tidy", "--plan", "p.toml", "--archives", "loose"]).expect(0);
        for wait in [3, 10, 25, 60] {
            let words = ["cellar", "tidy", "--cellar", own.cellar(), "--apply", "p.toml"];
            let mut child = command(own.root()).args(words).spawn().unwrap();
            std::thread::sleep(std::time::Duration::from_millis(wait));
            child.kill().unwrap();
            child.wait().unwrap();
        }
        match undoes {
            true => {
                if own.at("p.toml.journal").exists() {
                    own.run(&["tidy", "--undo", "p.toml"]).expect(0);
                }
                assert_eq!(picture(&own.at("shelf")), before);
            }
            false => {
                let ended = own.run(&["tidy", "--apply", "p.toml"]);
                assert!(ended.code == 0 || ended.err.contains("applied already"), "{ended:?}");
                let there = names(&own.at("shelf"));
                assert_eq!(there.iter().filter(|name| name.starts_with("Salt/Game ")).count(), 60, "{there:?}");
                assert_eq!(own.scan().expect(0).json()["files"], 60);
                assert_eq!(own.json(&["status"])["sets"][0]["complete"], 60);
                own.run(&["tidy", "--undo", "p.toml"]).expect(0);
                assert_eq!(picture(&own.at("shelf")), before);
            }
        }
    }
}
