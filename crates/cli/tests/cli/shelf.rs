//! Many sources: folders, archives, lists; a row each, totals, and the same command once more.

use crate::support::{command, told};
use crate::support::{demo, folder, noise, run, text, tool, tree};
use std::fs;
use std::io::Write;
use std::path::Path;
use std::process::Stdio;

/// A shelf with images in folders, ROMs in an archive, a CD with its sheet, and things that are nothing.
fn shelf(root: &Path) {
    let at = |name: &str| root.join("shelf").join(name);
    fs::create_dir_all(at("deep/er")).unwrap();
    fs::copy(&demo().plain, at("Brine.iso")).unwrap();
    fs::copy(&demo().plain, at("deep/er/Bramble.iso")).unwrap();
    let drawer = demo().plain.parent().unwrap().join("drawer");
    fs::copy(drawer.join("drawer.zip"), at("drawer.zip")).unwrap();
    for name in ["Pier Nine Pinball.cue", "Pier Nine Pinball.bin"] {
        fs::copy(demo().plain.parent().unwrap().join(name), at(&format!("deep/{name}"))).unwrap();
    }
    fs::write(at("note.txt"), "fogbell").unwrap();
}

#[test]
fn a_folder_becomes_a_folder_and_the_second_run_finds_it_there() {
    let folder = folder();
    shelf(folder.path());
    let line = ["convert", "shelf", "--to", "zst", "-o", "kept"];
    let first = run(folder.path(), &line).expect(0);
    assert!(first.out.contains("13 sources: 13 done; 2 files of other kinds"), "{first:?}");
    for made in ["Brine.zst", "deep/er/Bramble.zst", "deep/Pier Nine Pinball.zst", "drawer/Fogbell.zst"] {
        assert!(folder.path().join("kept").join(made).is_file(), "{made}");
    }
    let before = tree(&folder.path().join("kept"));
    fs::remove_file(folder.path().join("kept/Brine.zst")).unwrap();
    run(folder.path(), &line).expect(0).says("13 sources: 1 done, 12 there already").says("kept/Brine.zst");
    assert_eq!(tree(&folder.path().join("kept")), before);
    // Compared in full when that is asked for.
    let proven = run(folder.path(), &[&line[..], &["--prove", "-v"]].concat()).expect(0);
    proven.says("13 there already").says("bytes are identical");
    if tool("zstd", &["-d", "kept/deep/er/Bramble.zst", "-o", "back.iso"], folder.path()).is_some() {
        assert!(fs::read(folder.path().join("back.iso")).unwrap() == fs::read(&demo().plain).unwrap());
    }
}

#[test]
fn what_stands_there_and_is_no_result_is_never_called_one() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("kept")).unwrap();
    fs::copy(&demo().plain, folder.path().join("a.iso")).unwrap();
    fs::copy(&demo().plain, folder.path().join("b.iso")).unwrap();
    let line = ["convert", "a.iso", "b.iso", "--to", "zst", "-o", "kept"];
    // Something else, the result of something else, and one that is cut.
    fs::write(folder.path().join("kept/a.zst"), "kelp").unwrap();
    run(folder.path(), &line).expect(1).says("not the result of this source").says("1 done, 1 failed");
    assert_eq!(fs::read(folder.path().join("kept/a.zst")).unwrap(), b"kelp");
    fs::write(folder.path().join("c.bin"), noise(5000, 1)).unwrap();
    run(folder.path(), &["convert", "c.bin", "--to", "zst", "-o", "kept/a.zst", "--replace"]).expect(0);
    run(folder.path(), &line).expect(1).says("5,000 bytes inside").says("1 there already, 1 failed");
    let whole = fs::read(folder.path().join("kept/b.zst")).unwrap();
    fs::write(folder.path().join("kept/b.zst"), &whole[..whole.len() - 3]).unwrap();
    run(folder.path(), &line).expect(1).says("2 failed");
    run(folder.path(), &[&line[..], &["--replace"]].concat()).expect(0).says("2 done");
    // Something else of the same length: many dumps have it.
    fs::write(folder.path().join("d.bin"), noise(fs::read(&demo().plain).unwrap().len(), 3)).unwrap();
    run(folder.path(), &["convert", "d.bin", "--to", "zst", "-o", "kept/a.zst", "--replace"]).expect(0);
    run(folder.path(), &line).expect(1).says("it has other bytes").says("1 there already, 1 failed");
    run(folder.path(), &[&line[..], &["--replace"]].concat()).expect(0);
    // A byte in the middle.
    let mut bytes = fs::read(folder.path().join("kept/b.zst")).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(folder.path().join("kept/b.zst"), bytes).unwrap();
    run(folder.path(), &line).expect(1).says("1 there already, 1 failed");
    run(folder.path(), &[&line[..], &["--prove"]].concat()).expect(1).says("1 there already, 1 failed");
}

