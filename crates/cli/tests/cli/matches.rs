//! DAT files and checksum lists: every verdict, in archives and compressed images too.

use crate::support::{demo, folder, run, text};
use std::io::Write;
use std::path::Path;

fn state_of(report: &serde_json::Value, end: &str) -> String {
    let files = report["matches"]["files"].as_array().unwrap();
    let file = files.iter().find(|f| f["path"].as_str().unwrap().ends_with(end));
    file.unwrap_or_else(|| panic!("{end} is missing: {report}"))["state"].as_str().unwrap().to_owned()
}

#[test]
fn a_shelf_against_its_dat_file() {
    let folder = folder();
    let shelf = folder.path().join("shelf");
    std::fs::create_dir(&shelf).unwrap();
    let copy = |from: &Path, to: &str| std::fs::copy(from, shelf.join(to)).unwrap();
    copy(&demo().handheld, "Moth Parade.iso");
    copy(&demo().plain, "bramble.iso");
    copy(&demo().cue.with_extension("bin"), "Pier Nine Pinball.bin");
    let mut bad = std::fs::read(&demo().dvd).unwrap();
    bad[9_000_000] ^= 1;
    std::fs::write(shelf.join("Lamplighter Lane.iso"), bad).unwrap();
    std::fs::write(shelf.join("notes.txt"), "nothing").unwrap();
    let words = ["verify", "shelf", "--against", text(&demo().dat), "--json"];
    let report = run(folder.path(), &words).expect(1).json();
    assert_eq!(state_of(&report, "Moth Parade.iso"), "match");
    assert_eq!(state_of(&report, "bramble.iso"), "other-name");
    assert_eq!(state_of(&report, "Lamplighter Lane.iso"), "differs");
    assert_eq!(state_of(&report, "notes.txt"), "unknown");
    let missing = report["matches"]["missing"].as_array().unwrap();
    assert_eq!(missing.len(), 1, "the cue sheet: {missing:?}");
    assert_eq!(missing[0]["name"], "Pier Nine Pinball.cue");
    run(folder.path(), &words[..4]).expect(1).says("should be called Brine & Bramble.iso").says("SHA-1 should be");
}

#[test]
fn content_counts_in_archives_and_compressed_images() {
    let folder = folder();
    run(folder.path(), &["convert", text(&demo().handheld), "--to", "cso", "-o", "Moth Parade.cso"]).expect(0);
    run(folder.path(), &["convert", text(&demo().plain), "--to", "zst", "-o", "b.zst"]).expect(0);
    let mut zip = zip::ZipWriter::new(std::fs::File::create(folder.path().join("lane.zip")).unwrap());
    zip.start_file("Lamplighter Lane.iso", zip::write::SimpleFileOptions::default()).unwrap();
    zip.write_all(&std::fs::read(&demo().dvd).unwrap()).unwrap();
    zip.finish().unwrap();
    let words = ["verify", "Moth Parade.cso", "b.zst", "lane.zip", "--against", text(&demo().dat), "--json"];
    let report = run(folder.path(), &words).expect(0).json();
    assert_eq!(report["matches"]["counts"]["matching"], 3, "{report}");
    // A cue sheet brings the files along that it names.
    run(folder.path(), &["verify", text(&demo().cue), "--against", text(&demo().dat)]).expect(0).says("2 match");
}

/// A DAT of the demo's CD by its tracks: each track with the gap before it, and the sheet of whoever wrote the list.
fn dat_of_tracks(folder: &Path) {
    let bin = std::fs::read(demo().cue.with_extension("bin")).unwrap();
    let bounds = [0, 830, 1280, bin.len() / 2352];
    let rom = |n: usize| {
        let track = &bin[bounds[n] * 2352..bounds[n + 1] * 2352];
        let (len, crc) = (track.len(), crc32fast::hash(track));
        format!("<rom name=\"Pier Nine Pinball (Track {}).bin\" size=\"{len}\" crc=\"{crc:08x}\"/>", n + 1)
    };
    let roms: String = (0..3).map(rom).collect();
    let dat = format!(
        "<datafile><header><name>Piers</name></header><game name=\"Pier Nine Pinball\">\
         <rom name=\"Pier Nine Pinball.cue\" size=\"300\" crc=\"00000001\"/>{roms}</game></datafile>"
    );
    std::fs::write(folder.join("tracks.dat"), dat).unwrap();
}

#[test]
fn a_cd_in_one_file_is_known_by_its_tracks() {
    let folder = folder();
    dat_of_tracks(folder.path());
    run(folder.path(), &["convert", text(&demo().cue), "--to", "chd", "-o", "Pier Nine Pinball.chd"]).expect(0);
    std::fs::create_dir(folder.path().join("shelf")).unwrap();
    for name in ["Pier Nine Pinball.cue", "Pier Nine Pinball.bin"] {
        let from = demo().cue.with_file_name(name);
        std::fs::copy(from, folder.path().join("shelf").join(name)).unwrap();
    }
    // A list of another kind knows all of it as one file, and its sheet.
    run(folder.path(), &["verify", "Pier Nine Pinball.chd", "--against", text(&demo().dat)])
        .expect(0)
        .says("1 match")
        .says("3 tracks behind each other");
    for source in ["Pier Nine Pinball.chd", text(&demo().cue), "shelf"] {
        let words = ["verify", source, "--against", "tracks.dat", "--json"];
        let report = run(folder.path(), &words).expect(0).json();
        assert_eq!(report["matches"]["counts"]["matching"], 3, "{report}");
        assert_eq!(report["matches"]["counts"]["missing"], 0, "the sheet is not needed: {report}");
    }
    // One sample of the sound is wrong: its track, and so the whole, is not that disc.
    let path = folder.path().join("shelf/Pier Nine Pinball.bin");
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[1000 * 2352] ^= 1;
    std::fs::write(&path, bytes).unwrap();
    let report = run(folder.path(), &["verify", "shelf", "--against", "tracks.dat", "--json"]).expect(1).json();
    assert_eq!(state_of(&report, "track 1"), "match");
    assert_eq!(state_of(&report, "track 2"), "differs");
}

