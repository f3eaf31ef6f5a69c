//! The same disc in other states: bytes changed between files, at its ends, and around it.

use crate::support::{command, demo, folder, key_hex, lonely_image, run, text};
use std::fs;
use std::path::Path;

/// A copy of the image with one byte changed, in a folder of its own with the key.
fn changed(at: impl Fn(&[u8]) -> usize) -> (tempfile::TempDir, String) {
    let (folder, image) = lonely_image();
    let mut bytes = fs::read(&image).unwrap();
    let at = at(&bytes);
    bytes[at] ^= 0x5a;
    fs::write(&image, bytes).unwrap();
    fs::copy(&demo().key, folder.path().join("DCNT-10001.dkey")).unwrap();
    let path = text(&image).to_owned();
    (folder, path)
}

fn verify(image: &str) -> serde_json::Value {
    let run = run(Path::new("/"), &["verify", "--json", image, "--against", text(&demo().description)]);
    let json = run.json();
    json["sources"][0].clone()
}

fn range<'a>(report: &'a serde_json::Value, name: &str) -> &'a serde_json::Value {
    report["ranges"].as_array().unwrap().iter().find(|r| r["name"] == name).unwrap()
}

#[test]
fn a_change_in_the_header_names_its_sector() {
    let (_folder, image) = changed(|_| 2048 + 0x400);
    let report = verify(&image);
    assert_eq!(report["verdict"], "differs");
    assert_eq!(report["counts"]["differing"], 0);
    assert_eq!(range(&report, "header")["note"], "sectors 1");
    assert_eq!(range(&report, "region 0")["state"], "differs");
}

#[test]
fn a_change_in_the_footer_is_found() {
    let (_folder, image) = changed(|bytes| bytes.len() - 5);
    let report = verify(&image);
    assert_eq!((report["verdict"].as_str(), report["counts"]["matching"].as_u64()), (Some("differs"), Some(40)));
    assert_eq!(range(&report, "footer")["state"], "differs");
}

#[test]
fn a_change_between_two_files_is_found_by_its_region() {
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    // The tail of the last sector of a small encrypted file belongs to no file.
    let file = kelp.disc.tree.find("PS3_GAME/PARAM.SFO").unwrap().file().unwrap().spans[0].clone();
    let (_folder, image) = changed(|_| file.end.next_multiple_of(2048) as usize - 1);
    let report = verify(&image);
    assert_eq!((report["verdict"].as_str(), report["counts"]["matching"].as_u64()), (Some("differs"), Some(40)));
    assert_eq!(range(&report, "region 1")["state"], "differs");
}

#[test]
fn one_changed_bit_in_a_picture_names_the_picture() {
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    let file = kelp.disc.tree.find("PS3_GAME/PIC1.PNG").unwrap().file().unwrap().spans[0].clone();
    let (_folder, image) = changed(|_| file.start as usize + 3000);
    let report = verify(&image);
    let differing: Vec<_> = report["files"].as_array().unwrap().iter().filter(|f| f["state"] == "differs").collect();
    assert_eq!((differing.len(), differing[0]["path"].as_str()), (1, Some("PS3_GAME/PIC1.PNG")));
    assert_ne!(differing[0]["expected"]["hex"], differing[0]["found"]["hex"]);
}

#[test]
fn bytes_after_the_end_are_told_and_carried_over() {
    let (folder, image) = lonely_image();
    let mut bytes = fs::read(&image).unwrap();
    bytes.extend(b"left by a ripper");
    fs::write(&image, &bytes).unwrap();
    let words = ["verify", text(&image), "--against", text(&demo().description), "--key", &key_hex()];
    run(folder.path(), &words).expect(0).says("16 bytes follow after the end");
    run(folder.path(), &["decrypt", text(&image), "--key", &key_hex(), "-o", "out.iso"]).expect(0);
    assert!(fs::read(folder.path().join("out.iso")).unwrap().ends_with(b"left by a ripper"));
}

#[test]
fn without_a_description_the_structure_is_checked_and_said_to_be_all() {
    let (folder, image) = lonely_image();
    run(folder.path(), &["verify", text(&image), "--key", &key_hex()]).expect(0).says("READABLE").says("--against");
    let json = run(folder.path(), &["verify", text(&image), "--json"]).expect(0).json();
    assert!(json["sources"][0]["against"].is_null());
    assert_eq!(json["sources"][0]["verdict"], "readable");
}

#[test]
fn a_decrypted_image_verifies_with_and_without_its_key() {
    let folder = folder();
    run(folder.path(), &["decrypt", text(&demo().image), "-o", "plain.iso"]).expect(0);
    let against = text(&demo().description);
    // Without the key the regions' digests, which are of the ciphertext, cannot be computed; the files prove it.
    let json = run(folder.path(), &["verify", "plain.iso", "--against", against, "--json"]).expect(0).json();
    assert_eq!(range(&json["sources"][0], "region 1")["state"], "unchecked");
    assert_eq!(json["sources"][0]["verdict"], "sound", "not all that is described was compared");
    let words = ["verify", "plain.iso", "--against", against, "--key", &key_hex(), "--json"];
    let json = run(folder.path(), &words).expect(0).json();
    assert_eq!(range(&json["sources"][0], "region 1")["state"], "match");
    assert_eq!(range(&json["sources"][0], "region 1")["note"], "as on the disc");
}

