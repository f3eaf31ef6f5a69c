//! Names that are no text, folders that cannot be read to the end, and what in a folder is no file.

use crate::support::{command, demo, folder, run, text, told, tree};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

/// Runs with words that need not be text.
fn run_raw(folder: &Path, words: &[&OsStr]) -> crate::support::Run {
    told(command(folder).args(words).output().unwrap())
}

/// A program of the demo under a name in a code page of its own.
fn program(folder: &Path) -> PathBuf {
    let from = demo().bench.folder.join("Brine Racer.prg");
    let to = folder.join(OsString::from_vec(b"caf\xe9 1.prg".to_vec()));
    fs::copy(from, &to).unwrap();
    to
}

#[test]
fn a_name_in_any_code_page_is_an_argument_like_others() {
    let folder = folder();
    let path = program(folder.path());
    let name = path.file_name().unwrap();
    run_raw(folder.path(), &[OsStr::new("identify"), name])
        .expect(0)
        .says("caf\\xe9 1.prg\n")
        .says("decanter convert $'caf\\xe9 1.prg' --to d64");
    let json = run_raw(folder.path(), &[OsStr::new("identify"), name, OsStr::new("--json")]).expect(0).json();
    assert_eq!(json["sources"][0]["source"], "caf\u{10ffe9} 1.prg");
    // The default name of a result keeps the byte, and so does the report.
    run_raw(folder.path(), &[OsStr::new("convert"), name, OsStr::new("--to"), OsStr::new("d64")])
        .expect(0)
        .says("wrote caf\\xe9 1.d64");
    let made = folder.path().join(OsStr::from_bytes(b"caf\xe9 1.d64"));
    let words = [OsStr::new("extract"), made.as_os_str(), OsStr::new("-o"), OsStr::new("back"), OsStr::new("--json")];
    let report = run_raw(folder.path(), &words).expect(0).json();
    assert!(report["source"].as_str().unwrap().ends_with("caf\u{10ffe9} 1.d64"), "{report}");
    assert!(tree(&folder.path().join("back"))[0].1 == fs::read(&path).unwrap());
}

#[test]
fn a_source_of_such_a_name_is_never_a_target_and_its_lists_can_be_checked() {
    let folder = folder();
    let path = program(folder.path());
    let before = fs::read(&path).unwrap();
    let words = [
        OsStr::new("convert"),
        path.as_os_str(),
        OsStr::new("--to"),
        OsStr::new("d64"),
        OsStr::new("-o"),
        path.as_os_str(),
        OsStr::new("--replace"),
    ];
    run_raw(folder.path(), &words).expect(2).says("is one of the files that are read");
    assert!(fs::read(&path).unwrap() == before);
    let output = command(folder.path())
        .args([OsStr::new("digest"), OsStr::new("--style"), OsStr::new("sums"), path.file_name().unwrap()])
        .output()
        .unwrap();
    assert!(output.stdout.ends_with(b"  caf\xe9 1.prg\n"), "{:?}", output.stdout);
}

#[test]
fn folders_with_such_names_are_gone_through_and_copied_byte_by_byte() {
    let folder = folder();
    let inner = folder.path().join(OsStr::from_bytes(b"d\xff"));
    fs::create_dir(&inner).unwrap();
    fs::rename(program(folder.path()), inner.join(OsStr::from_bytes(b"x\xfe.prg"))).unwrap();
    run(folder.path(), &["list", "."]).expect(0).says("d\\xff/x\\xfe.prg");
    run(folder.path(), &["verify", "."]).expect(0).says("READABLE").says("d\\xff/x\\xfe.prg");
    run(folder.path(), &["identify", "."]).expect(0).says("decanter convert $'./d\\xff/x\\xfe.prg' --to d64");
    let inside = run(folder.path(), &["extract", ".", "-o", "out"]).expect(2).says("lies in");
    let outside = tempfile::tempdir().unwrap();
    assert!(inside.err.contains("choose a place outside, as in -o /"), "{inside:?}");
    run(folder.path(), &["extract", ".", "-o", text(&outside.path().join("out"))]).expect(0);
    let copy = outside.path().join("out").join(OsStr::from_bytes(b"d\xff/x\xfe.prg"));
    assert!(fs::read(copy).unwrap() == fs::read(inner.join(OsStr::from_bytes(b"x\xfe.prg"))).unwrap());
}

