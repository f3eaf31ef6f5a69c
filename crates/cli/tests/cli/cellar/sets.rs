//! Sets: known, unknown, doubled, damaged and missing, as counts, lists and tables.

use super::{Collection, dat, entry, packed};
use crate::support::noise;
use decanter_core::Algorithm;
use decanter_core::digest::of_bytes;
use std::fs;

/// A collection with something of every kind, and its set.
fn of_all_kinds() -> Collection {
    let own = Collection::new();
    own.put("Fogbell.rom", b"fogbell");
    own.put("old/tt1.rom", b"tide one");
    own.put("Moth.rom", b"moth, worn");
    own.put("copies/fog.rom", b"fogbell");
    own.put("box.zip", &packed(&[("Kelp.rom", b"kelp")]));
    own.put("odd.zip", &packed(&[("Kelp.rom", b"kelp"), ("who.rom", b"who knows")]));
    own.put("stranger.rom", b"stranger");
    own.put("Worn.rom", b"a bad dump");
    let bad = entry("Worn.rom", b"a bad dump").replace("/>", " status=\"baddump\"/>");
    let lost = "<rom name=\"Lost.rom\" size=\"4\" status=\"nodump\"/>".to_owned();
    let games = [
        ("Fogbell", vec![entry("Fogbell.rom", b"fogbell")]),
        ("Tide", vec![entry("Tide (1).rom", b"tide one"), entry("Tide (2).rom", b"tide two")]),
        ("Moth", vec![entry("Moth.rom", b"moth, good")]),
        ("Kelp", vec![entry("Kelp.rom", b"kelp")]),
        ("Gone", vec![entry("Gone.rom", b"gone")]),
        ("Lost", vec![lost.clone()]),
        ("Half lost", vec![entry("Half.rom", b"half"), lost]),
        ("Worn", vec![bad]),
    ];
    fs::write(own.at("salt.dat"), dat("Salt", "1", &games)).unwrap();
    own.scan().expect(0);
    own.run(&["match", "--dat", "salt.dat"]).expect(0);
    own
}

#[test]
pub fn everything_is_of_one_kind() {
    let own = of_all_kinds();
    let status = own.json(&["status"]);
    let set = &status["sets"][0];
    let games = ["games", "complete", "partial", "missing", "not_dumped"].map(|name| set[name].as_u64().unwrap());
    assert_eq!(games, [8, 3, 2, 2, 1], "{set}");
    assert_eq!((&set["entries"], &set["have"]), (&8.into(), &4.into()));
    let counts = &status["counts"];
    let count = |name: &str| counts[name].as_u64().unwrap();
    assert_eq!([count("files"), count("known_bad"), count("damaged"), count("missing")], [8, 1, 1, 3], "{counts}");
    assert_eq!([count("matching"), count("renamed"), count("unknown"), count("doubles")], [3, 2, 2, 2], "{counts}");

    let mut missing = own.column("--missing", "name");
    missing.sort();
    assert_eq!(missing, ["Gone.rom", "Half.rom", "Tide (2).rom"]);
    assert_eq!(own.column("--damaged", "path"), [own.whole("Moth.rom")]);
    assert_eq!(own.column("--damaged", "damage"), ["differs"]);
    let mut unknown = own.column("--unknown", "path");
    unknown.sort();
    assert_eq!(unknown, [own.whole("odd.zip::who.rom"), own.whole("stranger.rom")]);
    let doubles = own.column("--doubles", "path");
    let expected = ["Fogbell.rom", "copies/fog.rom", "box.zip::Kelp.rom", "odd.zip::Kelp.rom"].map(|n| own.whole(n));
    assert_eq!(doubles.len(), 4);
    assert!(expected.iter().all(|path| doubles.contains(path)), "{doubles:?}");
}

