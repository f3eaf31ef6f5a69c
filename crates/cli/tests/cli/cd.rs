//! CD images: what they are, every sector checked, repair, and the way to 2,048-byte sectors and back.

use crate::support::{demo, folder, run, text};
use std::path::Path;

fn lay_out(folder: &Path) {
    for name in ["Pier Nine Pinball.bin", "Pier Nine Pinball.cue", "Pier Nine Pinball (scratched).bin"] {
        std::fs::copy(demo().cue.with_file_name(name), folder.join(name)).unwrap();
    }
}

#[test]
fn a_cue_sheet_and_its_image_alone_are_the_same_disc() {
    let folder = folder();
    lay_out(folder.path());
    let sheet = run(folder.path(), &["identify", "Pier Nine Pinball.cue", "--json"]).expect(0).json();
    let alone = run(folder.path(), &["identify", "Pier Nine Pinball.bin", "--json"]).expect(0).json();
    for found in [&sheet, &alone] {
        let source = &found["sources"][0];
        let fact = |name: &str| {
            source["facts"].as_array().unwrap().iter().find(|f| f["name"] == name).unwrap()["value"].clone()
        };
        assert_eq!(fact("id"), "DCUT-00042");
        assert!(source["kind"].as_str().unwrap().starts_with("PS1 disc"));
        assert_eq!(source["files"], 8);
    }
    run(folder.path(), &["list", "Pier Nine Pinball.cue"]).expect(0).says("TABLES/STORM.TBL");
}

#[test]
fn every_sector_is_checked_and_the_bad_ones_are_named_by_file() {
    let folder = folder();
    lay_out(folder.path());
    run(folder.path(), &["verify", "Pier Nine Pinball.cue"]).expect(0).says("SOUND").says("track 3");
    let report = run(folder.path(), &["verify", "Pier Nine Pinball (scratched).bin", "--json"]).expect(1).json();
    let source = &report["sources"][0];
    assert_eq!(source["verdict"], "damaged");
    let pier = source["files"].as_array().unwrap().iter().find(|f| f["path"] == "TABLES/PIER.TBL").unwrap();
    assert_eq!(pier["suspects"][0]["first"], 120);
    assert_eq!(pier["suspects"][0]["last"], 121);
    assert_eq!(pier["suspects"][0]["why"], "EDC, ECC");
}

#[test]
fn repair_restores_the_very_bytes_and_says_what_it_could_not() {
    let folder = folder();
    lay_out(folder.path());
    let made =
        run(folder.path(), &["convert", "Pier Nine Pinball (scratched).bin", "--repair", "-o", "fixed.bin", "--json"]);
    let report = made.expect(1).json();
    assert_eq!(report["repair"]["corrected_count"], 3);
    assert_eq!(report["repair"]["beyond_count"], 1);
    let good = std::fs::read(folder.path().join("Pier Nine Pinball.bin")).unwrap();
    let fixed = std::fs::read(folder.path().join("fixed.bin")).unwrap();
    let differing: Vec<usize> =
        (0..good.len() / 2352).filter(|s| good[s * 2352..][..2352] != fixed[s * 2352..][..2352]).collect();
    assert_eq!(differing, [420]);
    run(folder.path(), &["identify", "fixed.cue"]).expect(0).says("PS1 disc");
    assert_eq!(report["preserved"], "every byte but those that were corrected");
    // A second time there is nothing left that it could correct: that is no promise of the way back.
    let again = run(folder.path(), &["convert", "fixed.cue", "--repair", "-o", "again.bin", "--json"]).expect(1).json();
    assert_eq!(again["repair"]["corrected_count"], 0);
    assert_eq!(again["preserved"], "every byte: nothing was corrected");
    assert!(std::fs::read(folder.path().join("again.bin")).unwrap() == fixed);
}

#[test]
fn a_data_track_goes_to_an_iso_and_back_identically() {
    let folder = folder();
    lay_out(folder.path());
    let to = ["convert", "Pier Nine Pinball.cue", "--to", "iso", "-o", "pinball.iso", "--prove"];
    run(folder.path(), &to).expect(0).says("identical bytes after converting back").says("track 2").says("sound");
    run(folder.path(), &["convert", "pinball.iso", "--to", "cd-raw", "-o", "again.bin", "--prove"]).expect(0);
    let good = std::fs::read(folder.path().join("Pier Nine Pinball.bin")).unwrap();
    let again = std::fs::read(folder.path().join("again.bin")).unwrap();
    assert!(again[..] == good[..again.len()], "the data track");
    run(folder.path(), &["verify", "again.cue"]).expect(0);
}