#[test]
fn characters_that_look_like_such_bytes_stay_what_they_are() {
    let folder = folder();
    let name = "a\u{10ff80}b.prg";
    fs::copy(demo().bench.folder.join("Brine Racer.prg"), folder.path().join(name)).unwrap();
    run(folder.path(), &["identify", name]).expect(0).says("C64 program");
    fs::create_dir(folder.path().join("in")).unwrap();
    fs::rename(folder.path().join(name), folder.path().join("in").join(name)).unwrap();
    run(folder.path(), &["extract", "in", "-o", "out"]).expect(0);
    assert_eq!(tree(&folder.path().join("out"))[0].0, name);
}

#[test]
fn what_cannot_be_looked_into_is_a_row_and_the_rest_is_done() {
    let folder = folder();
    let shelf = folder.path().join("shelf");
    fs::create_dir_all(shelf.join("locked")).unwrap();
    fs::rename(program(folder.path()), shelf.join("Racer.prg")).unwrap();
    fs::write(shelf.join("locked/inside.bin"), "x").unwrap();
    fs::set_permissions(shelf.join("locked"), fs::Permissions::from_mode(0o000)).unwrap();
    if fs::read_dir(shelf.join("locked")).is_ok() {
        eprintln!("skipped: whoever runs this may read everything");
        return;
    }
    run(folder.path(), &["list", "shelf"]).expect(5).says("Racer.prg").says("! locked").says("Permission denied");
    run(folder.path(), &["identify", "shelf"]).expect(5).says("C64 program").says("shelf/locked");
    run(folder.path(), &["verify", "shelf"]).expect(5).says("shelf/Racer.prg").says("shelf/locked");
    run(folder.path(), &["digest", "shelf", "-a", "crc32"]).expect(5).says("shelf/Racer.prg").says("shelf/locked");
    run(folder.path(), &["convert", "shelf", "--to", "iso", "-o", "s.iso"]).expect(3);
    assert!(!folder.path().join("s.iso").exists());
    fs::set_permissions(shelf.join("locked"), fs::Permissions::from_mode(0o755)).unwrap();
}

#[test]
fn pipes_and_sockets_in_a_folder_are_passed_over_by_name() {
    let folder = folder();
    fs::create_dir(folder.path().join("shelf")).unwrap();
    fs::rename(program(folder.path()), folder.path().join("shelf/Racer.prg")).unwrap();
    let _socket = std::os::unix::net::UnixListener::bind(folder.path().join("shelf/ear")).unwrap();
    for words in [["list", "shelf"], ["identify", "shelf"], ["verify", "shelf"]] {
        let told = run(folder.path(), &words).expect(0);
        assert_eq!(told.err.matches("shelf/ear is passed over: it is a socket").count(), 1, "{told:?}");
    }
    run(folder.path(), &["extract", "shelf", "-o", text(&folder.path().join("out"))]).expect(0).says("shelf/ear");
    assert_eq!(tree(&folder.path().join("out")).len(), 1);
}

#[test]
fn digests_of_a_folder_are_those_of_its_files_each() {
    let folder = folder();
    fs::create_dir_all(folder.path().join("shelf/deep")).unwrap();
    // Parts of one image among them: here each is a file by itself, as other programs see it.
    for (name, content) in [("a.iso.0", "one"), ("a.iso.1", "two"), ("deep/b", "three")] {
        fs::write(folder.path().join("shelf").join(name), content).unwrap();
    }
    let list = run(folder.path(), &["digest", "shelf", "--style", "sums"]).expect(0);
    assert_eq!(list.out.lines().count(), 3, "{list:?}");
    fs::write(folder.path().join("sums"), &list.out).unwrap();
    let checked = std::process::Command::new("sha256sum").args(["--check", "sums"]).current_dir(folder.path()).output();
    match checked {
        Ok(output) => assert!(output.status.success(), "{output:?}"),
        Err(_) => eprintln!("skipped: there is no sha256sum here"),
    }
    // So it is in a list where a part is named by itself; elsewhere it stands for all of them.
    let one = run(folder.path(), &["digest", "shelf/a.iso.0", "--style", "sums"]).expect(0);
    assert!(list.out.contains(one.out.trim_end()), "{one:?}");
    run(folder.path(), &["digest", "shelf/a.iso.0"]).expect(0).says("bytes        6");
    fs::create_dir(folder.path().join("empty")).unwrap();
    run(folder.path(), &["digest", "empty"]).expect(2).says("there is no file in it");
}