#[test]
pub fn tables_have_a_head_and_the_rows_of_the_objects() {
    let own = of_all_kinds();
    for list in ["--missing", "--damaged", "--unknown", "--doubles"] {
        let table = own.run(&["status", list, "--csv"]).expect(0).out;
        let lines: Vec<&str> = table.lines().collect();
        let rows = own.json(&["status", list])["rows"].as_array().unwrap().len();
        assert_eq!(lines.len(), rows + 1, "{table}");
        assert!(lines[0].split(',').all(|name| !name.is_empty() && !name.contains(' ')), "{}", lines[0]);
    }
    let sets = own.run(&["status", "--csv"]).expect(0).out;
    assert!(sets.starts_with("name,version,games,complete,partial,missing"), "{sets}");
    assert!(sets.lines().nth(1).unwrap().starts_with("Salt,1,8,3,2,2,1,8,4,"), "{sets}");
    let have = own.run(&["status", "--names", "have"]).expect(0).out;
    assert_eq!(have.lines().collect::<Vec<_>>(), ["Fogbell.rom", "Tide (1).rom", "Kelp.rom", "Worn.rom"]);
    let missing = own.run(&["status", "--names", "missing"]).expect(0).out;
    assert_eq!(missing.lines().collect::<Vec<_>>(), ["Tide (2).rom", "Moth.rom", "Gone.rom", "Half.rom"]);
    own.run(&["status", "--set", "Salt"]).expect(0).says("Tide").says("partial");
    own.run(&["status", "--set", "Slat"]).expect(2).says("did you mean Salt?");
}

#[test]
pub fn verdicts_are_those_of_verify() {
    let own = of_all_kinds();
    let verified = crate::support::run(own.root(), &["verify", "shelf", "--against", "salt.dat", "--json"]).json();
    let mut unknown: Vec<String> = verified["matches"]["files"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["state"] == "unknown")
        .map(|f| own.whole(f["path"].as_str().unwrap().strip_prefix("shelf/").unwrap()))
        .collect();
    let mut own_unknown = own.column("--unknown", "path");
    unknown.sort();
    own_unknown.sort();
    assert_eq!(unknown, own_unknown);
    for (state, name) in [("match", "matching"), ("other-name", "renamed"), ("known-bad", "known_bad")] {
        let count = verified["matches"]["files"].as_array().unwrap().iter().filter(|f| f["state"] == state).count();
        assert_eq!(own.json(&["status"])["counts"][name], count, "{state}");
    }
}

#[test]
pub fn a_set_comes_in_versions() {
    let own = Collection::of(&[("a.rom", b"one")]);
    let put = |file: &str, version: &str, bytes: &[u8]| {
        fs::write(own.at(file), dat("Salt", version, &[("a", vec![entry("a.rom", bytes)])])).unwrap();
    };
    put("old.dat", "9", b"one");
    put("new.dat", "10", b"two");
    own.run(&["match", "--dat", "new.dat"]).expect(0).says("brought in");
    assert_eq!(own.column("--damaged", "path").len(), 1);
    own.run(&["match", "--dat", "old.dat"]).expect(0).says("kept; a newer version is held against");
    assert_eq!(own.column("--damaged", "path").len(), 1, "10 is newer than 9");
    own.run(&["match", "--dat", "new.dat", "old.dat"]).expect(0).says("was known already");
    let set = &own.json(&["status"])["sets"][0];
    assert_eq!((&set["version"], &set["other_versions"][0]), (&"10".into(), &"9".into()));
    put("again.dat", "8", b"one");
    own.run(&["match", "--dat", "again.dat", "--replace"]).expect(0);
    let set = &own.json(&["status"])["sets"][0];
    assert_eq!((&set["version"], &set["other_versions"]), (&"8".into(), &serde_json::json!([])));
    assert!(own.column("--damaged", "path").is_empty());
}

#[test]
pub fn a_set_that_is_broken_changes_nothing() {
    let own = of_all_kinds();
    let before = own.json(&["status"]);
    let good = dat("Other", "1", &[("x", vec![entry("x.rom", b"x")])]);
    let broken = [
        (good.replace("</game>", ""), "line "),
        (good.replace("size=\"1\"", "size=\"-1\""), "line 4"),
        (good.replace("crc=\"", "crc=\"0"), "line 4"),
        (good.replace("name=\"x.rom\"", "name=\"../x.rom\""), "leads out"),
        (good.replace("name=\"x.rom\"", "name=\"/etc/x.rom\""), "leads out"),
        (good[..good.len() - 14].to_owned(), "line "),
    ];
    fs::write(own.at("good.dat"), &good).unwrap();
    for (text, words) in broken {
        fs::write(own.at("broken.dat"), &text).unwrap();
        let run = own.run(&["match", "--dat", "good.dat", "broken.dat"]);
        assert!(run.code == 2 || run.code == 3, "{run:?}");
        run.says("broken.dat").says(words);
        assert_eq!(own.json(&["status"]), before, "nothing of it was brought in: {text}");
    }
    own.run(&["match", "--dat", "shelf/Fogbell.rom"]).expect(3);
    own.run(&["match", "--dat", "gone.dat"]).expect(5);
}