#[test]
fn a_disk_entry_is_matched_by_the_digest_that_the_image_carries() {
    let folder = folder();
    let drive = std::fs::read(&demo().bench.drive).unwrap();
    // The header of version 5 has the overall SHA-1 at 84.
    let hex: String = drive[84..104].iter().map(|b| format!("{b:02x}")).collect();
    let dat =
        format!("<datafile><machine name=\"fogbell\"><disk name=\"fogbell\" sha1=\"{hex}\"/></machine></datafile>");
    std::fs::write(folder.path().join("a.dat"), dat).unwrap();
    std::fs::write(folder.path().join("fogbell.chd"), &drive).unwrap();
    let words = ["verify", "fogbell.chd", "--against", "a.dat"];
    run(folder.path(), &words).expect(0).says("MATCH").says("the SHA-1 that it carries");
    // What it carries proves nothing while its bytes are others.
    let mut bad = drive;
    let middle = bad.len() / 2;
    bad[middle] ^= 1;
    std::fs::write(folder.path().join("fogbell.chd"), &bad).unwrap();
    run(folder.path(), &words).expect(1).says("unreadable");
    // Nothing at all is no success.
    std::fs::create_dir(folder.path().join("empty")).unwrap();
    run(folder.path(), &["verify", "empty", "--against", "a.dat"]).expect(1).says("NOTHING");
}

#[test]
fn known_bad_dumps_and_nobodys_dumps() {
    let folder = folder();
    std::fs::write(folder.path().join("a.bin"), "abc").unwrap();
    std::fs::write(folder.path().join("none.bin"), "xyz").unwrap();
    let dat = "shelf (\n\tname \"Moths\"\n)\ngame (\n\tname \"A\"\n\trom ( name \"a.bin\" size 3 crc 352441c2 flags baddump )\n)\n\
        game (\n\tname \"N\"\n\trom ( name none.bin flags nodump )\n)\n";
    std::fs::write(folder.path().join("old.dat"), dat).unwrap();
    let report =
        run(folder.path(), &["verify", "a.bin", "none.bin", "--against", "old.dat", "--json"]).expect(1).json();
    assert_eq!(state_of(&report, "a.bin"), "known-bad");
    assert_eq!(state_of(&report, "none.bin"), "unknown");
    run(folder.path(), &["verify", "none.bin", "--against", "old.dat"]).expect(1).says("nobody has dumped it");
    std::fs::write(
        folder.path().join("broken.dat"),
        "<?xml version=\"1.0\"?>\n<datafile>\n<game name=\"x\">\n</datafile>\n",
    )
    .unwrap();
    run(folder.path(), &["verify", "a.bin", "--against", "broken.dat"]).expect(3).says("line 4, column 1");
}

#[test]
fn checksum_lists_of_all_forms() {
    let folder = folder();
    std::fs::create_dir(folder.path().join("d")).unwrap();
    for (name, bytes) in [("one.bin", "abc"), ("two\nlines", "abcd"), ("d/three.bin", "message digest")] {
        std::fs::write(folder.path().join("d").join(name.trim_start_matches("d/")), bytes).unwrap();
    }
    let lists = [
        (
            "plain",
            "a9993e364706816aba3e25717850c26c9cd0d89d  one.bin\n\\81fe8bfe87576c3ecb22426f8e57847382917acf  two\\nlines\nf96b697d7cb7938d525a2f31aaf161d0 *three.bin\n",
        ),
        (
            "tagged",
            "SHA1 (one.bin) = a9993e364706816aba3e25717850c26c9cd0d89d\n\\SHA1 (two\\nlines) = 81fe8bfe87576c3ecb22426f8e57847382917acf\nMD5 (three.bin) = f96b697d7cb7938d525a2f31aaf161d0\n",
        ),
        ("l.sfv", "; made by hand\none.bin 352441C2\nthree.bin 20159D7F\n"),
    ];
    for (name, list) in lists {
        std::fs::write(folder.path().join(name), list).unwrap();
        let report = run(folder.path(), &["verify", "d", "--against", name, "--json"]).json();
        assert_eq!(state_of(&report, "one.bin"), "match", "{name}");
        assert_eq!(state_of(&report, "three.bin"), "match", "{name}");
        assert_eq!(report["matches"]["counts"]["missing"], 0, "{name}");
    }
    std::fs::remove_file(folder.path().join("d/three.bin")).unwrap();
    std::fs::write(folder.path().join("d/one.bin"), "abd").unwrap();
    run(folder.path(), &["verify", "d", "--against", "plain"])
        .expect(1)
        .says("differs")
        .says("missing")
        .says("three.bin");
}
