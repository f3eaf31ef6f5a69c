//! Packages, wrapped files and PS2 images of the big console: made, told, proven, taken apart again; and what is refused.

use crate::support::{Run, demo, folder, run, text, tree};
use std::fs;
use std::path::Path;

const LICENCE: &str = "00112233445566778899aabbccddeeff";

fn keys() -> &'static str {
    text(&demo().console.keys)
}

fn with_keys(folder: &Path, words: &[&str]) -> Run {
    run(folder, &[words, &["--keys", keys()]].concat())
}

fn game() -> &'static str {
    text(&demo().console.game)
}

#[test]
fn a_folder_becomes_a_package_and_comes_out_again() {
    let folder = folder();
    let own = folder.path().join("game");
    for (name, bytes) in tree(&demo().console.game) {
        let path = own.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
    fs::create_dir_all(own.join("USRDIR/empty/deep")).unwrap();
    run(folder.path(), &["convert", "game", "--to", "pkg", "--prove"])
        .expect(0)
        .says("UP0000-DCNT10009_00-FOGBELLRESCUE000");
    let made = with_keys(folder.path(), &["convert", "game", "--to", "pkg", "--finalized", "-o", "own.pkg", "--prove"]);
    made.expect(0).says("its signatures are placeholders");
    for (name, more) in [("game.pkg", &[][..]), ("own.pkg", &["--keys", keys()][..])] {
        let told = run(folder.path(), &[&["identify", name], more].concat()).expect(0);
        let told = told.says("Fogbell Rescue").says("DCNT10009").says("installed game (HG)").says("free licence");
        assert_eq!(told.out.contains("finalized"), name == "own.pkg");
        run(folder.path(), &[&["verify", name], more].concat()).expect(0).says("SOUND");
        run(folder.path(), &[&["extract", name, "-o", "out"], more].concat()).expect(0);
        assert_eq!(tree(&folder.path().join("out")), tree(&own));
        assert!(folder.path().join("out/USRDIR/empty/deep").is_dir(), "empty folders are there too");
        // The same package of what came out, whether a folder or the package is given.
        let finalized: &[&str] = if more.is_empty() { &[] } else { &["--finalized"] };
        for source in ["out", name] {
            run(folder.path(), &[&["convert", source, "--to", "pkg", "-o", "again.pkg"], finalized, more].concat())
                .expect(0);
            let same =
                fs::read(folder.path().join("again.pkg")).unwrap() == fs::read(folder.path().join(name)).unwrap();
            assert!(same, "{source}");
            fs::remove_file(folder.path().join("again.pkg")).unwrap();
        }
        fs::remove_dir_all(folder.path().join("out")).unwrap();
    }
}

#[test]
fn what_goes_on_from_typed_keys_names_them_again() {
    let folder = folder();
    with_keys(folder.path(), &["convert", game(), "--to", "pkg", "--finalized", "-o", "f.pkg"]).expect(0);
    let json = with_keys(folder.path(), &["identify", "f.pkg", "--json"]).expect(0).json();
    let source = &json["sources"][0];
    assert_eq!(source["next"], format!("decanter verify f.pkg --keys {}", keys()));
    assert_eq!(source["becomes"][0]["command"], format!("decanter extract f.pkg --keys {}", keys()));
    // What needs no key is not burdened with them.
    run(folder.path(), &["convert", game(), "--to", "pkg", "-o", "d.pkg"]).expect(0);
    let json = with_keys(folder.path(), &["identify", "d.pkg", "--json"]).expect(0).json();
    assert_eq!(json["sources"][0]["next"], "decanter verify d.pkg");
}

#[test]
fn titles_are_told_in_the_users_language_and_values_are_listed() {
    let folder = folder();
    run(folder.path(), &["convert", game(), "--to", "pkg", "-o", "g.pkg"]).expect(0);
    fs::write(folder.path().join("own.toml"), "language = \"de\"\n").unwrap();
    run(folder.path(), &["identify", "g.pkg", "--config", "own.toml"]).expect(0).says("Rettung an der Nebelglocke");
    let listed = run(folder.path(), &["list", "g.pkg::PARAM.SFO"]).expect(0);
    listed.says("PS3_SYSTEM_VER  03.4100").says("ATTRIBUTE       5 (0x5)");
    run(folder.path(), &["identify", "g.pkg", "--picture", "icon.png"]).expect(0);
    assert!(fs::read(folder.path().join("icon.png")).unwrap().starts_with(b"\x89PNG"));
}

#[test]
fn parts_sort_in_their_order_and_are_the_whole_when_joined() {
    let folder = folder();
    run(folder.path(), &["convert", game(), "--to", "pkg", "-o", "whole.pkg"]).expect(0);
    run(folder.path(), &["convert", game(), "--to", "pkg", "-o", "p.pkg", "--split", "10KiB", "--prove"]).expect(0);
    let mut names: Vec<String> =
        tree(folder.path()).into_iter().map(|(n, _)| n).filter(|n| n.starts_with("p.pkg")).collect();
    names.sort();
    assert_eq!((names.len(), names[0].as_str(), names[11].as_str()), (12, "p.pkg.00", "p.pkg.11"));
    let joined: Vec<u8> = names.iter().flat_map(|n| fs::read(folder.path().join(n)).unwrap()).collect();
    assert!(joined == fs::read(folder.path().join("whole.pkg")).unwrap());
    run(folder.path(), &["verify", "p.pkg.00"]).expect(0).says("SOUND");
    fs::remove_file(folder.path().join("p.pkg.05")).unwrap();
    run(folder.path(), &["verify", "p.pkg.00"]).expect(1).says("there is no p.pkg.05");
}

#[test]
fn a_wrong_key_and_damage_are_told_apart() {
    let folder = folder();
    with_keys(folder.path(), &["convert", game(), "--to", "pkg", "--finalized", "-o", "f.pkg"]).expect(0);
    for verb in ["list", "extract", "verify"] {
        run(folder.path(), &[verb, "f.pkg"])
            .expect(4)
            .says("ps3.pkg.key (for UP0000-DCNT10009_00-FOGBELLRESCUE000) is missing");
    }
    fs::write(folder.path().join("wrong.txt"), format!("ps3.pkg.key = {LICENCE}\n")).unwrap();
    run(folder.path(), &["verify", "f.pkg", "--keys", "wrong.txt"]).expect(4).says("is wrong (found in: wrong.txt)");
    let whole = fs::read(folder.path().join("f.pkg")).unwrap();
    let damage = |at: usize, words: &str| {
        let mut bytes = whole.clone();
        bytes[at] ^= 1;
        fs::write(folder.path().join("d.pkg"), bytes).unwrap();
        with_keys(folder.path(), &["verify", "d.pkg"]).expect(1).says("DAMAGED").says(words);
    };
    damage(0x11, "digest of the header");
    damage(0x81, "CMAC of the header");
    damage(whole.len() / 2, "all bytes before the SHA-1 at its end");
    damage(0xc5 + 0x10, "digest of the metadata");
    with_keys(folder.path(), &["extract", "d.pkg", "-o", "x"]).expect(3).says("--unchecked");
    fs::write(folder.path().join("cut.pkg"), &whole[..whole.len() - 3000]).unwrap();
    with_keys(folder.path(), &["verify", "cut.pkg"]).expect(1).says("INCOMPLETE").says("3,000 bytes are missing");
}

#[test]
fn content_ids_of_a_wrong_form_say_which_part() {
    let folder = folder();
    let refused = |id: &str, words: &str| {
        run(folder.path(), &["convert", game(), "--to", "pkg", "--content-id", id]).expect(2).says(words);
    };
    refused("UP0000-DCNT10009_00-SHORT", "has 25");
    refused("up0000-DCNT10009_00-FOGBELLRESCUE000", "its region, \"up\"");
    refused("UP0000-DCNT10009_XX-FOGBELLRESCUE000", "its number, \"XX\"");
    fs::create_dir(folder.path().join("bare")).unwrap();
    fs::write(folder.path().join("bare/a.txt"), "tide").unwrap();
    run(folder.path(), &["convert", "bare", "--to", "pkg"]).expect(2).says("say what it is with --content-id");
    let id = "UP0001-DCNT10010_00-TIDETABLE0000000";
    run(folder.path(), &["convert", "bare", "--to", "pkg", "--content-id", id]).expect(0).says(id);
    run(folder.path(), &["identify", "bare.pkg"]).expect(0).says("game data").says("DCNT10010");
    fs::write(
        folder.path().join("bare/PARAM.SFO"),
        b"\0PSF\x01\x01\0\0\xff\xff\xff\xff\0\0\0\0\x01\0\0\0................",
    )
    .unwrap();
    run(folder.path(), &["convert", "bare", "--to", "pkg", "-o", "b2.pkg"]).expect(3).says("PARAM.SFO cannot be used");
}

#[test]
fn a_ps2_disc_goes_into_its_image_and_comes_back() {
    let folder = folder();
    let disc = text(&demo().dvd);
    run(folder.path(), &["identify", disc]).expect(0).says("--to ps2-classics --keys FILE --key HEX");
    let made = with_keys(folder.path(), &["convert", disc, "--to", "ps2-classics", "-o", "lane.bin.enc", "--prove"]);
    made.expect(0).says("DVD (it has a UDF volume beside ISO 9660)").says("EP0000-DCET20007_00-LAMPLIGHTERLANE0");
    run(folder.path(), &["verify", "lane.bin.enc"])
        .expect(4)
        .says("the licence key of EP0000-DCET20007_00-LAMPLIGHTERLANE0 is missing");
    with_keys(folder.path(), &["verify", "lane.bin.enc"]).expect(0).says("SOUND");
    with_keys(folder.path(), &["convert", "lane.bin.enc", "--to", "iso", "-o", "back.iso"]).expect(0);
    with_keys(folder.path(), &["decrypt", "lane.bin.enc", "-o", "plain.iso"]).expect(0);
    let bytes = fs::read(disc).unwrap();
    assert!(
        fs::read(folder.path().join("back.iso")).unwrap() == bytes
            && fs::read(folder.path().join("plain.iso")).unwrap() == bytes
    );
    // Another licence key, for developers' consoles; and nothing without the right one.
    let own = ["convert", disc, "--to", "ps2-classics", "-o", "own.enc", "--debug-console", "--key", LICENCE];
    with_keys(folder.path(), &own).expect(0);
    with_keys(folder.path(), &["identify", "own.enc::"]).expect(0).says("is wrong (found in");
    with_keys(folder.path(), &["identify", "own.enc::", "--key", LICENCE]).expect(0).says("consoles of developers");
    let mut damaged = fs::read(folder.path().join("lane.bin.enc")).unwrap();
    damaged[0x4000 * 40 + 9] ^= 1;
    fs::write(folder.path().join("d.enc"), damaged).unwrap();
    with_keys(folder.path(), &["verify", "d.enc"]).expect(1).says("segment 38, at 0xa0000");
    with_keys(folder.path(), &["convert", "d.enc", "--to", "iso", "-o", "d.iso"]).expect(3);
    assert!(!folder.path().join("d.iso").exists());
}

#[test]
fn a_raw_cd_goes_there_by_its_cue_sheet() {
    let folder = folder();
    let disc = folder.path().join("disc");
    fs::create_dir(&disc).unwrap();
    fs::write(disc.join("SYSTEM.CNF"), "BOOT2 = cdrom0:\\DCUT_200.08;1\r\nVER = 1.00\r\n").unwrap();
    fs::write(disc.join("DCUT_200.08"), vec![7; 50_000]).unwrap();
    run(folder.path(), &["convert", "disc", "--to", "iso", "-o", "cd.iso"]).expect(0);
    run(folder.path(), &["convert", "cd.iso", "--to", "cd-raw", "-o", "cd.bin"]).expect(0);
    let made =
        with_keys(folder.path(), &["convert", "cd.cue", "--to", "ps2-classics", "-o", "cd.enc", "--key", LICENCE]);
    made.expect(0).says("sectors of 2352 bytes");
    let back = with_keys(folder.path(), &["convert", "cd.enc", "--to", "iso", "-o", "back.iso", "--key", LICENCE]);
    back.expect(0);
    with_keys(folder.path(), &["decrypt", "cd.enc", "-o", "back.bin", "--key", LICENCE]).expect(0);
    let read = |name: &str| fs::read(folder.path().join(name)).unwrap();
    assert!(read("back.iso") == read("cd.iso") && read("back.bin") == read("cd.bin"));
    let pinball = text(&demo().cue);
    with_keys(folder.path(), &["convert", pinball, "--to", "ps2-classics", "--key", LICENCE])
        .expect(2)
        .says("cannot become");
}

#[test]
fn files_are_wrapped_and_unwrapped() {
    let folder = folder();
    fs::write(folder.path().join("chart.bin"), crate::support::noise(70_000, 9)).unwrap();
    let id = "UP0000-DCNT10009_00-FOGBELLRESCUE000";
    with_keys(folder.path(), &["convert", "chart.bin", "--to", "edat"]).expect(2).says("--content-id");
    let made = ["convert", "chart.bin", "--to", "edat", "--content-id", id, "--console-name", "CHART.EDAT", "--prove"];
    with_keys(folder.path(), &made).expect(0).says("CHART.EDAT");
    with_keys(folder.path(), &["identify", "chart.edat"])
        .expect(0)
        .says("free")
        .says("70,000 bytes in blocks of 16384");
    with_keys(folder.path(), &["verify", "chart.edat"]).expect(0).says("SOUND");
    with_keys(folder.path(), &["decrypt", "chart.edat", "-o", "back.bin"]).expect(0);
    let read = |name: &str| fs::read(folder.path().join(name)).unwrap();
    assert!(read("back.bin") == read("chart.bin"));
    run(folder.path(), &["verify", "chart.edat"]).expect(4).says("ps3.edat.key.0");
    // Inside a package it is opened as well, and its header is checked.
    fs::create_dir_all(folder.path().join("add/USRDIR")).unwrap();
    fs::copy(folder.path().join("chart.edat"), folder.path().join("add/USRDIR/CHART.EDAT")).unwrap();
    run(folder.path(), &["convert", "add", "--to", "pkg", "--content-id", id]).expect(0);
    run(folder.path(), &["verify", "add.pkg"]).expect(0).says("6 of 6 checks hold");
    with_keys(folder.path(), &["decrypt", "add.pkg::USRDIR/CHART.EDAT", "-o", "inner.bin"]).expect(0);
    assert!(read("inner.bin") == read("chart.bin"));
    run(folder.path(), &["keys", "--keys", keys()]).expect(0).says("ps3.edat.key.1").says("encrypted PS2 images");
}

#[test]
fn the_disc_of_a_package_comes_out_as_it_went_in() {
    let folder = folder();
    let id = "UP0000-DCES00099_00-MOTHPARADE000000";
    let moth = text(&demo().handheld);
    fs::create_dir_all(folder.path().join("moth/USRDIR")).unwrap();
    let wrapped = folder.path().join("moth/USRDIR/ISO.BIN.EDAT");
    let made =
        ["convert", moth, "--to", "edat", "--content-id", id, "--console-name", "ISO.BIN.EDAT", "-o", text(&wrapped)];
    with_keys(folder.path(), &made).expect(0);
    run(folder.path(), &["convert", "moth", "--to", "pkg", "--content-id", id]).expect(0);
    run(folder.path(), &["identify", "moth.pkg"]).expect(0).says("decanter convert moth.pkg --to iso");
    with_keys(folder.path(), &["convert", "moth.pkg", "--to", "iso", "-o", "back.iso", "--prove"]).expect(0);
    assert!(fs::read(folder.path().join("back.iso")).unwrap() == fs::read(moth).unwrap());
    run(folder.path(), &["convert", "moth.pkg", "--to", "iso", "-o", "no.iso"]).expect(4).says("ps3.edat.key.0");
    // Damage in the disc alone is found while it is taken out.
    let mut bytes = fs::read(folder.path().join("moth.pkg")).unwrap();
    let at = bytes.len() / 2;
    bytes[at] ^= 1;
    fs::write(folder.path().join("d.pkg"), bytes).unwrap();
    with_keys(folder.path(), &["convert", "d.pkg", "--to", "iso", "-o", "d.iso"]).expect(3).says("block");
    assert!(!folder.path().join("d.iso").exists());
}

#[test]
fn a_package_without_its_key_is_a_failed_row_among_others() {
    let folder = folder();
    fs::create_dir(folder.path().join("shelf")).unwrap();
    run(folder.path(), &["convert", game(), "--to", "pkg", "-o", "shelf/a.pkg"]).expect(0);
    with_keys(folder.path(), &["convert", game(), "--to", "pkg", "--finalized", "-o", "shelf/b.pkg"]).expect(0);
    let told = run(folder.path(), &["extract", "shelf", "-o", "out"]);
    assert_ne!(told.code, 0, "{told:?}");
    told.says("ps3.pkg.key").says("1 done, 1 failed");
    assert!(folder.path().join("out/a/PARAM.SFO").exists() && !folder.path().join("out/b").exists());
    run(folder.path(), &["convert", "shelf/b.pkg", "--to", "pkg", "-o", "c.pkg"]).expect(4).says("ps3.pkg.key");
    let told = run(folder.path(), &["verify", "shelf"]);
    assert_ne!(told.code, 0, "{told:?}");
    with_keys(folder.path(), &["verify", "shelf"]).expect(0).says("2 SOUND");
}
