//! Nothing that is read is ever written, however it is spelled, and nothing is written twice.

use crate::support::{command, demo, folder, link, run, text, told, tree};
use std::fs;
use std::process::Stdio;
use std::time::Duration;

/// A folder with a small copy of everything that commands read.
fn bench() -> tempfile::TempDir {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let d = demo();
    for (from, to) in [
        (&d.image, "kelp.iso"),
        (&d.key, "DCNT10001.dkey"),
        (&d.description, "kelp.ird"),
        (&d.dvd, "lane.iso"),
        (&d.drawer.gb, "fog.gb"),
        (&d.drawer.nes, "tide.nes"),
        (&d.drawer.nds, "post.nds"),
        (&d.drawer.v64, "run.v64"),
        (&d.handheld, "moth.iso"),
    ] {
        fs::copy(from, at(to)).unwrap();
    }
    fs::hard_link(at("kelp.iso"), at("hard.iso")).unwrap();
    link("kelp.iso", &at("soft.iso"));
    fs::write(at("drive.toml"), "image = \"lane.iso\"\n").unwrap();
    fs::write(at("recipe.toml"), "[[title]]\nrom = \"fog.gb\"\nbase = \"base.cia\"\n").unwrap();
    let changed: Vec<u8> = fs::read(at("fog.gb")).unwrap().iter().rev().copied().collect();
    fs::write(at("changed.gb"), changed).unwrap();
    run(folder.path(), &["patch", "make", "fog.gb", "changed.gb", "-o", "fog.ips"]).expect(0).says(", ips");
    assert!(fs::read(at("fog.ips")).unwrap().starts_with(b"PATCH"), "what it is to be called says what it is to be");
    folder
}

/// Every command that writes, told to write over something that it reads.
const COMMANDS: &[&[&str]] = &[
    &["decrypt", "kelp.iso", "-o", "kelp.iso"],
    &["decrypt", "kelp.iso", "-o", "hard.iso"],
    &["decrypt", "kelp.iso", "-o", "soft.iso"],
    &["decrypt", "soft.iso", "-o", "./x/../kelp.iso"],
    &["decrypt", "kelp.iso", "-o", "DCNT10001.dkey"],
    &["decrypt", "kelp.iso", "--verify", "--against", "kelp.ird", "-o", "kelp.ird"],
    &["convert", "run.v64", "--to", "z64", "-o", "run.v64"],
    &["convert", "lane.iso", "--to", "zst", "-o", "lane.iso"],
    &["convert", "fog.gb", "--pad", "128KiB", "-o", "fog.gb"],
    &["convert", "fog.gb", "--join", "changed.gb", "--to", "gb", "-o", "changed.gb"],
    &["convert", "moth.iso", "--to", "cso", "-o", "moth.iso"],
    &["patch", "apply", "fog.gb", "fog.ips", "-o", "fog.gb"],
    &["patch", "apply", "fog.gb", "fog.ips", "-o", "fog.ips"],
    &["patch", "make", "fog.gb", "changed.gb", "-o", "fog.gb"],
    &["patch", "make", "fog.gb", "changed.gb", "-o", "changed.gb"],
    &["label", "post.nds", "-o", "post.nds"],
    &["identify", "lane.iso", "--picture", "lane.iso"],
    &["launcher", "fog.gb", "-o", "fog.gb", "--command", "player", "--icon", "fog.desktop"],
    &["recipe", "new", "fog.gb", "-o", "fog.gb"],
    &["dump", "lane.iso", "-o", "lane.iso"],
    &["dump", "sim:drive.toml", "-o", "lane.iso"],
    &["dump", "sim:drive.toml", "-o", "drive.toml"],
    &["dump", "sim:drive.toml", "-o", "new.iso", "--picture", "lane.iso"],
    &["dump", "sim:drive.toml", "--plan", "new", "-o", "drive.toml"],
    &["extract", "kelp.iso", "-o", "kelp.iso"],
];

#[test]
fn no_source_is_a_target() {
    let folder = bench();
    fs::create_dir(folder.path().join("x")).unwrap();
    fs::copy(folder.path().join("lane.iso"), folder.path().join("fog.desktop")).unwrap();
    let before = tree(folder.path());
    for words in COMMANDS {
        for more in [&[][..], &["--replace"], &["--replace", "--dry-run"]] {
            let run = run(folder.path(), &[words, more].concat());
            assert_eq!(run.code, 2, "{words:?} {more:?}: {run:?}");
        }
        let run = run(folder.path(), &[words, &["--replace"][..]].concat());
        assert!(run.err.contains("one of the files that are read") || words[0] == "extract", "{words:?}: {run:?}");
        assert!(tree(folder.path()) == before, "{words:?} changed something");
    }
}