#[test]
fn a_file_a_track_wrong_case_and_a_zip_are_followed() {
    let folder = folder();
    lay_out(folder.path());
    let whole = std::fs::read(folder.path().join("Pier Nine Pinball.bin")).unwrap();
    let (data, sound) = whole.split_at(830 * 2352);
    std::fs::write(folder.path().join("pier (track 1).bin"), data).unwrap();
    std::fs::write(folder.path().join("Pier (Track 2).bin"), sound).unwrap();
    let sheet = "REM made by hand\r\nFILE \"Pier (Track 1).BIN\" BINARY\r\n  TRACK 01 MODE2/2352\r\n    INDEX 01 00:00:00\r\n\
        FILE \"Pier (Track 2).bin\" BINARY\r\n  TRACK 02 AUDIO\r\n    PREGAP 00:02:00\r\n    INDEX 00 00:00:00\r\n    INDEX 01 00:02:00\r\n";
    std::fs::write(folder.path().join("pier.cue"), sheet).unwrap();
    run(folder.path(), &["verify", "pier.cue"])
        .expect(0)
        .says("SOUND")
        .says("the file is called \"pier (track 1).bin\"");
    // Joined into one file, it is the image it came from.
    run(folder.path(), &["convert", "pier.cue", "--to", "cd-raw", "-o", "joined.bin"]).expect(0);
    assert!(std::fs::read(folder.path().join("joined.bin")).unwrap() == whole);
    let zip = std::fs::File::create(folder.path().join("pier.zip")).unwrap();
    let mut zip = zip::ZipWriter::new(zip);
    for (name, bytes) in [("pier.cue", sheet.as_bytes()), ("Pier (Track 1).BIN", data), ("Pier (Track 2).bin", sound)] {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut zip, bytes).unwrap();
    }
    zip.finish().unwrap();
    run(folder.path(), &["identify", "pier.zip"]).expect(0).says("DCUT-00042").says("in a zip archive");
}

#[test]
fn sheets_that_cannot_be_followed_say_where() {
    let folder = folder();
    lay_out(folder.path());
    let put = |sheet: &str| std::fs::write(folder.path().join("bad.cue"), sheet).unwrap();
    put("FILE \"gone.bin\" BINARY\n  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n");
    run(folder.path(), &["verify", "bad.cue"])
        .expect(3)
        .says("gone.bin, named in line 1, is missing")
        .says("put it beside the sheet");
    put(
        "FILE \"Pier Nine Pinball.bin\" BINARY\n  TRACK 02 AUDIO\n    INDEX 01 00:00:00\n  TRACK 01 AUDIO\n    INDEX 01 00:01:00\n",
    );
    run(folder.path(), &["verify", "bad.cue"]).expect(3).says("line 4: track 1 comes after track 2");
    put(
        "FILE \"Pier Nine Pinball.bin\" BINARY\n  TRACK 01 MODE2/2352\n    INDEX 01 00:00:00\n  TRACK 02 AUDIO\n    INDEX 01 20:00:00\n",
    );
    run(folder.path(), &["verify", "bad.cue"]).expect(3).says("it is too short");
}

/// The maker of `demo().cue` and this check share no code: sync, header and EDC of one sector, bit by bit.
#[test]
fn a_sector_of_the_demo_is_what_the_standard_says() {
    let bytes = std::fs::read(demo().cue.with_extension("bin")).unwrap();
    let sector = &bytes[16 * 2352..17 * 2352];
    assert_eq!(sector[..16], [0, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 0, 0, 2, 0x16, 2]);
    assert_eq!(sector[16..24], [0, 0, 8, 0, 0, 0, 8, 0]);
    assert_eq!(&sector[24..30], b"\x01CD001");
    let mut edc = 0u32;
    for &byte in &sector[16..2072] {
        edc ^= u32::from(byte);
        for _ in 0..8 {
            edc = if edc & 1 != 0 { edc >> 1 ^ 0xd801_8001 } else { edc >> 1 };
        }
    }
    assert_eq!(sector[2072..2076], edc.to_le_bytes());
    assert!(text(&demo().cue).ends_with(".cue"));
}