#[test]
pub fn other_digests_are_read_for_when_a_set_needs_them() {
    let own = Collection::of(&[("a.rom", b"kelp"), ("box.zip", &packed(&[("b.rom", b"moth")])), ("c.rom", b"longer")]);
    let md5 = |name: &str, bytes: &[u8]| {
        let digest = of_bytes(Algorithm::Md5, bytes).hex();
        format!("<rom name=\"{name}\" size=\"{}\" md5=\"{digest}\"/>", bytes.len())
    };
    let games = [("a", vec![md5("a.rom", b"kelp")]), ("b", vec![md5("b.rom", b"moth")])];
    fs::write(own.at("md5.dat"), dat("Old", "1", &games)).unwrap();
    let report = own.json(&["match", "--dat", "md5.dat"]);
    assert_eq!((&report["read_again"], &report["counts"]["matching"]), (&2.into(), &2.into()), "{report}");
    own.put("d.rom", b"kelp");
    own.scan().expect(0);
    assert_eq!(own.json(&["status"])["counts"]["renamed"], 1, "a scan makes them at once from then on");
}

#[test]
pub fn headers_tracks_and_compressed_images_are_looked_through() {
    let demo = crate::support::demo();
    let own = Collection::new();
    for path in [&demo.cue, &demo.cue.with_extension("bin")] {
        fs::copy(path, own.at("shelf").join(path.file_name().unwrap())).unwrap();
    }
    let image = fs::read(demo.cue.with_extension("bin")).unwrap();
    let tracks = crate::support::run(own.root(), &["identify", "shelf/Pier Nine Pinball.cue", "--json"]).json();
    assert_eq!(tracks["sources"][0]["format"], "cue", "{tracks}");
    // The list of the demo has the sheet and the file that its tracks share.
    let sheet = fs::read(&demo.cue).unwrap();
    let whole = [("Pinball", vec![entry("Pier Nine Pinball.cue", &sheet), entry("Pier Nine Pinball.bin", &image)])];
    fs::write(own.at("whole.dat"), dat("Discs", "1", &whole)).unwrap();
    // A cartridge dump with a header of 512 bytes, and the same packed.
    let rom = fs::read(demo.drawer.folder.join("Brine Racer.smc")).unwrap();
    own.put("racer.smc", &rom);
    own.put("racer.zip", &packed(&[("racer.smc", &rom)]));
    let bare = [("Brine Racer", vec![entry("Brine Racer.sfc", &rom[512..])])];
    fs::write(own.at("bare.dat"), dat("Cartridges", "1", &bare)).unwrap();
    own.scan().expect(0);
    own.run(&["match", "--dat", "whole.dat", "bare.dat"]).expect(0);
    let status = own.json(&["status"]);
    assert_eq!(status["sets"][0]["complete"], 1, "{status}");
    assert_eq!(status["sets"][1]["complete"], 1, "{status}");
    assert!(own.column("--unknown", "path").is_empty(), "tracks of a sheet whose file is known say nothing");
}

#[test]
pub fn many_files_and_many_entries_keep_their_numbers() {
    let own = Collection::new();
    let mut games = Vec::new();
    for number in 0..400u64 {
        let bytes = noise(200 + number as usize, number);
        games.push((format!("game {number}"), entry(&format!("{number}.rom"), &bytes)));
        match number % 4 {
            0 => own.put(&format!("{number}.rom"), &bytes),
            1 => own.put(&format!("x{number}.rom"), &bytes),
            2 => own.put(&format!("{number}.rom"), &noise(50, number)),
            _ => {}
        }
    }
    let games: Vec<(&str, Vec<String>)> =
        games.iter().map(|(name, entry)| (name.as_str(), vec![entry.clone()])).collect();
    fs::write(own.at("many.dat"), dat("Many", "1", &games)).unwrap();
    own.scan().expect(0);
    own.run(&["match", "--dat", "many.dat"]).expect(0);
    let status = own.json(&["status"]);
    let set = &status["sets"][0];
    assert_eq!((&set["complete"], &set["partial"], &set["missing"]), (&200.into(), &100.into(), &100.into()));
    assert_eq!((&status["counts"]["damaged"], &status["counts"]["missing"]), (&100.into(), &100.into()));
}
