//! Text, JSON and exit codes say the same: for every command, where it ends well and where it does not. And every error is
//! told in the same shape: what could not be done, why, and what to do next.

use crate::support::{Run, demo, folder, run, text};
use serde_json::Value;
use std::fs;
use std::path::Path;

/// A folder with a small thing of every kind in it.
fn shelf(folder: &Path) {
    let demo = demo();
    let put = |from: &Path, name: &str| assert!(fs::copy(from, folder.join(name)).is_ok());
    put(&demo.dvd, "lane.iso");
    put(&demo.drawer.gba, "moth.gba");
    put(&demo.drawer.gba_padded, "padded.gba");
    put(&demo.drawer.gb, "run.gb");
    put(&demo.drawer.gb_patched, "patched.gb");
    put(&demo.drawer.patches[0], "run.bps");
    put(&demo.drawer.patches[2], "run.ips");
    put(&demo.drawer.save, "run.sav");
    put(&demo.image, "kelp.iso");
    put(&demo.key, "DCNT-10001.dkey");
    put(&demo.description, "kelp.ird");
    put(&demo.damaged, "damaged.iso");
    put(&demo.short, "short.iso");
    put(&demo.dat, "list.dat");
    put(&demo.scratched, "scratched.bin");
    put(&demo.bench.disk, "disk.d64");
    put(&demo.bench.programs[0], "first.prg");
    fs::write(folder.join("note.txt"), "the tide is out").unwrap();
    fs::write(folder.join("empty.bin"), "").unwrap();
    fs::create_dir(folder.join("nothing")).unwrap();
    fs::write(folder.join("drive.toml"), "image = \"lane.iso\"\n[[bad]]\nfirst = 900\nlast = 901\n").unwrap();
}

/// Commands that change nothing on the shelf, how they end, and the schema of their answer.
const READING: [(&[&str], i32, &str); 43] = [
    (&["identify", "lane.iso"], 0, "identify"),
    (&["identify", "kelp.iso", "moth.gba"], 0, "identify"),
    (&["identify", "note.txt"], 3, "identify"),
    (&["identify", "missing.iso"], 5, "identify"),
    (&["identify", "lane.iso", "note.txt"], 3, "identify"),
    (&["list", "lane.iso"], 0, "list"),
    (&["list", "disk.d64"], 0, "list"),
    (&["list", "note.txt"], 3, "error"),
    (&["list", "missing.iso"], 5, "error"),
    (&["verify", "lane.iso"], 0, "verify"),
    (&["verify", "kelp.iso"], 0, "verify"),
    (&["verify", "damaged.iso", "--against", "kelp.ird"], 1, "verify"),
    (&["verify", "short.iso", "--against", "kelp.ird"], 1, "verify"),
    (&["verify", "scratched.bin"], 1, "verify"),
    (&["verify", "disk.d64"], 1, "verify"),
    (&["verify", "nothing"], 1, "verify"),
    (&["verify", "lane.iso", "--against", "list.dat"], 0, "verify"),
    (&["verify", "lane.iso", "--against", "kelp.ird"], 4, "verify"),
    (&["digest", "lane.iso"], 0, "digest"),
    (&["digest", "lane.iso", "note.txt", "empty.bin"], 0, "digest"),
    (&["digest", "missing.iso"], 5, "error"),
    (&["digest", "nothing"], 2, "error"),
    (&["keys", "kelp.iso"], 0, "keys"),
    (&["extract", "lane.iso", "--dry-run"], 0, "extract"),
    (&["extract", "lane.iso", "--dry-run", "--only", "*.none"], 2, "error"),
    (&["extract", "note.txt", "--dry-run"], 3, "error"),
    (&["decrypt", "kelp.iso", "--dry-run"], 0, "decrypt"),
    (&["decrypt", "lane.iso", "--dry-run"], 2, "error"),
    (&["decrypt", "kelp.iso", "--dry-run", "-o", "kelp.iso", "--replace"], 2, "error"),
    (&["convert", "lane.iso", "--to", "cso", "--dry-run"], 0, "convert"),
    (&["convert", "lane.iso", "--to", "d64", "--dry-run"], 2, "error"),
    (&["convert", "padded.gba", "--trim", "--dry-run"], 0, "convert"),
    (&["convert", "scratched.bin", "--to", "cd-raw", "--repair", "--dry-run"], 1, "convert"),
    (&["convert", "disk.d64", "--to", "d81", "--dry-run"], 3, "error"),
    (&["patch", "show", "run.bps"], 0, "patch-show"),
    (&["patch", "show", "lane.iso"], 2, "error"),
    (&["patch", "apply", "run.gb", "run.bps", "--dry-run"], 0, "patch-apply"),
    (&["patch", "apply", "moth.gba", "run.bps", "--dry-run"], 4, "error"),
    (&["patch", "make", "run.gb", "patched.gb", "--dry-run"], 0, "patch-make"),
    (&["save", "show", "run.sav", "--rom", "run.gb"], 0, "save-show"),
    (&["save", "show", "lane.iso"], 1, "save-show"),
    (&["clean", "."], 0, "clean"),
    (&["formats"], 0, "formats"),
];

fn schema(json: &Value) -> &str {
    json["schema"].as_str().unwrap_or_default()
}

/// What is said of an error has a first line of what, a line of why, and mostly one of what to do.
fn is_well_told(told: &Run) {
    let lines: Vec<&str> = told.err.lines().filter(|l| !l.starts_with("notice:")).collect();
    assert!(lines.first().is_some_and(|l| l.starts_with("error: cannot ")), "{told:?}");
    assert!(lines.len() >= 2 && lines[1..].iter().all(|l| l.starts_with("  ")), "{told:?}");
    for line in &lines {
        assert!(!line.ends_with('.') && !line.contains("  ("), "{line}");
        assert!(!line.contains("Error") && !line.contains("panicked") && !line.contains("unwrap"), "{line}");
    }
}