#[test]
fn what_a_decryption_left_of_a_blank_sector_is_recognised() {
    let folder = folder();
    run(folder.path(), &["decrypt", text(&demo().damaged), "-o", "plain.iso", "--keep-damage"]).expect(1);
    let words = ["verify", "plain.iso", "--against", text(&demo().description)];
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    run(folder.path(), &words)
        .expect(1)
        .says("what a blank sector decrypts to")
        .says(&format!("sector {}:", kelp.damaged_sector));
}

#[test]
fn a_rehearsal_writes_nothing_and_tells_the_same() {
    let folder = folder();
    run(folder.path(), &["decrypt", text(&demo().image), "--dry-run"])
        .expect(0)
        .says("would write Kelp Courier (decrypted).iso");
    run(folder.path(), &["extract", text(&demo().image), "--dry-run"]).expect(0).says("would write").says("40 files");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
}

#[test]
fn the_default_names_are_the_sources_own() {
    let folder = folder();
    run(folder.path(), &["decrypt", text(demo().archive.as_ref().unwrap())]).expect(0);
    assert!(folder.path().join("Kelp Courier.iso").exists());
    run(folder.path(), &["decrypt", text(demo().archive.as_ref().unwrap())]).expect(2).says("already exists");
    run(folder.path(), &["decrypt", text(demo().archive.as_ref().unwrap()), "--replace", "-q"]).expect(0);
    run(folder.path(), &["extract", text(demo().archive.as_ref().unwrap()), "--only", "PARAM.SFO"]).expect(0);
    assert!(folder.path().join("Kelp Courier/PS3_GAME/PARAM.SFO").exists());
}

#[test]
fn every_json_object_names_its_schema() {
    let folder = folder();
    let image = text(&demo().image);
    let commands: [(&str, &[&str]); 8] = [
        ("decanter.identify/1", &["identify", image]),
        ("decanter.list/1", &["list", image]),
        ("decanter.verify/1", &["verify", image]),
        ("decanter.digest/1", &["digest", image]),
        ("decanter.extract/1", &["extract", image, "-o", "x"]),
        ("decanter.decrypt/1", &["decrypt", image, "-o", "y.iso"]),
        ("decanter.keys/1", &["keys", image]),
        ("decanter.formats/1", &["formats"]),
    ];
    for (schema, words) in commands {
        let all = [words, &["--json"]].concat();
        assert_eq!(run(folder.path(), &all).expect(0).json()["schema"], schema);
    }
}

#[test]
fn colours_come_only_where_they_are_wanted() {
    let image = text(&demo().image);
    let shown = |when: &str| run(Path::new("/"), &["identify", image, "--color", when]).expect(0).out;
    assert!(shown("always").contains('\u{1b}'));
    assert!(!shown("never").contains('\u{1b}') && !shown("auto").contains('\u{1b}'), "a pipe is no terminal");
}

#[test]
fn a_closed_pipe_is_no_error() {
    let mut child = crate::support::command(Path::new("/"))
        .args(["list", text(&demo().image)])
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let ended = child.wait_with_output().unwrap();
    assert!(ended.status.success() && ended.stderr.is_empty(), "{ended:?}");
}

#[test]
fn files_in_folders_are_reached_by_address_too() {
    let folder = folder();
    fs::create_dir(folder.path().join("crate 9")).unwrap();
    fs::copy(&demo().image, folder.path().join("crate 9/kelp.iso")).unwrap();
    run(folder.path(), &["list", "crate 9"]).expect(0).says("kelp.iso");
    run(folder.path(), &["list", "crate 9::kelp.iso::PS3_UPDATE"]).expect(0).says("PS3UPDAT.PUP");
    // A name that really has colons in it is taken as it stands.
    fs::copy(&demo().description, folder.path().join("a::b.ird")).unwrap();
    run(folder.path(), &["identify", "a::b.ird"]).expect(0).says("disc description");
}

#[test]
fn an_answer_that_nobody_can_see_is_an_error_and_one_that_nobody_wants_is_none() {
    use std::fs::OpenOptions;
    use std::process::Stdio;
    let folder = folder();
    // As a shell, and as other programs send an output nowhere: for writing, or for both.
    for reads in [false, true] {
        let null = OpenOptions::new().read(reads).write(true).open("/dev/null").unwrap();
        let status = command(folder.path()).arg("formats").stdout(Stdio::from(null)).status().unwrap();
        assert_eq!(status.code(), Some(0));
    }
    let full = OpenOptions::new().write(true).open("/dev/full").unwrap();
    let output =
        command(folder.path()).arg("formats").stdout(Stdio::from(full)).stderr(Stdio::piped()).spawn().unwrap();
    let output = output.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(5));
    assert!(String::from_utf8_lossy(&output.stderr).contains("cannot write the output"));
    let program = assert_cmd::cargo::cargo_bin!("decanter").display().to_string();
    let closed = std::process::Command::new("sh").args(["-c", &format!("'{program}' formats >&-")]).output().unwrap();
    assert_eq!(closed.status.code(), Some(5));
    assert!(String::from_utf8_lossy(&closed.stderr).contains("it is closed"));
}