#[test]
fn what_is_refused_names_a_way_that_works() {
    let folder = bench();
    let refused = run(folder.path(), &["decrypt", "kelp.iso", "-o", "kelp.iso", "--replace"]).expect(2);
    let name = refused.err.split("-o ").nth(1).unwrap().trim().trim_matches('"').to_owned();
    run(folder.path(), &["decrypt", "kelp.iso", "-o", &name]).expect(0);
}

#[test]
fn default_names_are_never_those_of_the_source() {
    let folder = bench();
    run(folder.path(), &["decrypt", "kelp.iso"]).expect(0).says("kelp (decrypted).iso");
    run(folder.path(), &["convert", "fog.gb", "--pad", "128KiB"]).expect(0).says("fog (padded).gb");
    run(folder.path(), &["extract", "lane.iso"]).expect(0).says("wrote lane/");
    run(folder.path(), &["extract", "lane"]).expect(0).says("wrote lane (extracted)/");
    // In a folder, whether it is there or not.
    run(folder.path(), &["convert", "run.v64", "--to", "z64", "-o", "lane"]).expect(0).says("lane/run.z64");
    run(folder.path(), &["convert", "run.v64", "--to", "z64", "-o", "new/deep/"]).expect(0).says("new/deep/run.z64");
}

#[test]
fn nothing_is_extracted_into_what_is_read() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    fs::create_dir_all(at("in/deep")).unwrap();
    fs::write(at("in/a.txt"), "a").unwrap();
    fs::write(at("fix.txt"), "b").unwrap();
    fs::create_dir(at("fixes")).unwrap();
    fs::rename(at("fix.txt"), at("fixes/a.txt")).unwrap();
    for (target, why) in [
        ("in", "files that are read"),
        ("in/copy", "which is read"),
        ("in/deep/er", "which is read"),
        ("./fixes/../in/x", "which is read"),
    ] {
        run(folder.path(), &["extract", "in", "-o", target, "--replace"]).expect(2).says(why);
    }
    let both = ["extract", "in", "-o", "out", "--overlay", "fixes", "--originals"];
    run(folder.path(), &[&both[..], &["in/old"]].concat()).expect(2);
    run(folder.path(), &[&both[..], &["fixes/old"]].concat()).expect(2);
    run(folder.path(), &[&both[..], &["out"]].concat()).expect(2);
    run(folder.path(), &[&both[..], &["old"]].concat()).expect(0);
    assert_eq!(tree(&at("in")), [("a.txt".to_owned(), b"a".to_vec())]);
}

#[test]
fn an_archive_with_an_entry_of_its_own_name_is_not_replaced_by_it() {
    let folder = folder();
    let at = |name: &str| folder.path().join(name);
    let mut writer = zip::ZipWriter::new(fs::File::create(at("box.zip")).unwrap());
    writer.start_file("box.zip", zip::write::SimpleFileOptions::default()).unwrap();
    std::io::Write::write_all(&mut writer, b"not an archive").unwrap();
    writer.finish().unwrap();
    let before = fs::read(at("box.zip")).unwrap();
    run(folder.path(), &["extract", "box.zip", "-o", ".", "--replace"]).expect(2).says("files that are read");
    assert!(fs::read(at("box.zip")).unwrap() == before);
}

#[test]
fn a_pair_of_files_has_two_names() {
    let folder = folder();
    let cue = text(&demo().cue);
    for name in ["a.cue", "b.bin"] {
        run(folder.path(), &["convert", cue, "--to", "cd-raw", "-o", name, "--prove"]).expect(0);
    }
    let names: Vec<String> = tree(folder.path()).into_iter().map(|(n, _)| n).collect();
    assert_eq!(names, ["a.bin", "a.cue", "b.bin", "b.cue"]);
    run(folder.path(), &["verify", "a.cue"]).expect(0).says("SOUND");
}