#[test]
fn text_and_json_end_with_the_same_code_and_json_is_whole() {
    let folder = folder();
    shelf(folder.path());
    let before = fs::read_dir(folder.path()).unwrap().count();
    for (words, code, name) in READING {
        let plain = run(folder.path(), words);
        let json = run(folder.path(), &[words, &["--json"]].concat());
        let shown = words.join(" ");
        assert_eq!(plain.code, json.code, "{shown}: {plain:?} {json:?}");
        assert_eq!(plain.code, code, "{shown}: {plain:?}");
        let value = json.json();
        assert_eq!(schema(&value), format!("decanter.{name}/1"), "{shown}");
        if name == "error" {
            assert!(plain.out.is_empty(), "{shown}: an error is no output: {plain:?}");
            is_well_told(&plain);
            assert_eq!(value["exit_code"], code, "{shown}");
            let first = plain.err.lines().find(|l| l.starts_with("error: ")).unwrap();
            assert_eq!(first.strip_prefix("error: "), value["what"].as_str(), "{shown}");
            assert!(plain.err.contains(value["why"].as_str().unwrap()), "{shown}: {value}");
            if let Some(hint) = value["hint"].as_str() {
                assert!(plain.err.contains(hint), "{shown}: {hint}");
            }
        } else if plain.out.is_empty() {
            // Of several sources none could be checked.
            is_well_told(&plain);
            assert!(value["failed"].as_array().is_some_and(|f| !f.is_empty()), "{shown}: {value}");
        }
    }
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), before, "nothing was written");
}

#[test]
fn quiet_says_nothing_of_what_went_well_and_changes_no_code() {
    let folder = folder();
    shelf(folder.path());
    for (words, code, _) in READING {
        let quiet = run(folder.path(), &[words, &["--quiet"]].concat());
        assert_eq!(quiet.code, code, "{words:?}: {quiet:?}");
    }
}

#[test]
fn the_help_of_every_command_names_every_option_that_it_has_and_no_other() {
    let folder = folder();
    let top = run(folder.path(), &["--help"]).expect(0);
    let commands: Vec<&str> = top
        .out
        .lines()
        .skip_while(|l| !l.starts_with("Commands:"))
        .skip(1)
        .take_while(|l| l.starts_with("  "))
        .filter(|l| !l.starts_with("   "))
        .filter_map(|l| l.split_whitespace().next())
        .filter(|name| *name != "help")
        .collect();
    assert!(commands.len() > 12, "{commands:?}");
    for command in commands {
        let help = run(folder.path(), &[command, "--help"]).expect(0);
        assert!(help.out.contains("Usage: decanter"), "{command}");
        // An option that there is not is refused, and what is near it is named.
        let wrong = run(folder.path(), &[command, "--no-such-option"]);
        assert_eq!(wrong.code, 2, "{command}: {wrong:?}");
        assert!(wrong.err.contains("--no-such-option"), "{command}: {wrong:?}");
    }
}

#[test]
fn what_was_written_is_told_with_what_it_holds() {
    let folder = folder();
    shelf(folder.path());
    let told = |words: &[&str]| run(folder.path(), &[words, &["--json"]].concat()).expect(0).json();
    let report = told(&["convert", "lane.iso", "--to", "zst", "--level", "1", "-o", "lane.zst", "-a", "sha1"]);
    let written = folder.path().join("lane.zst");
    assert_eq!(report["bytes_after"], fs::metadata(&written).unwrap().len());
    assert_eq!(report["files"][0]["path"], "lane.zst");
    // The digest is that of the content, which every packing of it has.
    let digest = told(&["digest", "lane.iso", "-a", "sha1"]);
    assert_eq!(report["digests"][0]["hex"], digest["sources"][0]["digests"][0]["hex"]);
    let report = told(&["extract", "lane.zst", "-o", "files"]);
    let listed = told(&["list", "lane.zst"]);
    let files = listed["entries"].as_array().unwrap().iter().filter(|e| e["kind"] == "file").count();
    assert_eq!(report["files"], files);
    let report = told(&["patch", "apply", "run.gb", "run.bps", "-o", "new.gb"]);
    assert_eq!(report["bytes"], fs::metadata(folder.path().join("new.gb")).unwrap().len());
    assert!(fs::read(folder.path().join("new.gb")).unwrap() == fs::read(&demo().drawer.gb_patched).unwrap());
}

#[test]
fn a_dump_tells_in_json_what_it_tells_in_words() {
    let folder = folder();
    shelf(folder.path());
    let plain = run(folder.path(), &["dump", "sim:drive.toml", "-o", "a.iso", "--passes", "1"]).expect(1);
    let json =
        run(folder.path(), &["dump", "sim:drive.toml", "-o", "b.iso", "--passes", "1", "--json"]).expect(1).json();
    assert_eq!((schema(&json), &json["complete"]), ("decanter.dump/1", &false.into()));
    assert_eq!(json["missing_sectors"], 2);
    assert!(plain.out.contains("sectors 900 to 901") || plain.out.contains("900"), "{plain:?}");
    assert_eq!(json["path"], "b.iso.incomplete");
    for name in ["a.iso.incomplete", "a.iso.map", "b.iso.incomplete", "b.iso.map"] {
        assert!(folder.path().join(name).exists(), "{name}");
    }
    let identity = run(folder.path(), &["identify", "a.iso.incomplete", "--json"]).expect(0).json();
    assert_eq!(identity["sources"][0]["unread_sectors"], 2);
    assert!(text(&folder.path().join("a.iso.map")).ends_with("a.iso.map"));
}