#[test]
fn what_fails_does_not_stop_the_rest_and_decides_the_exit_code() {
    let folder = folder();
    fs::copy(&demo().plain, folder.path().join("a.iso")).unwrap();
    fs::write(folder.path().join("b.iso"), "nothing").unwrap();
    let line = ["convert", "b.iso", "a.iso", "--to", "cso", "-o", "out"];
    run(folder.path(), &line).expect(1).says("FAILED      b.iso").says("1 done, 1 failed");
    assert!(folder.path().join("out/a.cso").is_file());
    let json = run(folder.path(), &[&line[..], &["--json", "--replace"]].concat()).expect(1).json();
    assert_eq!(json["schema"], "decanter.convert-each/1");
    let states: Vec<&str> = json["rows"].as_array().unwrap().iter().map(|r| r["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["failed", "done"]);
    assert!(json["rows"][0]["why"].is_string() && json["rows"][1]["result"]["files"][0]["path"] == "out/a.cso");
    assert_eq!((json["totals"]["done"].as_u64(), json["totals"]["failed"].as_u64()), (Some(1), Some(1)));
    // What is not there at all could not be read.
    run(folder.path(), &["convert", "gone.iso", "a.iso", "--to", "cso", "-o", "new"])
        .expect(5)
        .says("1 done, 1 failed");
    run(folder.path(), &["convert", "b.iso", "a.iso", "--to", "cso"]).expect(2).says("no folder is given");
    run(folder.path(), &["convert", "b.iso", "a.iso", "--to", "cso", "-o", "a.iso"]).expect(2).says("is a file");
    run(folder.path(), &["convert", "b.iso", "a.iso", "--to", "cos", "-o", "out"]).expect(2).says("did you mean cso?");
    run(folder.path(), &["convert", "b.iso", "a.iso", "-o", "out"]).expect(2).says("no target format is given");
}

#[test]
fn an_image_that_is_cut_is_not_passed_over_because_it_fits_nothing_any_more() {
    let folder = folder();
    fs::create_dir(folder.path().join("shelf")).unwrap();
    let image = fs::read(&demo().plain).unwrap();
    fs::write(folder.path().join("shelf/cut.iso"), &image[..100_001]).unwrap();
    fs::write(folder.path().join("shelf/whole.iso"), &image).unwrap();
    run(folder.path(), &["convert", "shelf", "--to", "cso", "-o", "out"]).expect(1).says("1 done, 1 failed");
}

#[test]
fn archives_of_general_tools_are_looked_through_wrapped_or_not() {
    let folder = folder();
    let drawer = demo().plain.parent().unwrap().join("drawer");
    let made = std::process::Command::new("tar")
        .args(["czf", "roms.tgz", "-C", text(&drawer), "Fogbell.gb", "Kelp Dive.sms"])
        .current_dir(folder.path())
        .status();
    let Ok(true) = made.map(|status| status.success()) else { return eprintln!("skipped: there is no tar here") };
    run(folder.path(), &["convert", "roms.tgz", "--to", "zst", "-o", "out"]).expect(0).says("2 done");
    assert!(folder.path().join("out/roms/Fogbell.zst").is_file());
    run(folder.path(), &["identify", "roms.tgz"]).expect(0).says("roms.tgz::roms.tar::Fogbell.gb");
    run(folder.path(), &["extract", "roms.tgz", "-o", "files"]).expect(0);
    assert_eq!(fs::read(folder.path().join("files/Fogbell.gb")).unwrap(), fs::read(drawer.join("Fogbell.gb")).unwrap());
    let bytes = fs::read(folder.path().join("roms.tgz")).unwrap();
    fs::write(folder.path().join("cut.tgz"), &bytes[..bytes.len() - 9]).unwrap();
    run(folder.path(), &["verify", "cut.tgz"]).expect(3).says("ends too early");
}

#[test]
fn an_archive_with_several_images_gives_several_and_never_one_of_all() {
    let folder = folder();
    let drawer = demo().plain.parent().unwrap().join("drawer/drawer.zip");
    run(folder.path(), &["convert", text(&drawer), "--to", "zst"]).expect(2).says("holds").says("::");
    run(folder.path(), &["convert", text(&drawer), "--to", "zst", "-o", "z"]).expect(0).says("done");
    let file = fs::File::create(folder.path().join("two.zip")).unwrap();
    let mut zip = zip::ZipWriter::new(file);
    let image = fs::read(&demo().plain).unwrap();
    for name in ["a/one.iso", "two.iso"] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(&image).unwrap();
    }
    zip.finish().unwrap();
    run(folder.path(), &["convert", "two.zip", "--to", "iso"]).expect(2).says("holds 2 of them");
    run(folder.path(), &["convert", "two.zip", "--to", "cso", "-o", "out"]).expect(0).says("2 done");
    assert!(folder.path().join("out/two/a/one.cso").is_file() && folder.path().join("out/two/two.cso").is_file());
    run(folder.path(), &["extract", "two.zip", "-o", "files"]).expect(0).says("2 done");
    assert!(folder.path().join("files/two/a/one").exists() || folder.path().join("files/two/two").is_dir());
    run(folder.path(), &["extract", "two.zip::", "-o", "images"]).expect(0);
    assert!(fs::read(folder.path().join("images/two.iso")).unwrap() == image);
    run(folder.path(), &["list", "two.zip"]).expect(0).says("two.zip::two.iso");
    // Only when it is asked for.
    run(folder.path(), &["convert", "two.zip", "--to", "iso", "--content", "-o", "all.iso"]).expect(0);
    run(folder.path(), &["list", "all.iso"]).expect(0).says("a/one.iso");
    run(folder.path(), &["convert", "two.zip", "--to", "zst", "--content"]).expect(2).says("--content");
}

#[test]
fn a_list_names_sources_by_lines_or_zero_bytes() {
    let folder = folder();
    for name in ["a b.iso", "c.iso"] {
        fs::copy(&demo().plain, folder.path().join(name)).unwrap();
    }
    fs::write(folder.path().join("list"), "a b.iso\r\nc.iso\n\n").unwrap();
    run(folder.path(), &["convert", "--from", "list", "--to", "cso", "-o", "x"]).expect(0).says("2 done");
    fs::write(folder.path().join("list0"), "c.iso\0a b.iso\0").unwrap();
    run(folder.path(), &["digest", "--from", "list0", "-a", "crc32"]).expect(0).says("a b.iso");
    run(folder.path(), &["identify", "--from", "list0"]).expect(0).says("a b.iso");
    run(folder.path(), &["verify", "--from", "list0"]).expect(0).says("c.iso");
    fs::write(folder.path().join("empty"), "\n").unwrap();
    run(folder.path(), &["list", "--from", "empty"]).expect(2).says("there is nothing in it");
    run(folder.path(), &["list", "--from", "gone"]).expect(5).says("list of sources");
    run(folder.path(), &["list"]).expect(2);
    // The list is read, and so never written.
    run(folder.path(), &["convert", "--from", "list", "--to", "cso", "-o", "y", "--replace"]).expect(0);
    let piped = piped(folder.path(), &["list", "--from", "-"], b"c.iso\n");
    assert!(piped.code == 0 && piped.out.contains("1 source: 1 done"), "{piped:?}");
}

/// Runs with something on standard input.
fn piped(folder: &Path, words: &[&str], input: &[u8]) -> crate::support::Run {
    told(piped_bytes(folder, words, input))
}

fn piped_bytes(folder: &Path, words: &[&str], input: &[u8]) -> std::process::Output {
    let mut child = command(folder);
    let mut child =
        child.args(words).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    child.wait_with_output().unwrap()
}

#[test]
fn results_go_onto_standard_output_where_they_are_one_stream() {
    let folder = folder();
    let image = fs::read(&demo().plain).unwrap();
    let stream = |words: &[&str]| {
        let output = piped_bytes(folder.path(), words, b"");
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        output.stdout
    };
    let zst = stream(&["convert", text(&demo().plain), "--to", "zst", "-o", "-"]);
    fs::write(folder.path().join("a.zst"), &zst).unwrap();
    assert!(stream(&["convert", "a.zst", "--to", "iso", "-o", "-"]) == image, "through zst and back");
    run(folder.path(), &["convert", text(&demo().plain), "--to", "zst", "-o", "b.zst"]).expect(0);
    assert!(fs::read(folder.path().join("b.zst")).unwrap() == zst, "the bytes of the file");
    let listed = run(folder.path(), &["list", text(&demo().plain), "--json"]).json();
    let path = listed["entries"].as_array().unwrap().iter().find(|e| e["kind"] == "file").unwrap();
    let one = stream(&["extract", text(&demo().plain), "--only", path["path"].as_str().unwrap(), "-o", "-"]);
    assert_eq!(Some(one.len() as u64), path["bytes"].as_u64());
    let text_of = |words: &[&str]| String::from_utf8_lossy(&piped_bytes(folder.path(), words, b"").stderr).into_owned();
    let said = text_of(&["extract", text(&demo().plain), "-o", "-"]);
    assert!(said.contains("standard output takes one"), "{said}");
    let cue = demo().plain.parent().unwrap().join("Pier Nine Pinball.cue");
    let said = text_of(&["convert", text(&cue), "--to", "cd-raw", "-o", "-"]);
    assert!(said.contains("two files"), "{said}");
    let said = text_of(&["convert", text(&demo().plain), "--to", "zst", "--prove", "-o", "-"]);
    assert!(said.contains("--prove"), "{said}");
    let wrong = piped_bytes(folder.path(), &["convert", text(&demo().plain), "--to", "nonsense", "-o", "-"], b"");
    assert!(wrong.stdout.is_empty() && wrong.status.code() == Some(2));
}

#[test]
fn standard_input_is_digested_and_patched() {
    let folder = folder();
    let drawer = demo().plain.parent().unwrap().join("drawer");
    let rom = fs::read(drawer.join("Fogbell.gb")).unwrap();
    let bytes = noise(3_000_000, 9);
    let digest = piped(folder.path(), &["digest", "-", "--json"], &bytes);
    fs::write(folder.path().join("same"), &bytes).unwrap();
    let of_file = run(folder.path(), &["digest", "same", "--json"]).json();
    assert_eq!(digest.json()["sources"][0]["digests"], of_file["sources"][0]["digests"]);
    assert_eq!(digest.json()["sources"][0]["bytes"], 3_000_000);
    run(
        folder.path(),
        &["patch", "apply", text(&drawer.join("Fogbell.gb")), text(&drawer.join("Fogbell.bps")), "-o", "new.gb"],
    )
    .expect(0);
    let patched =
        piped_bytes(folder.path(), &["patch", "apply", "-", text(&drawer.join("Fogbell.bps")), "-o", "-"], &rom);
    assert!(patched.status.success() && patched.stdout == fs::read(folder.path().join("new.gb")).unwrap());
    // A wrong file is refused before a byte goes out.
    let wrong =
        piped_bytes(folder.path(), &["patch", "apply", "-", text(&drawer.join("Fogbell.bps")), "-o", "-"], &rom[1..]);
    assert!(!wrong.status.success() && wrong.stdout.is_empty());
}

#[test]
fn a_drawer_of_patches_finds_its_files() {
    let folder = folder();
    let drawer = demo().plain.parent().unwrap().join("drawer");
    let line = ["patch", "apply", text(&drawer), "-o", "new"];
    run(folder.path(), &line).expect(0).says("4 done");
    let of = |name: &str| fs::read(folder.path().join("new").join(name)).unwrap();
    assert_eq!(of("Fogbell (Fogbell).gb"), of("Fogbell (Fogbell) (ups).gb"));
    // The form that the patch expects, under the extension of that form.
    assert_eq!(of("Brine Racer (Brine Racer).sfc").len(), 256 << 10);
    run(folder.path(), &line).expect(0).says("4 there already");
    fs::write(folder.path().join("new/Fogbell (Fogbell).gb"), "x").unwrap();
    run(folder.path(), &line).expect(1).says("not what the patch leads to").says("3 there already, 1 failed");
    run(
        folder.path(),
        &["patch", "apply", text(&drawer.join("Fogbell.bps")), text(&drawer.join("Lamplight.pce")), "-o", "x"],
    )
    .expect(1)
    .says("no file that was given has");
}

#[test]
fn encrypted_images_of_a_shelf_are_decrypted_and_all_others_passed_over() {
    let folder = folder();
    let shelf = demo().plain.parent().unwrap();
    let line = ["decrypt", text(shelf), "-o", "clear"];
    let first = run(folder.path(), &line).expect(1).says("passed over (-v names them)");
    assert!(first.out.contains("2 failed") && first.out.contains("Kelp Courier (damaged).iso"), "{first:?}");
    let again = run(folder.path(), &line).expect(1);
    assert!(again.out.contains("there already") && !again.out.contains(" done"), "{again:?}");
}

#[test]
fn a_few_at_once_or_one_by_one_it_is_the_same() {
    let folder = folder();
    shelf(folder.path());
    let report = |jobs: &str, out: &str| {
        let run = run(folder.path(), &["convert", "shelf", "--to", "zst", "-o", out, "--jobs", jobs]).expect(0);
        (run.out.lines().filter(|l| l.starts_with("done")).count(), tree(&folder.path().join(out)))
    };
    assert_eq!(report("1", "one"), report("8", "eight"));
}

#[test]
fn the_target_follows_from_the_name_where_that_is_clear() {
    let folder = folder();
    let plain = text(&demo().plain);
    run(folder.path(), &["convert", plain, "-o", "a.cso"]).expect(0);
    assert_eq!(&fs::read(folder.path().join("a.cso")).unwrap()[..4], b"CISO");
    run(folder.path(), &["convert", plain, "--to", "CSO", "-o", "b.cso"]).expect(0);
    run(folder.path(), &["convert", plain, "-o", "c.ISO"]).expect(0);
    run(folder.path(), &["convert", plain, "-o", "d.xyz"]).expect(2).says(".xyz names none");
    run(folder.path(), &["convert", plain, "--to", "ISI"]).expect(2).says("did you mean iso?");
}