#[test]
fn an_unfinished_file_that_is_not_ours_is_left_alone() {
    let folder = bench();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("new.iso.incomplete"), "somebody's").unwrap();
    let dump = ["dump", "sim:drive.toml", "-o", "new.iso"];
    run(folder.path(), &dump).expect(2).says("new.iso.incomplete").says("move it away");
    run(folder.path(), &[&dump[..], &["--restart"]].concat()).expect(2);
    assert_eq!(fs::read(at("new.iso.incomplete")).unwrap(), b"somebody's");
    // Nor one that is a link to a source, by whatever kind of link.
    let before = fs::read(at("lane.iso")).unwrap();
    for is_hard in [true, false] {
        fs::remove_file(at("new.iso.incomplete")).unwrap();
        match is_hard {
            true => fs::hard_link(at("lane.iso"), at("new.iso.incomplete")).unwrap(),
            false => link("lane.iso", &at("new.iso.incomplete")),
        }
        fs::write(at("new.iso.map"), "# decanter map 1\nsectors 10\nsector-bytes 2048\npasses 0\n0 9 untried\n")
            .unwrap();
        let code = run(folder.path(), &[&dump[..], &["--sectors", "10"]].concat()).code;
        assert!(code == 2 || code == 5, "{code}");
        assert!(fs::read(at("lane.iso")).unwrap() == before);
    }
}

#[test]
fn two_runs_onto_one_target_are_refused_and_leftovers_are_removed() {
    let folder = bench();
    let at = |name: &str| folder.path().join(name);
    fs::write(at("slow.toml"), "image = \"lane.iso\"\nbytes_per_second = 200000\n").unwrap();
    let mut child = command(folder.path())
        .args(["dump", "sim:slow.toml", "-o", "new.iso"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    for _ in 0..300 {
        if !at("new.iso.map").exists() {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
    run(folder.path(), &["dump", "sim:drive.toml", "-o", "new.iso"]).expect(2).says("another run is writing");
    child.kill().unwrap();
    child.wait().unwrap();
    // Killed at once after it began, it has a map, and is gone on with.
    run(folder.path(), &["dump", "sim:drive.toml", "-o", "new.iso"]).expect(0).says("going on with an earlier run");
    assert!(fs::read(at("new.iso")).unwrap() == fs::read(at("lane.iso")).unwrap());
    // What a killed run has left is found by the next one, and by hand.
    let left = |name: &str| format!(".{name}.{:08x}.aaaaaa.part", crc32fast::hash(name.as_bytes()));
    fs::write(at(&left("kelp2.iso")), "half").unwrap();
    fs::write(at(&left("other.iso")), "half").unwrap();
    run(folder.path(), &["decrypt", "kelp.iso", "-o", "kelp2.iso"]).expect(0).says("left over from a run");
    assert!(!at(&left("kelp2.iso")).exists() && at(&left("other.iso")).exists());
    run(folder.path(), &["clean", ".", "--dry-run"]).expect(0).says("would remove 1 leftover");
    run(folder.path(), &["clean", "."]).expect(0).says("removed 1 leftover");
    assert!(!at(&left("other.iso")).exists());
}

#[test]
fn targets_are_checked_before_the_work_and_by_a_rehearsal() {
    let folder = bench();
    fs::write(folder.path().join("file"), "x").unwrap();
    let refused: [&[&str]; 4] = [
        &["decrypt", "kelp.iso", "-o", "file/kelp.iso"],
        &["convert", "lane.iso", "--to", "zst", "-o", "file/lane.zst"],
        &["extract", "lane.iso", "-o", "file"],
        &["convert", "lane.iso", "--to", "zst", "-o", "file"],
    ];
    for words in refused {
        let real = run(folder.path(), words);
        let rehearsed = run(folder.path(), &[words, &["--dry-run"]].concat());
        assert!(real.code != 0 && real.code == rehearsed.code && real.err == rehearsed.err, "{words:?}: {rehearsed:?}");
    }
}

#[test]
fn answers_survive_whoever_stops_reading() {
    let folder = folder();
    let mut child = command(folder.path())
        .args(["verify", text(&demo().damaged), "--against", text(&demo().description), "-v"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(1));
    if let Ok(full) = fs::OpenOptions::new().write(true).open("/dev/full") {
        let output = command(folder.path()).args(["formats"]).stdout(Stdio::from(full)).output().unwrap();
        told(output).expect(5).says("cannot write the output");
    }
}

#[cfg(all(unix, not(feature = "std-only")))]
#[test]
fn a_limit_on_the_size_of_files_is_an_error() {
    let folder = bench();
    let program = assert_cmd::cargo::cargo_bin!("decanter");
    let script = format!("ulimit -f 100; exec '{}' decrypt kelp.iso -o big.iso", program.display());
    let output = std::process::Command::new("bash").args(["-c", &script]).current_dir(folder.path()).output();
    // There may be no such shell here.
    if let Ok(output) = output {
        told(output).expect(5);
        assert!(!folder.path().join("big.iso").exists());
    }
}
